"""Say what each path says about access: kind, mode, owner, group, access lists,
flags, capabilities and mount, each with its meaning in plain words."""

import argparse

from fiat.cli import terminal, words
from fiat.cli.hosts import arrive, open_host
from fiat.cli.parser import add_common
from fiat.cli.report import Report
from fiat.core import caveats, naming
from fiat.core.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.accounts import Accounts
from fiat.core.mode import letters, octal, permission_letters
from fiat.core.posture import Kind, Object, Posture
from fiat.core.record import object_fields
from fiat.core.remarks import Remark, remarks_on
from fiat.core.rules import passes_over_list
from fiat.core.visible import visible


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat show``."""
    parser.add_argument("paths", nargs="+", metavar="PATH", help="a path; a symlink is shown itself, then its target")
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Show each path."""
    report = Report("show", args.format == "json")
    host = open_host(args)
    for route in arrive(host, args.paths, report, follow=False):
        assert route.end is not None
        object_ = route.end._replace(path=route.asked.rstrip("/") or "/")
        remarks = remarks_on(object_, host.accounts)
        fields = object_fields(object_, host.accounts)
        fields["remarks"] = [remark._asdict() for remark in remarks]
        if not report.as_json:
            if report.answered:
                print()
            _print_sheet(object_, host.accounts, remarks)
        report.add(fields)
        report.caveat(*caveats.of_object(object_))
    if report.results or not report.as_json:
        report.caveat(*caveats.of_host(host.settings))
    return report.finish()


def _print_sheet(object_: Object, accounts: Accounts, remarks: list[Remark]) -> None:
    """One object: a heading, the entries with what they let one do, facts, remarks."""
    posture = object_.posture
    print(terminal.paint(visible(object_.path), "strong"))
    terminal.say(_headline(object_), terminal.INDENT)
    print()
    if posture.kind is Kind.SYMLINK:
        _print_facts([("leads to", visible(object_.target or "")), ("owner", words.user_name(posture.uid, accounts))])
    else:
        _print_entries(object_, accounts)
        print()
        _print_facts(_facts(object_, accounts))
    if remarks:
        print()
    for remark in remarks:
        mark = {"danger": "!!", "odd": "! "}.get(remark.weight, "- ")
        terminal.say(f"{mark} {remark.text}", terminal.INDENT, hanging="   ", mark=mark)


def _headline(object_: Object) -> str:
    posture = object_.posture
    parts = [words.KIND[posture.kind]]
    if posture.kind is Kind.FILE:
        parts.append(words.counted(object_.status.size, "byte"))
    return f"{octal(posture.mode)}  {letters(posture.mode)}  {', '.join(parts)}"


def _print_entries(object_: Object, accounts: Accounts) -> None:
    """Every entry, or the mode's three classes, with what the mask leaves and what that means."""
    posture = object_.posture
    acl = posture.acl or from_mode(posture.mode)
    header = ["entry", "", "letters", "after mask", "which lets them"]
    rows = [_entry_row(entry, acl, posture, accounts) for entry in acl.entries]
    if acl.mask is None:
        for row in (header, *rows):
            del row[3]
    print(terminal.table(header, rows))


def _entry_row(entry: Entry, acl: AccessList, posture: Posture, accounts: Accounts) -> list[str]:
    kind, name = _who(entry, posture, accounts)
    given = permission_letters(entry.permissions)
    if entry.tag is Tag.MASK:
        return [kind, name, given, "", "at most this, for all but owner and other"]
    left = acl.effective(entry)
    kept = terminal.paint(permission_letters(left), "faint" if left == entry.permissions else "no")
    meaning = words.permissions(left, posture.kind)
    if entry.id is not None and passes_over_list(posture.mode):
        meaning = "the same as other: the list is passed over"
    return [kind, name, given, kept, meaning]


def _who(entry: Entry, posture: Posture, accounts: Accounts) -> tuple[str, str]:
    """The kind of entry and whom it speaks of."""
    if entry.tag is Tag.OWNER:
        return "owner", words.user_name(posture.uid, accounts)
    if entry.tag is Tag.NAMED_USER and entry.id is not None:
        return "user", words.user_name(entry.id, accounts)
    if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
        return "group", words.group_name(posture.gid if entry.id is None else entry.id, accounts)
    return ("mask" if entry.tag is Tag.MASK else "other"), ""


def _facts(object_: Object, accounts: Accounts) -> list[tuple[str, str]]:
    posture = object_.posture
    facts = [("members", _members(posture.gid, accounts))]
    if posture.default is not None:
        facts.append(("default", ", ".join(naming.entry(entry, accounts) for entry in posture.default.entries)))
    if posture.flags:
        facts.append(("flags", ", ".join(posture.flags)))
    if object_.mount is not None:
        mount = object_.mount
        facts.append(("mount", f"{visible(mount.point)}  {mount.type}  {','.join(mount.options)}"))
    if object_.label:
        facts.append(("label", visible(object_.label)))
    return facts


def _members(gid: int, accounts: Accounts) -> str:
    name = words.group_name(gid, accounts)
    primary = [visible(user.name) for user in accounts.primary_members(gid)]
    listed = [visible(user.name) for user in accounts.listed_members(gid) if user.gid != gid]
    if not primary and not listed:
        return f"nobody is in {name}"
    parts = [f"{words.several(found)} ({how})" for found, how in ((primary, "primary"), (listed, "listed")) if found]
    return f"{words.counted(len(primary) + len(listed), 'user')} in {name}: {'; '.join(parts)}"


def _print_facts(facts: list[tuple[str, str]]) -> None:
    for label, value in facts:
        terminal.say(f"{label:<9}{value}", terminal.INDENT, hanging=" " * 9)

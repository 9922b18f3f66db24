"""Change the mode or the access list of paths, and show before and after side by
side, with who gains and who loses which right - on the path, and under it where
a directory on the route changed.

MODE is octal (640, 2750) or clauses (u+x, g=u, go-w,+X). One to three octal
digits set the nine permission bits, and a directory's special bits stay; four
digits set all twelve. ENTRY is an access entry such as user:auditor:r-x, WHO one
without its permissions: user:auditor, group:press. What could hand out more than
was asked is refused (exit status 4) until --accept names it."""

import argparse
import errno
import os
from collections.abc import Iterator
from typing import Any

from fiat.cli import terminal, words
from fiat.cli.hosts import failure, open_host
from fiat.cli.parser import add_common
from fiat.cli.report import Report
from fiat.cli.shifts import print_shifts, shift_fields
from fiat.cli.status import Status
from fiat.core import caveats, plan
from fiat.core.access import Access
from fiat.core.accesslist import Entry, Tag, parse_entry
from fiat.core.accounts import Accounts
from fiat.core.answer import universe_of
from fiat.core.edit import Edit, Wish, make
from fiat.core.errors import NotationError, PathError
from fiat.core.host import Host, Node
from fiat.core.mode import letters, octal, parse_change, permission_letters
from fiat.core.plan import Plan
from fiat.core.posture import Kind, Posture
from fiat.core.record import posture_fields
from fiat.core.route import Route, open_end
from fiat.core.visible import visible

EXAMPLES = (
    ("see a change before it is made", "fiat set /srv/skerry/observatory --mode o+x --preview"),
    ("let one user in", "fiat set /srv/skerry/observatory --entry user:surveyor:--x --preview"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat set``."""
    parser.add_argument(
        "paths", nargs="+", metavar="PATH", help="what to change; a symlink is followed, and it is said"
    )
    parser.add_argument("--mode", metavar="MODE", help="the mode: octal, or clauses such as g+w,o=")
    parser.add_argument(
        "--entry", action="append", default=[], metavar="ENTRY", help="add an access entry, or replace it"
    )
    parser.add_argument("--no-entry", action="append", default=[], metavar="WHO", help="remove the entry for WHO")
    parser.add_argument(
        "--accept", action="append", default=[], choices=GUARDS, help="do it although this guard objects"
    )
    parser.add_argument("--preview", action="store_true", help="show what would happen, and change nothing")
    add_common(parser)


GUARDS = ("unmasks",)


def run(args: argparse.Namespace) -> int:
    """Plan, show, and unless it is a preview, apply."""
    if args.mode is None and not args.entry and not args.no_entry:
        raise NotationError("--mode", "what shall be set? Give --mode, --entry or --no-entry")
    if args.snapshot is not None and not args.preview:
        raise NotationError("--from", "a snapshot cannot be changed; add --preview to see what the change would do")
    report = Report("set", args.format)
    host = open_host(args)
    wish = _wish(args, host.accounts)
    targets = list(_targets(host, args.paths, report))
    try:
        planned = _plan(host, targets, wish)
        guards = [guard for edit in planned.edits for guard in edit.guards if guard.name not in args.accept]
        _caveats(planned, targets, host, report)
        if args.preview or guards:
            _describe(planned, targets, host, report, applied=None)
        else:
            _describe(planned, targets, host, report, applied=_apply(planned, targets, report))
        for guard in guards:
            if not args.preview:
                report.refused(guard)
            elif report.as_text:
                terminal.say(f"Guard {guard.name} would refuse this: {guard.text}. --accept {guard.name} does it.")
        return report.finish(Status.GUARDED if guards and not args.preview else Status.DONE)
    finally:
        for target in targets:
            target.node.close()


def _wish(args: argparse.Namespace, accounts: Accounts) -> Wish:
    def entry(word: str) -> Entry:
        return parse_entry(word, accounts.user_id, accounts.group_id)

    return Wish(
        mode=None if args.mode is None else parse_change(args.mode),
        entries=tuple(entry(word) for word in args.entry),
        no_entries=tuple(entry(f"{word}:-") for word in args.no_entry),
    )


class Target:
    """One object to change: the route to it, and the object itself held open."""

    def __init__(self, asked: str, route: Route, node: Node) -> None:
        self.asked = asked
        self.route = route
        self.node = node


def _targets(host: Host, paths: list[str], report: Report) -> Iterator[Target]:
    """Each object once, under whichever name comes first."""
    seen: set[tuple[int, int]] = set()
    for path in paths:
        route, node = open_end(host, path)
        if route.end is None or node is None:
            report.problem(failure(route) if path else PathError("", errno.ENOENT))
        elif route.end.status.inode in seen:
            node.close()
        else:
            seen.add(route.end.status.inode)
            yield Target(path, route, node)


def _plan(host: Host, targets: list[Target], wish: Wish) -> Plan:
    actor, umask = host.actor(), host.settings.umask
    ends = [target.route.end for target in targets if target.route.end is not None]
    edits = [make(end, wish, actor, umask, host.accounts) for end in ends]
    after = [edit.object._replace(posture=edit.after) for edit in edits]
    walked = [object_ for target in targets for object_ in target.route.objects]
    access = Access(universe_of(host.accounts, [*walked, *after]), host.settings)
    return plan.make(host, edits, access)


def _apply(planned: Plan, targets: list[Target], report: Report) -> Plan:
    """Write each change through its open handle; the plan with just the edits that were written, or were not needed."""
    done = []
    for edit, target in zip(planned.edits, targets, strict=True):
        error = PathError(edit.object.path, edit.errno, "change the mode of") if edit.errno else None
        if edit.changes:
            error = _apply_one(edit, target.node)
        if error is None:
            done.append(edit)
        else:
            report.problem(error)
    return planned._replace(edits=tuple(done))


def _apply_one(edit: Edit, node: Node) -> PathError | None:
    """Compare with what the plan saw, change, read back."""
    path = edit.object.path
    try:
        if node.look().posture != edit.object.posture:
            return PathError(path, errno.EBUSY, "change the mode of", "it was changed meanwhile and is left alone")
        if edit.mode is not None:
            node.change_mode(edit.mode)
        if edit.acl is not None:
            node.change_list(edit.acl)
        if node.look().posture != edit.after:
            return PathError(path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    except OSError as error:
        return PathError(path, error.errno or errno.EIO, "change the mode of")
    return None


def _caveats(planned: Plan, targets: list[Target], host: Host, report: Report) -> None:
    report.caveat(caveats.of_host(host.settings))
    for target in targets:
        report.caveat(caveats.of_route(target.route))
    for trouble in planned.troubles:
        report.problem(PathError(trouble.path, trouble.errno, "count who gains and loses under"))


def _describe(planned: Plan, targets: list[Target], host: Host, report: Report, *, applied: Plan | None) -> None:
    """Say what was planned, and what of it was ``applied``: None where nothing was to be written."""
    if report.as_text:
        report.answered = len(planned.edits)
        _print(planned, targets, host.accounts, applied=applied)
        return
    for edit in planned.edits:
        report.add(_edit_fields(edit, host.accounts))
    report.beside = {
        "gains": [shift_fields(shift) for shift in planned.gains],
        "losses": [shift_fields(shift) for shift in planned.losses],
        "guards": [guard._asdict() for edit in planned.edits for guard in edit.guards],
        "applied": applied is not None and len(applied.edits) == len(planned.edits),
        "history": None,
    }


def _edit_fields(edit: Edit, accounts: Accounts) -> dict[str, Any]:
    return {
        "path": edit.object.path,
        "before": posture_fields(edit.object.posture, accounts),
        "after": posture_fields(edit.after, accounts),
        "notes": [note._asdict() for note in edit.notes],
    }


# --- text ------------------------------------------------------------------


def _print(planned: Plan, targets: list[Target], accounts: Accounts, *, applied: Plan | None) -> None:
    for edit, target in zip(planned.edits, targets, strict=True):
        if target.route.links:
            print(f"{visible(target.asked)} leads to {visible(edit.object.path)}, which is what changes")
        if applied is None and edit.errno:
            print(f"Cannot be changed: {visible(edit.object.path)} ({os.strerror(edit.errno)})")
    same = [edit for edit in planned.edits if not edit.changes and not edit.errno]
    if same:
        paths = words.several([visible(edit.object.path) for edit in same], "paths")
        print(f"Already so, nothing to change: {paths}")
    changes = planned.changes if applied is None else applied.changes
    if not changes:
        return
    if applied is None:
        print(f"Preview: {words.counted(len(changes), 'path')} would change. Nothing is written.")
    else:
        print(f"{words.counted(len(changes), 'path')} changed.")
    print()
    rows = [row for edit in changes for row in _rows(edit, accounts)]
    print(terminal.table(["", "", "before", "after"], rows, flexible=0))
    for text in dict.fromkeys(note.text for edit in changes for note in edit.notes):
        terminal.say("-  " + text, terminal.INDENT, hanging="   ")
    print()
    if len(changes) < len(planned.changes):
        print("Gains and losses are those of the whole plan, of which a part was not written:")
    for title, shifts in (("Gains", planned.gains), ("Loses", planned.losses)):
        print_shifts(title, shifts)


def _rows(edit: Edit, accounts: Accounts) -> list[list[str]]:
    """The path with its mode, then each entry whose letters differ."""
    before, after = edit.object.posture, edit.after
    rows = [[visible(edit.object.path), "mode", _mode_words(before), terminal.paint(_mode_words(after), "changed")]]
    old, new = _entries(before, accounts), _entries(after, accounts)
    rows += [
        ["", name, old.get(name, "no entry"), terminal.paint(new.get(name, "no entry"), "changed")]
        for name in dict.fromkeys((*old, *new))
        if old.get(name) != new.get(name)
    ]
    return rows


def _mode_words(posture: Posture) -> str:
    return f"{octal(posture.mode)}  {letters(posture.mode)}"


def _entries(posture: Posture, accounts: Accounts) -> dict[str, str]:
    """What each class or entry gets, in words, by who it is."""
    kind, group = posture.kind, words.group_name(posture.gid, accounts)
    found = {f"owner {words.user_name(posture.uid, accounts)}": _class_words(posture.mode >> 6 & 7, kind)}
    for entry in posture.acl.entries if posture.acl else ():
        if entry.tag is Tag.NAMED_USER and entry.id is not None:
            found[f"user {words.user_name(entry.id, accounts)}"] = _class_words(entry.permissions, kind)
        elif entry.tag is Tag.NAMED_GROUP and entry.id is not None:
            found[f"group {words.group_name(entry.id, accounts)}, named"] = _class_words(entry.permissions, kind)
        elif entry.tag is Tag.OWNING_GROUP:
            found[f"group {group}"] = _class_words(entry.permissions, kind)
        elif entry.tag is Tag.MASK:
            found["mask"] = _class_words(entry.permissions, kind)
    if posture.acl is None:
        found[f"group {group}"] = _class_words(posture.mode >> 3 & 7, kind)
    return found | {"other": _class_words(posture.mode & 7, kind)}


def _class_words(value: int, kind: Kind) -> str:
    return f"{permission_letters(value)}  {words.permissions(value, kind)}"

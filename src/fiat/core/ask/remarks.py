"""Remarks: what is odd, dangerous or easily misread about one object.

All of them: :func:`remarks_on`.
"""

import os
from collections.abc import Iterator

from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.finding import WEIGHTS, Finding
from fiat.core.model.idmap import NO_NUMBERS
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, SETGID, SETUID, STICKY, WRITE, letters, permission_letters
from fiat.core.model.posture import NEVER_READ_ONLY, Format, Kind, Object
from fiat.core.rules.effective import effective, group_permissions, passes_over_list
from fiat.core.rules.privilege import refuses_privilege, set_id_by_mode
from fiat.core.text import counted, joined, visible
from fiat.core.words import naming


class Subject:
    """The object that remarks are made on, with what is asked of it again and again."""

    def __init__(self, object_: Object, accounts: Accounts) -> None:
        self.object = object_
        self.accounts = accounts
        self.posture = object_.posture
        self.mode = object_.posture.mode
        self.kind = object_.posture.kind
        self.directory = self.kind is Kind.DIRECTORY

    @property
    def owner(self) -> str:
        """What the owner is called."""
        return naming.user(self.posture.uid, self.accounts)

    @property
    def group(self) -> str:
        """What the owning group is called."""
        return naming.group(self.posture.gid, self.accounts)

    def entry(self, entry: Entry) -> str:
        """``entry`` in text form, with names."""
        return naming.entry(entry, self.accounts)

    def members(self, gid: int) -> int:
        """How many users are in the group ``gid``."""
        return self.accounts.member_count(gid)

    def mounted_with(self, option: str) -> bool:
        """Whether the mount, or the file system under it, has ``option``."""
        mount = self.object.mount
        return mount is not None and (option in mount.options or (option == "ro" and mount.read_only))


def _beyond(subject: Subject) -> Iterator[Finding]:
    """What limits even the superuser, what a program brings along, what could not be read."""
    yield from _flags(subject)
    found = subject.posture.capabilities
    if found is not None:
        yield from _capabilities(subject, found)
    yield from _program(subject)
    yield from _mount(subject)
    links = subject.object.status.links
    if links > 1 and not subject.directory:
        mount = subject.object.mount
        text = f"{links} names lead to this object: a change made through one of them shows under all"
        if mount is not None and not mount.keeps_names_together:
            text = f"{links} names lead to this object, and on this overlay a change may show under one of them alone"
        yield Finding("hard-links", "plain", text)
    for what, number in subject.object.unknown:
        so = (
            ", so it is taken for a program, though it may be a script or nothing that can run"
            if what == "first bytes"
            else ""
        )
        yield Finding("unknown", "odd", f"its {what} could not be read ({os.strerror(number)}){so}")


def _program(subject: Subject) -> Iterator[Finding]:
    """What carries an x and cannot be run, and what is odd about a script's first line."""
    program = subject.object.program
    if program is None or not subject.mode & EXECUTE_BITS:
        return
    if program.format is Format.NONE:
        text = f"x is set, but nobody can run it as a program: {program.problem}"
        yield Finding("not-executable", "plain", text)
    elif program.problem:
        text = f"{program.problem}, which becomes a part of the interpreter's name: {visible(program.runs_with or '')}"
        yield Finding("carriage-return", "odd", text)


def _flags(subject: Subject) -> Iterator[Finding]:
    flags = subject.posture.flags or ()
    if "immutable" in flags:
        text = "immutable: while the flag is set not even root can write, change, rename or remove it"
        yield Finding("immutable", "odd", text)
    if "append-only" in flags:
        what = "names can be added here but not removed" if subject.directory else "it can only be added to"
        yield Finding("append-only", "odd", f"append-only: while the flag is set {what}, not even by root")


_REFUSES_PRIVILEGE = {"script": "the kernel ignores {} on scripts", "nosuid": "the mount has nosuid"}


def _capabilities(subject: Subject, found: FileCapabilities) -> Iterator[Finding]:
    refused = refuses_privilege(subject.object.program, subject.object.mount)
    if refused:
        text = f"its file capabilities do nothing here: {_REFUSES_PRIVILEGE[refused].format('them')}"
        yield Finding("capabilities-without-effect", "odd", text)
    elif found.permitted:
        given = joined(f"CAP_{name.upper()}" for name in capabilities.names(found.permitted))
        when = "" if found.effective else ", once the program asks for it"
        yield Finding("capabilities", "danger", f"file capabilities: whoever runs this gets {given}{when}")


def _mount(subject: Subject) -> Iterator[Finding]:
    if subject.mounted_with("ro") and subject.kind not in NEVER_READ_ONLY:
        yield Finding("read-only", "odd", "it is on a read-only mount: not even root can write or change it")
    if subject.mounted_with("noexec") and subject.kind is Kind.FILE and subject.mode & EXECUTE_BITS:
        yield Finding("noexec", "odd", "it is on a mount with noexec: nobody can run it, whatever x says")
    if subject.mounted_with("nodev") and subject.kind in (Kind.BLOCK, Kind.CHARACTER):
        yield Finding("nodev", "odd", "it is on a mount with nodev: nobody can open it")
    if subject.mounted_with("nosymfollow") and subject.kind is Kind.SYMLINK:
        yield Finding("nosymfollow", "odd", "it is on a mount with nosymfollow: nobody can follow it")


_CLASSES = (("the owner", 6), ("the group", 3), ("other", 0))


def _on_bits(subject: Subject) -> Iterator[Finding]:
    """Special bits and their effect, rights open to everyone, letters that do nothing."""
    yield from _open_to_everyone(subject)
    yield from _half_a_directory(subject)
    yield from on_script(subject.mode, subject.object.script)
    if subject.mode & SETUID:
        yield from _setuid(subject)
    if subject.mode & SETGID:
        yield from _setgid(subject)
    if subject.mode & STICKY:
        yield _sticky(subject)


def _open_to_everyone(subject: Subject) -> Iterator[Finding]:
    other = subject.mode & 7
    if subject.directory:
        if other & 3 == WRITE | EXECUTE:
            if subject.mode & STICKY:
                yield Finding("everyone-writes", "plain", "everyone may add names here")
            else:
                text = "everyone may add names here, and remove or replace other people's: the sticky bit is missing"
                yield Finding("everyone-writes", "danger", text)
    elif other & WRITE and subject.kind in (Kind.FILE, Kind.BLOCK):
        yield Finding("everyone-writes", "danger", "everyone who gets here may write to it")


def _half_a_directory(subject: Subject) -> Iterator[Finding]:
    if not subject.directory:
        return
    for name, shift in _CLASSES:
        three = subject.mode >> shift & 7
        if three and not three & EXECUTE:
            effect = "its names can be listed, but nothing in it can be used" if three & READ else "it does nothing"
            yield Finding("no-traverse", "odd", f"{permission_letters(three)} for {name} lacks x: {effect}")
        elif three & (READ | EXECUTE) == EXECUTE and not three & WRITE:
            text = f"{permission_letters(three)} for {name} lacks r: who knows a name in it can use it, but not list it"
            yield Finding("traverse-only", "plain", text)


def on_script(mode: int, interpreter: str | None) -> list[Finding]:
    """What is to be said of a script's letters; ``interpreter`` is None for what is no script."""
    cannot = [name for name, shift in _CLASSES if mode >> shift & 5 == EXECUTE]
    if interpreter is None or not cannot:
        return []
    text = f"this is a script for {visible(interpreter)}, which must read it: "
    return [Finding("script-not-readable", "odd", f"{text}x without r does not let {' or '.join(cannot)} run it")]


def _setuid(subject: Subject) -> Iterator[Finding]:
    if subject.directory:
        yield Finding("setuid-without-effect", "odd", "setuid on a directory does nothing on Linux")
    elif subject.kind is Kind.FILE:
        yield _set_id(subject, SETUID, "setuid", f"as {subject.owner}")


def _setgid(subject: Subject) -> Iterator[Finding]:
    if subject.directory:
        under = "" if subject.mode & 0o010 else "; the capital S says that the group itself may not traverse it"
        text = f"setgid: what is made here gets the group {subject.group}, new directories the setgid bit too{under}"
        yield Finding("setgid-directory", "plain", text)
    elif subject.kind is Kind.FILE:
        yield _set_id(subject, SETGID, "setgid", f"with the group {subject.group}")


def _set_id(subject: Subject, bit: int, name: str, how: str) -> Finding:
    if not subject.mode & EXECUTE_BITS:
        return Finding(
            "capital-s",
            "odd",
            f"capital S: {name} is set but nobody may execute this file, so it does nothing; "
            f"most likely a mistake: either x is missing or {name} is left over",
        )
    if subject.posture.unmapped:
        text = f"{name} does nothing here: who owns it has no number on this mount"
        return Finding(f"{name}-without-effect", "odd", text)
    refused = refuses_privilege(subject.object.program, subject.object.mount)
    if refused:
        text = f"{name} does nothing here: {_REFUSES_PRIVILEGE[refused].format('it')}"
        return Finding(f"{name}-without-effect", "odd", text)
    if not set_id_by_mode(subject.mode) & bit:
        text = "capital S: setgid does nothing here: it counts only where the group itself may execute the file"
        return Finding("setgid-without-effect", "odd", text)
    capital = "" if bit == SETGID or subject.mode & 0o100 else "; the capital S says that the owner may not execute it"
    return Finding(name, "danger", f"{name}: whoever may execute this program runs it {how}{capital}")


def _sticky(subject: Subject) -> Finding:
    if not subject.directory:
        return Finding("sticky-without-effect", "odd", "the sticky bit does nothing on anything but a directory")
    capital = "" if subject.mode & EXECUTE else "; the capital T says that other may not traverse it"
    keepers = "by root" if subject.posture.uid == 0 else f"by {subject.owner} or by root"
    return Finding(
        "sticky",
        "plain",
        f"sticky: a name in here is removed or renamed only by the owner of what it names, {keepers}{capital}",
    )


def _on_lists(subject: Subject) -> Iterator[Finding]:
    """What the mask cuts off and shows, lists passed over, what is inherited."""
    acl = subject.posture.acl
    if acl is not None and acl.mask is not None:
        if passes_over_list(subject.mode):
            yield from _passed_over(subject, acl)
        else:
            yield from _masked(subject, acl, acl.mask)
    if subject.posture.default is not None:
        yield _inherits(subject.posture.default, subject.mode)
    if subject.object.keeps_lists is False:
        text = "this file system keeps no access lists: asked for one, the kernel says that it is not supported"
        yield Finding("no-lists", "plain", text)


def _passed_over(subject: Subject, acl: AccessList) -> Iterator[Finding]:
    named = [subject.entry(entry) for entry in acl.entries if entry.id is not None]
    if named:
        verb = "decides" if len(named) == 1 else "decide"
        yield Finding(
            "list-passed-over",
            "odd",
            f"the mask is ---, and Linux then passes over the whole list: {joined(named)} {verb} nothing; "
            f"whoever is not in {subject.group} gets what other gets ({permission_letters(subject.mode & 7)})",
        )


def _masked(subject: Subject, acl: AccessList, mask: int) -> Iterator[Finding]:
    # a file that is made with a default list has a mask without x, for nobody asked for it: that is no news
    program = subject.kind is not Kind.FILE or subject.mode & EXECUTE_BITS
    cut = [
        f"{subject.entry(entry)} down to {permission_letters(effective(entry, mask))}"
        for entry in acl.entries
        if entry.permissions & ~effective(entry, mask) & (7 if program else READ | WRITE)
    ]
    if cut:
        yield Finding("mask-cuts", "odd", f"the mask {permission_letters(mask)} cuts {joined(cut)}")
    group = acl.only(Tag.OWNING_GROUP)
    own = ""
    if group is not None and group.permissions != mask:
        own = f"; the owning group's own entry has {permission_letters(group.permissions)}"
    shown = letters(subject.mode)[3:6]
    yield Finding("letters-show-mask", "plain", f"with a list, the middle letters {shown} show the mask{own}")


def _inherits(default: AccessList, mode: int) -> Finding:
    from fiat.core.rules.inheritance import inherited_modes

    file, directory = inherited_modes(default, mode)
    return Finding(
        "inherits",
        "plain",
        "what is made here takes over the default list, and no umask counts: "
        f"files (asked for with 666) get {permissions(file)}, "
        f"directories (with 777) {permissions(directory)} and the same default list",
    )


def permissions(mode: int) -> str:
    """A mode for a sentence: ``0640 rw-r-----``."""
    return f"{mode:04o} {letters(mode)}"


def _on_people(subject: Subject) -> Iterator[Finding]:
    """Numbers without names, empty groups, and classes that get less than those after them."""
    yield from _owners(subject)
    yield from _named(subject)
    yield from _less_than_others(subject)


def _owners(subject: Subject) -> Iterator[Finding]:
    posture, accounts = subject.posture, subject.accounts
    without = [what for what, number in (("owner", posture.uid), ("group", posture.gid)) if number in NO_NUMBERS]
    if posture.unmapped:
        text = f"the number of its {' and '.join(without)} on disk is not mapped by this mount: nobody, not even root, "
        mount, path = subject.object.mount, subject.object.path
        elsewhere = mount.elsewhere(path)[:1] if mount is not None and path else []
        where = f"; {visible(elsewhere[0])} is the same and may show it" if elsewhere else ""
        yield Finding("unmapped", "odd", f"{text}writes to it, or changes it but by giving it both anew{where}")
    elif without:
        text = f"its {' and '.join(without)} is none that this user namespace knows: root here has no power over it"
        yield Finding("outside", "odd", text)
    if posture.uid not in NO_NUMBERS and accounts.has_no_user(posture.uid):
        yield Finding(
            "owner-without-account",
            "odd",
            f"no account has the owner's number {posture.uid}: the next account made with it will own this",
        )
    if posture.gid in NO_NUMBERS:
        return
    if accounts.has_no_group(posture.gid):
        yield Finding(
            "group-without-name",
            "odd",
            f"no group has the number {posture.gid}: the next group made with it will be the owning group",
        )
    elif posture.mode & 0o070 and accounts.has_no_members(posture.gid):
        yield Finding("empty-group", "odd", f"nobody is in the owning group {subject.group}")


def _named(subject: Subject) -> Iterator[Finding]:
    """Entries for nobody, those of a kind together: a list may have thousands."""
    acl, accounts = subject.posture.acl, subject.accounts
    users: list[str] = []
    groups: list[str] = []
    empty: list[str] = []
    unmapped = 0
    for entry in acl.entries if acl else ():
        if entry.id is None:
            continue
        if entry.id in NO_NUMBERS:
            unmapped += 1
        elif entry.tag is Tag.NAMED_USER:
            if accounts.has_no_user(entry.id):
                users.append(entry.text())
        elif accounts.has_no_group(entry.id):
            groups.append(entry.text())
        elif accounts.has_no_members(entry.id):
            empty.append(subject.entry(entry))
    for some, what in ((users, "account"), (groups, "group")):
        if some:
            names = f"names a number that no {what} has" if len(some) == 1 else f"name numbers that no {what} has"
            yield Finding("entry-without-name", "odd", f"{_first_of(some)} {names}")
    if unmapped:
        text = (
            f"the list names {counted(unmapped, 'number')} on disk that this mount does not map: nobody here is meant"
        )
        yield Finding("entry-unmapped", "odd", text)
    if empty:
        gives = "gives nothing to anyone: nobody is in that group"
        if len(empty) > 1:
            gives = "give nothing to anyone: nobody is in these groups"
        yield Finding("empty-group", "odd", f"{_first_of(empty)} {gives}")


_FIRST = 3


def _first_of(entries: list[str]) -> str:
    more = [f"{len(entries) - _FIRST:,} more"] if len(entries) > _FIRST else []
    return joined([*entries[:_FIRST], *more])


def _less_than_others(subject: Subject) -> Iterator[Finding]:
    owner, group, other = subject.mode >> 6 & 7, group_permissions(subject.posture), subject.mode & 7
    if (group | other) & ~owner:
        yield Finding(
            "owner-has-less",
            "odd",
            f"{subject.owner} owns it and gets only {permission_letters(owner)}, less than others do: "
            "for the owner the owner's letters alone count",
        )
    if other & ~group:
        yield Finding(
            "group-has-less",
            "odd",
            f"members of {subject.group} get only {permission_letters(group)}, less than anyone else "
            f"({permission_letters(other)}): who is in the group is not asked about other",
        )


def remarks_on(object_: Object, accounts: Accounts) -> list[Finding]:
    """All remarks on ``object_``: dangers first, then what is odd, then what is good to know."""
    subject = Subject(object_, accounts)
    found: list[Finding] = []
    if object_.posture.kind is Kind.SYMLINK:
        found.append(Finding("link-mode", "plain", "a symlink's own letters decide nothing: those of its target do"))
    else:
        for part in (_on_people, _on_bits, _on_lists):
            found += part(subject)
    found += _beyond(subject)
    found.sort(key=_weight)
    return [remark._replace(path=object_.path) for remark in found] if object_.path else found


def unreadable_script(object_: Object) -> list[Finding]:
    """What is remarked on a script that some may execute and may not read; nothing on anything else."""
    mode = object_.posture.mode
    return on_script(mode, object_.script)


def owners_for_codes(uid: int, gid: int, accounts: Accounts) -> tuple[object, ...]:
    """All that the codes of remarks depend on of an owner and a group; what they say names both.

    Objects of which nothing else is different, and that have the same here, get the same codes.
    """
    return (
        accounts.has_no_user(uid),
        accounts.has_no_group(gid),
        accounts.has_no_members(gid),
        uid if uid in NO_NUMBERS else None,
        gid if gid in NO_NUMBERS else None,
    )


def _weight(remark: Finding) -> int:
    return WEIGHTS.index(remark.weight)

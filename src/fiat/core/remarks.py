"""What is odd, dangerous or easily misread about one object.

Sources: inode(7), "The file type and mode"; acl(5); execve(2) for setuid and
scripts; mount(8) options as mount(2) defines them; ioctl_iflags(2).
"""

import os
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core import capabilities
from fiat.core.accesslist import AccessList, Entry, Tag
from fiat.core.accounts import Accounts
from fiat.core.mode import EXECUTE, EXECUTE_BITS, READ, SETGID, SETUID, STICKY, WRITE, letters, permission_letters
from fiat.core.posture import Kind, Object, keeps_no_lists
from fiat.core.rules import passes_over_list
from fiat.core.visible import visible


class Remark(NamedTuple):
    """``code`` is stable and one word; ``text`` says it; ``weight`` is ``danger``, ``odd`` or ``plain``."""

    code: str
    weight: str
    text: str


def remarks_on(object_: Object, accounts: Accounts) -> list[Remark]:
    """All remarks on ``object_``: dangers first, then what is odd, then what is good to know."""
    found = list(_Remarks(object_, accounts).all())
    return sorted(found, key=lambda remark: ("danger", "odd", "plain").index(remark.weight))


class _Remarks:
    def __init__(self, object_: Object, accounts: Accounts) -> None:
        self.object = object_
        self.posture = object_.posture
        self.mode = object_.posture.mode
        self.kind = object_.posture.kind
        self.accounts = accounts

    def all(self) -> Iterator[Remark]:
        if self.kind is Kind.SYMLINK:
            yield Remark("link-mode", "plain", "a symlink's own letters decide nothing: those of its target do")
            yield from self._mount()
            return
        yield from self._accounts()
        yield from self._open_to_everyone()
        yield from self._order_of_classes()
        yield from self._half_a_directory()
        yield from self._script()
        yield from self._setuid_and_setgid()
        yield from self._sticky()
        yield from self._access_list()
        yield from self._default_list()
        yield from self._flags()
        yield from self._capabilities()
        yield from self._mount()
        yield from self._names()
        yield from self._unknown()

    # --- who ---

    def _accounts(self) -> Iterator[Remark]:
        posture = self.posture
        if self.accounts.user_numbered(posture.uid) is None:
            yield Remark("owner-without-account", "odd", f"no account has the owner's number {posture.uid}; the next account made with it will own this")
        if self.accounts.group_numbered(posture.gid) is None:
            yield Remark("group-without-name", "odd", f"no group has the number {posture.gid}; the next group made with it will own this")
        elif posture.mode & 0o070 and not self._group_size(posture.gid):
            yield Remark("empty-group", "odd", f"nobody is in the owning group {self._group(posture.gid)}")
        for entry in posture.acl.entries if posture.acl else ():
            if entry.tag is Tag.NAMED_GROUP and entry.id is not None:
                if self.accounts.group_numbered(entry.id) is None:
                    yield Remark("entry-without-name", "odd", f"{entry.text()} names a group number that no group has")
                elif not self._group_size(entry.id):
                    yield Remark("empty-group", "odd", f"{self._entry(entry)} gives nothing to anyone: nobody is in {self._group(entry.id)}")
            if entry.tag is Tag.NAMED_USER and entry.id is not None and self.accounts.user_numbered(entry.id) is None:
                yield Remark("entry-without-name", "odd", f"{entry.text()} names a user number that no account has")

    def _open_to_everyone(self) -> Iterator[Remark]:
        if self.kind is Kind.DIRECTORY:
            if self.mode & 3 == WRITE | EXECUTE and not self.mode & STICKY:
                yield Remark("everyone-writes", "danger", "everyone may add names here, and remove or replace other people's: the sticky bit is missing")
            elif self.mode & 3 == WRITE | EXECUTE:
                yield Remark("everyone-writes", "plain", "everyone may add names here")
        elif self.mode & WRITE and self.kind not in (Kind.CHARACTER, Kind.SOCKET):
            yield Remark("everyone-writes", "danger", "everyone who gets here may write to it")

    def _order_of_classes(self) -> Iterator[Remark]:
        owner, other = self.mode >> 6 & 7, self.mode & 7
        group = self._owning_group_permissions()
        user, group_name = self._user(self.posture.uid), self._group(self.posture.gid)
        more = (group | other) & ~owner
        if more:
            yield Remark("owner-has-less", "odd", f"the owner {user} gets only {permission_letters(owner)}, less than others do: for the owner the owner's letters alone count")
        if other & ~group and passes_over_list(self.mode) <= (self.posture.acl is None):
            yield Remark("group-has-less", "odd", f"members of {group_name} get only {permission_letters(group)}, less than anyone else ({permission_letters(other)}): who is in the group is not asked about other")

    def _owning_group_permissions(self) -> int:
        acl = self.posture.acl
        entry = acl.only(Tag.OWNING_GROUP) if acl and not passes_over_list(self.mode) else None
        return acl.effective(entry) if acl and entry else self.mode >> 3 & 7

    def _half_a_directory(self) -> Iterator[Remark]:
        if self.kind is not Kind.DIRECTORY:
            return
        for name, shift in (("the owner", 6), ("the group", 3), ("other", 0)):
            three = self.mode >> shift & 7
            if three & (READ | WRITE) and not three & EXECUTE:
                yield Remark("no-traverse", "odd", f"{permission_letters(three)} for {name}: without x nothing in this directory can be used" + (", only its names listed" if three & READ else "; w alone does nothing"))

    def _script(self) -> Iterator[Remark]:
        if self.object.script is None:
            return
        cannot = [
            name
            for name, shift in (("the owner", 6), (f"group {self._group(self.posture.gid)}", 3), ("other", 0))
            if self.mode >> shift & 5 == EXECUTE
        ]
        if cannot:
            yield Remark("script-not-readable", "odd", f"this is a script for {visible(self.object.script)}, which must read it: x without r does not let {' or '.join(cannot)} run it")

    # --- special bits ---

    def _setuid_and_setgid(self) -> Iterator[Remark]:
        user, group = self._user(self.posture.uid), self._group(self.posture.gid)
        if self.mode & SETUID:
            if self.kind is Kind.DIRECTORY:
                yield Remark("setuid-without-effect", "odd", "setuid on a directory does nothing on Linux")
            elif self.kind is Kind.FILE:
                yield from self._set_id("setuid", self.mode & 0o100, EXECUTE_BITS, f"runs as {user}, whoever starts it")
        if self.mode & SETGID:
            if self.kind is Kind.DIRECTORY:
                missing = "" if self.mode & 0o010 else "; the capital S says that the group itself cannot traverse it"
                yield Remark("setgid-directory", "plain", f"setgid: what is made here gets the group {group}, and new directories the setgid bit{missing}")
            elif self.kind is Kind.FILE:
                yield from self._set_id("setgid", self.mode & 0o010, EXECUTE_BITS, f"runs with the group {group}, whoever starts it")

    def _set_id(self, name: str, under: int, any_execute: int, effect: str) -> Iterator[Remark]:
        options = self.object.mount.options if self.object.mount else ()
        if not self.mode & any_execute:
            yield Remark("capital-s", "odd", f"capital S: {name} is set but nobody may execute this file, so it does nothing; most likely a mistake: either x is missing or {name} is left over")
        elif self.object.script is not None:
            yield Remark(f"{name}-without-effect", "odd", f"{name} does nothing here: the kernel ignores it on scripts")
        elif "nosuid" in options:
            yield Remark(f"{name}-without-effect", "odd", f"{name} does nothing here: the mount {visible(self.object.mount.point if self.object.mount else '')} has nosuid")
        else:
            capital = "" if under else f"; the capital S says that the {'owner' if name == 'setuid' else 'group'} itself may not execute it"
            yield Remark(name, "danger", f"{name}: this program {effect}{capital}")

    def _sticky(self) -> Iterator[Remark]:
        if not self.mode & STICKY:
            return
        if self.kind is Kind.DIRECTORY:
            capital = "" if self.mode & EXECUTE else "; the capital T says that other cannot traverse it"
            yield Remark("sticky", "plain", f"sticky: a name in here is removed or renamed only by the owner of what it names, by {self._user(self.posture.uid)}, or by root{capital}")
        else:
            yield Remark("sticky-without-effect", "odd", "the sticky bit does nothing on anything but a directory")

    # --- lists ---

    def _access_list(self) -> Iterator[Remark]:
        acl = self.posture.acl
        if acl is None:
            return
        if passes_over_list(self.mode):
            names = [self._entry(entry) for entry in acl.entries if entry.tag in (Tag.NAMED_USER, Tag.NAMED_GROUP)]
            if names:
                yield Remark("list-passed-over", "odd", f"the mask is ---, so Linux passes over the whole list: {_join(names)} {'decides' if len(names) == 1 else 'decide'} nothing, and those named get what other gets ({permission_letters(self.mode & 7)})")
            return
        mask = acl.mask
        if mask is None:
            return
        for entry in acl.entries:
            lost = entry.permissions & ~acl.effective(entry)
            if lost:
                left = acl.effective(entry)
                yield Remark("mask-cuts", "odd", f"the mask {permission_letters(mask)} cuts {self._entry(entry)} down to {permission_letters(left)}")
        group = acl.only(Tag.OWNING_GROUP)
        if group is not None:
            shown = letters(self.mode)[3:6]
            differs = f", and the owning group has {permission_letters(group.permissions)}" if group.permissions != mask else ""
            yield Remark("letters-show-mask", "plain", f"with a list, the middle letters {shown} show the mask{differs}")

    def _default_list(self) -> Iterator[Remark]:
        default = self.posture.default
        if default is None:
            return
        yield Remark("inherits", "plain", f"what is made here starts from the default list ({default_words(default, self)}), cut by the mode its maker asks for; the umask does not count here")

    # --- beyond the bits ---

    def _flags(self) -> Iterator[Remark]:
        flags = self.posture.flags or ()
        if "immutable" in flags:
            yield Remark("immutable", "odd", "immutable: not even root can write, change, rename or remove it while the flag is set")
        if "append-only" in flags:
            what = "names can be added but not removed" if self.kind is Kind.DIRECTORY else "it can only be added to"
            yield Remark("append-only", "odd", f"append-only: {what}, not even by root, while the flag is set")

    def _capabilities(self) -> Iterator[Remark]:
        found = self.posture.capabilities
        if found is None:
            return
        options = self.object.mount.options if self.object.mount else ()
        given = capabilities.names(found.permitted) or capabilities.names(found.inheritable)
        if "nosuid" in options:
            yield Remark("capabilities-without-effect", "odd", "its file capabilities do nothing here: the mount has nosuid")
        elif found.permitted:
            yield Remark("capabilities", "danger", f"whoever runs this gets {_join([f'CAP_{name.upper()}' for name in given])}{'' if found.effective else ' once it asks for it'}")

    def _mount(self) -> Iterator[Remark]:
        mount = self.object.mount
        if mount is None:
            return
        at = f"the mount {visible(mount.point)}"
        if ("ro" in mount.options or "ro" in mount.filesystem_options) and self.kind not in (Kind.FIFO, Kind.SOCKET, Kind.BLOCK, Kind.CHARACTER):
            yield Remark("read-only", "odd", f"{at} is read-only: not even root can write here")
        if "noexec" in mount.options and self.kind is Kind.FILE and self.mode & EXECUTE_BITS:
            yield Remark("noexec", "odd", f"{at} has noexec: nobody can run this, whatever its x says")
        if "nodev" in mount.options and self.kind in (Kind.BLOCK, Kind.CHARACTER):
            yield Remark("nodev", "odd", f"{at} has nodev: nobody can open this device")
        if "nosymfollow" in mount.options and self.kind is Kind.SYMLINK:
            yield Remark("nosymfollow", "odd", f"{at} has nosymfollow: nobody can follow this link")

    def _names(self) -> Iterator[Remark]:
        if self.object.status.links > 1 and self.kind is not Kind.DIRECTORY:
            yield Remark("hard-links", "plain", f"{self.object.status.links} names lead to this object: a change through one of them shows under all")

    def _unknown(self) -> Iterator[Remark]:
        if keeps_no_lists(self.object):
            yield Remark("no-lists", "plain", "this file system keeps no access lists (the kernel says so when asked for one)")
        for what, number in self.object.unknown:
            if not (what.endswith("list") and keeps_no_lists(self.object)):
                yield Remark("unknown", "odd", f"its {what} could not be read ({os.strerror(number)})")

    # --- names ---

    def _user(self, uid: int) -> str:
        user = self.accounts.user_numbered(uid)
        return visible(user.name) if user else f"number {uid}"

    def _group(self, gid: int) -> str:
        group = self.accounts.group_numbered(gid)
        return visible(group.name) if group else f"number {gid}"

    def _group_size(self, gid: int) -> int:
        return len({user.name for user in (*self.accounts.primary_members(gid), *self.accounts.listed_members(gid))})

    def _entry(self, entry: Entry) -> str:
        """The entry with a name in place of its number."""
        if entry.id is None:
            return entry.text()
        name = self._user(entry.id) if entry.tag is Tag.NAMED_USER else self._group(entry.id)
        return f"{'user' if entry.tag is Tag.NAMED_USER else 'group'}:{name.removeprefix('number ')}:{permission_letters(entry.permissions)}"


def default_words(default: AccessList, remarks: _Remarks) -> str:
    """A default list with names, in one line."""
    return ", ".join(remarks._entry(entry) for entry in default.entries)


def _join(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"

"""A host *as if*: seen through a supposed change.

Postures, names, accounts and mounts may be other than they are; everything
else is as on the host beneath. Whoever asks such a host, asks in the same way
as of any other: routes, interpreters and trees are what they would be.
"""

import errno
import os
import posixpath
from collections.abc import Iterator, Mapping
from typing import NamedTuple, Protocol

from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.glance import Glance, glance_at
from fiat.core.model.host import Host, Node, Settings
from fiat.core.model.login import Logins
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import UNKNOWN_PROGRAM as UNKNOWN
from fiat.core.model.posture import Identity, Mount, Object, Placement, Posture, Program
from fiat.core.model.principals import Principal
from fiat.core.tree.walk import with_program


class SupposedPostures(Protocol):
    """Supposed postures, by what they are of."""

    def of(self, identity: Identity) -> Posture | None:
        """The supposed posture of an object; None where it is as it is."""


class FewPostures:
    """Supposed postures of a few objects; of many they are held in :class:`fiat.core.tree.postures.PosturesOfMany`."""

    def __init__(self, postures: Mapping[Identity, Posture]) -> None:
        self.postures = dict(postures)
        self._by_inode: dict[int, list[tuple[Identity, Posture]]] = {}
        for identity, posture in self.postures.items():
            self._by_inode.setdefault(identity.inode, []).append((identity, posture))

    def of(self, identity: Identity) -> Posture | None:
        """The supposed posture of an object; None where it is as it is."""
        some = self._by_inode.get(identity.inode, ())
        return next((posture for known, posture in some if known.same_as(identity)), None)


class Supposition(NamedTuple):
    """What is supposed to be otherwise.

    ``names`` maps absolute paths to the objects that are supposed to be
    there, or to None where nothing is. ``mounts`` maps mount points to the
    mounts that are supposed to be there in place of those that are.
    """

    postures: SupposedPostures = FewPostures({})
    names: Mapping[str, Object | None] = {}
    accounts: Accounts | None = None
    mounts: Mapping[str, Mount] = {}

    def apply_to(self, found: Object) -> Object:
        """An object of the host beneath as it would be."""
        posture = self.postures.of(found.status.identity)
        if posture is not None:
            found = found._replace(posture=posture)
        if self.mounts and found.mount is not None:
            found = found._replace(mount=self.mounts.get(found.mount.point, found.mount))
        return found


class HostAsIf:
    """``host`` as it would be; nothing can be changed on it."""

    def __init__(self, host: Host, supposition: Supposition) -> None:
        self.host = host
        self.supposition = supposition
        self.name = host.name

    @property
    def accounts(self) -> Accounts:
        """The users and groups as they would be."""
        return self.supposition.accounts or self.host.accounts

    @property
    def settings(self) -> Settings:
        """The settings of the host beneath."""
        return self.host.settings

    def root(self) -> Node:
        """Open the root directory as it would be."""
        return NodeAsIf(self.host.root(), self.supposition)

    def cwd(self) -> str:
        """The directory that relative paths start from on the host beneath."""
        return self.host.cwd()

    def actor(self) -> Principal:
        """Who acts on the host beneath."""
        return self.host.actor()

    def wait_for_clock(self, changed: int) -> None:
        """Return at once: nothing changes on a supposed host."""

    def process(self, pid: int) -> Principal:
        """A running process keeps the groups that it has."""
        return self.host.process(pid)

    def seen_by(self, who: Principal) -> "HostAsIf":
        """As ``who`` sees the host beneath, seen through the same change."""
        seen = self.host.seen_by(who)
        return self if seen is self.host else HostAsIf(seen, self.supposition)

    def view_of(self, pid: int) -> "HostAsIf":
        """As a container sees the host beneath, seen through the same change."""
        return HostAsIf(self.host.view_of(pid), self.supposition)

    def logins(self) -> Logins:
        """What logins give on the host beneath."""
        return self.host.logins()

    def process_umask(self, pid: int) -> int:
        """The umask of the process ``pid`` on the host beneath."""
        return self.host.process_umask(pid)


class _ReadOnly:
    """Refuses every change: what is supposed is not there to be changed."""

    def copy_up(self) -> None:
        """Nothing is written."""

    def change_owner(self, uid: int | None, gid: int | None) -> None:
        raise _error(errno.EROFS)

    def change_mode(self, mode: int) -> None:
        raise _error(errno.EROFS)

    def change_list(self, acl: AccessList) -> None:
        raise _error(errno.EROFS)

    def change_default(self, acl: AccessList | None) -> None:
        raise _error(errno.EROFS)

    def change_capabilities(self, value: FileCapabilities | None) -> None:
        raise _error(errno.EROFS)

    def change_flags(self, flags: tuple[str, ...]) -> None:
        raise _error(errno.EROFS)

    def keeps_flags(self) -> bool:
        return False


class NodeAsIf(_ReadOnly):
    """An object of the host beneath as it would be."""

    def __init__(self, node: Node, supposition: Supposition) -> None:
        self.path = node.path
        self.beneath = node
        self.supposition = supposition

    def look(self, *, exact: bool = False) -> Object:
        """The object as it would be."""
        found = self.supposition.apply_to(self.beneath.look(exact=exact))
        if found.posture.mode & EXECUTE_BITS:  # which it may not have had
            return with_program(found, self.beneath)
        return found

    def glance(self) -> Glance:
        """As much of it as a change looks at."""
        return glance_at(self.look(exact=True))

    def matches(self, posture: Posture, identity: Identity | None = None, links: int = 0) -> Placement | None:
        """Where it is, if a glance shows exactly this."""
        return self.glance().matches(posture, identity, links)

    def program(self) -> Program:
        """What execve(2) sees of it, which is as it is."""
        return self.beneath.program()

    def beginning(self, most: int) -> bytes | None:
        """Its contents are as they are."""
        return self.beneath.beginning(most)

    def digest(self, most: int) -> tuple[str, int] | None:
        """Its contents are as they are."""
        return self.beneath.digest(most)

    def child(self, name: str) -> Node:
        """Open the entry ``name``, if it would be there."""
        names = self.supposition.names
        path = posixpath.join(self.path, name)
        if names and name != ".." and path in names:
            supposed = names[path]
            if supposed is None:
                raise _error(errno.ENOENT)
            return _Supposed(supposed, self.supposition, self)
        return NodeAsIf(self.beneath.child(name), self.supposition)

    def in_lower_layer(self) -> bool | None:
        """It comes from where it comes from."""
        return self.beneath.in_lower_layer()

    def names(self) -> Iterator[str]:
        """The names that would be in this directory."""
        found = set(self.beneath.names())
        return iter(_changed_names(found, self.path, self.supposition))

    def close(self) -> None:
        """Let go of the object beneath."""
        self.beneath.close()


def _changed_names(found: set[str], path: str, supposition: Supposition) -> set[str]:
    for name, supposed in supposition.names.items():
        folder, base = posixpath.split(name)
        if folder == path:
            (found.discard if supposed is None else found.add)(base)
    return found


class _Supposed(_ReadOnly):
    """An object that is only supposed to be there."""

    def __init__(self, found: Object, supposition: Supposition, parent: Node) -> None:
        self.path = found.path
        self._object = found
        self.supposition = supposition
        self._parent = parent

    def look(self, *, exact: bool = False) -> Object:
        return self._object

    def glance(self) -> Glance:
        return glance_at(self._object)

    def matches(self, posture: Posture, identity: Identity | None = None, links: int = 0) -> Placement | None:
        return self.glance().matches(posture, identity, links)

    def program(self) -> Program:
        return self._object.program or UNKNOWN

    def beginning(self, most: int) -> bytes | None:
        return None

    def digest(self, most: int) -> tuple[str, int] | None:
        return None

    def child(self, name: str) -> Node:
        if not self._object.posture.directory:
            raise _error(errno.ENOTDIR)
        supposed = self.supposition.names.get(posixpath.join(self.path, name))
        if name == ".." or supposed is None:
            raise _error(errno.ENOENT)
        return _Supposed(supposed, self.supposition, self)

    def in_lower_layer(self) -> bool:
        return False

    def names(self) -> Iterator[str]:
        return iter(_changed_names(set(), self.path, self.supposition))

    def close(self) -> None:
        """Let go of nothing: no handle is held."""


def _error(number: int) -> OSError:
    return OSError(number, os.strerror(number))

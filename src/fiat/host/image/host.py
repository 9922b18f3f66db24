"""A host held in memory: the stand-in for demos and for what is held in a file."""

import errno
import os
import posixpath
from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

from fiat.core.errors import UnknownAccount
from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.glance import Glance, glance_at
from fiat.core.model.host import NotHeld, Settings
from fiat.core.model.login import Logins, UsualLogins
from fiat.core.model.posture import UNKNOWN_PROGRAM as UNKNOWN
from fiat.core.model.posture import Identity, Kind, Object, Placement, Posture, Program
from fiat.core.model.principals import Principal, unlisted_user
from fiat.core.rules.sideeffects import after_list, after_mode, after_owner
from fiat.core.text import visible

if TYPE_CHECKING:
    from fiat.core.audit.evidence import Evidence
    from fiat.core.model.elevation import Elevations


class ImageNode:
    """An object of the tree in memory."""

    def __init__(self, host: "ImageHost", path: str) -> None:
        self.path = path
        self._host = host

    def look(self, *, exact: bool = False) -> Object:
        """The object as it is now."""
        return self._host.object_at(self.path)

    def glance(self) -> Glance:
        """As much of it as a change looks at."""
        return glance_at(self.look())

    def matches(self, posture: Posture, identity: Identity | None = None, links: int = 0) -> Placement | None:
        """Where it is, if a glance shows exactly this."""
        return self.glance().matches(posture, identity, links)

    def program(self) -> Program:
        """What execve(2) sees of it, where that is held; unknown elsewhere."""
        return self.look().program or UNKNOWN

    def child(self, name: str) -> "ImageNode":
        """The entry ``name``; ENOTDIR, ENOENT and ENAMETOOLONG as the kernel raises them."""
        if self.look().posture.kind is not Kind.DIRECTORY:
            raise error(errno.ENOTDIR, self.path)
        if len(os.fsencode(name)) > 255:
            raise error(errno.ENAMETOOLONG, name)
        path = self.path if name == "." else posixpath.join(self.path, name)
        if name == "..":
            path = posixpath.dirname(self.path)
        return self._host.open(path)

    def beginning(self, most: int) -> bytes | None:
        """Not known."""
        return None

    def digest(self, most: int) -> tuple[str, int] | None:
        """What was kept of its contents."""
        found = self._host.digests.get(self.path)
        return None if found is None else (found, 0)

    def names(self) -> Iterator[str]:
        """The names in this directory; then ENODATA where these may not be all."""
        yield from self._host.names_in(self.path)
        if self._host.cut:
            raise NotHeld(errno.ENODATA, os.strerror(errno.ENODATA), self.path)

    def change_owner(self, uid: int | None, gid: int | None) -> None:
        """Set owner and group, with what the kernel clears then."""
        self._become(after_owner(self.look().posture, uid, gid, self._host.actor()))

    def change_mode(self, mode: int) -> None:
        """Set the mode, with what the kernel does to the list by itself."""
        self._become(after_mode(self.look().posture, mode, self._host.actor()))

    def change_list(self, acl: AccessList) -> None:
        """Set the access list, and the mode with it."""
        self._become(after_list(self.look().posture, acl, self._host.actor()))

    def change_default(self, acl: AccessList | None) -> None:
        """Set or remove the default list."""
        self._become(self.look().posture._replace(default=acl))

    def change_capabilities(self, value: FileCapabilities | None) -> None:
        """Set or remove the file capabilities."""
        self._become(self.look().posture._replace(capabilities=value))

    def change_flags(self, flags: tuple[str, ...]) -> None:
        """Have just these of the flags that limit change."""
        self._become(self.look().posture._replace(flags=flags))

    def copy_up(self) -> None:
        """There is nothing below."""

    def in_lower_layer(self) -> bool:
        """There is nothing below."""
        return False

    def keeps_flags(self) -> bool:
        """It may: nothing here tells."""
        return True

    def _become(self, posture: Posture) -> None:
        self._host.objects[self.path] = self.look()._replace(posture=posture)

    def close(self) -> None:
        """Let go of nothing: no handle is held."""


class ImageHost:
    """A host made of the objects given; the one who acts on it is its superuser.

    ``taken`` is when it was as it is held here, in ISO 8601, where that is known;
    ``cut`` tells that it is cut short: what it lacks may have been there, and nothing says whether.
    ``evidence`` is what an audit may ask of it besides, ``digests`` those of privileged files, by path; ``elevations``
    are the rules by which users act as others, None where they are not held.
    """

    taken: str | None = None
    cut = False
    evidence: "Evidence | None" = None
    elevations: "Elevations | None" = None

    def __init__(self, name: str, objects: Iterable[Object], accounts: Accounts, settings: Settings) -> None:
        self.name = name
        self.accounts = accounts
        self.settings = settings
        self.objects = {object_.path: object_ for object_ in objects}
        self.digests: Mapping[str, str] = {}
        self._names: dict[str, list[str]] = {}
        for path in self.objects:
            if path != "/":
                self._names.setdefault(posixpath.dirname(path), []).append(posixpath.basename(path))

    def object_at(self, path: str) -> Object:
        """The object at ``path``; ENOENT where there is none, ENODATA where that is not known."""
        found = self.objects.get(path)
        if found is None:
            raise NotHeld(errno.ENODATA, os.strerror(errno.ENODATA), path) if self.cut else error(errno.ENOENT, path)
        return found

    def names_in(self, path: str) -> Iterable[str]:
        """The names in the directory ``path``."""
        return self._names.get(path, [])

    def open(self, path: str) -> ImageNode:
        """The object at ``path``, which is no way around a symlink; ENOENT where there is none."""
        self.object_at(path)
        return ImageNode(self, path)

    def root(self) -> ImageNode:
        """Open the root directory of the image."""
        return self.open("/")

    def cwd(self) -> str:
        """``/``: an image has no current directory."""
        return "/"

    def actor(self) -> Principal:
        """The superuser: nobody else acts on a host in memory."""
        return unlisted_user(0, (0,))

    def wait_for_clock(self, changed: int) -> None:
        """Return at once: nothing is stamped in memory."""

    def process(self, pid: int) -> Principal:
        """Always raises: nothing runs in an image."""
        raise self._no_process(pid)

    def seen_by(self, who: Principal) -> "ImageHost":
        """This very host: everyone sees the same of an image."""
        return self

    def view_of(self, pid: int) -> "ImageHost":
        """Always raises: nothing runs in an image."""
        raise self._no_process(pid)

    def logins(self) -> Logins:
        """What is usual: an image holds none of the files that decide it."""
        return UsualLogins()

    def process_umask(self, pid: int) -> int:
        """Always raises: nothing runs in an image."""
        raise self._no_process(pid)

    def _no_process(self, pid: int) -> UnknownAccount:
        return UnknownAccount(
            f"pid:{pid}", f"pid:{pid}: {visible(self.name)} is held in a file, and no process runs in it"
        )


def error(number: int, path: str) -> OSError:
    """The error that the kernel would raise."""
    return OSError(number, os.strerror(number), path)

"""Walking the route to a path; looking at what is in a directory, and holding directories open to come to many paths.

path_resolution(7): each component is looked up in the directory before it,
which must be traversed for that; at most 40 symlinks are followed.
"""

import errno
import posixpath
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from fiat.core.errors import PathError
from fiat.core.model import right as rights
from fiat.core.model.host import Host, Node, NotHeld
from fiat.core.model.posture import UNKNOWN_PROGRAM as UNKNOWN
from fiat.core.model.posture import Format, Kind, Object, Program
from fiat.core.model.right import Right
from fiat.core.model.route import MAX_INTERPRETERS, MAX_SYMLINKS, Route, Stage


class Trouble(NamedTuple):
    """Something under a tree that could not be looked at, with the errno."""

    path: str
    errno: int


def names_in(directory: Node, troubles: list[Trouble]) -> list[str]:
    """The names in ``directory``; those until then, and one more of the ``troubles``, where it cannot be listed."""
    found: list[str] = []
    try:
        found.extend(directory.names())
    except OSError as error:
        troubles.append(Trouble(directory.path, error.errno or 0))
    return found


def inside(directory: Node, names: Iterable[str], troubles: list[Trouble]) -> Iterator[tuple[Node, Object]]:
    """Each of ``names`` in ``directory``, held open for the caller to close, with what is seen of it.

    What cannot be looked at, or has gone since its name was read, is added to ``troubles``.
    """
    for name in names:
        try:
            child = directory.child(name)
        except OSError as error:
            troubles.append(Trouble(posixpath.join(directory.path, name), error.errno or 0))
            continue
        yield child, child.look()


class Extent(NamedTuple):
    """How much of a tree is read.

    Other file systems mounted in it are left out unless ``across_mounts``.
    With ``one_level`` nothing below the names in the top directory is read.
    ``details`` asks for sizes, times and the targets of links as well.
    Reading stops after about ``most`` entries, where that is given.
    """

    across_mounts: bool = False
    one_level: bool = False
    details: bool = False
    entry_limit: int | None = None


def with_program(found: Object, node: Node) -> Object:
    """``found``, which ``node`` holds, with what execve(2) sees of a regular file, though nobody may execute it now."""
    if found.program is not None or found.posture.kind is not Kind.FILE:
        return found
    try:
        return found._replace(program=node.program())
    except OSError as error:
        unknown = ("first bytes", error.errno or errno.EIO)
        return found._replace(program=UNKNOWN, unknown=(*found.unknown, unknown))


_HELD = 24
"""Directories that are held open at most: a process may have few open files."""


class Handles:
    """Keeps the last directories on the way to the last path open.

    Every name is opened in the directory that is held already, so what is
    under it stays under it, whatever is renamed or put in its place
    meanwhile. A symlink on the way is not followed: it is no directory.
    """

    def __init__(self, host: Host) -> None:
        self._chain: list[Node] = []
        self.host = host

    def open(self, path: str) -> Node:
        """What is at the absolute ``path``; the caller closes it. Raises OSError."""
        if path == "/":
            return self.host.root()
        parent, _, name = path.rpartition("/")
        chain = self._chain
        if chain and chain[-1].path == parent:  # as that of the last path, most often
            return chain[-1].child(name)
        return self._directory(parent or "/").child(name)

    def _directory(self, path: str) -> Node:
        chain = self._chain
        while chain and chain[-1].path != path and not path.startswith(chain[-1].path.rstrip("/") + "/"):
            chain.pop().close()
        if not chain:
            chain.append(self.host.root())
        last = chain[-1].path
        if last != path:
            for name in path[len(last.rstrip("/")) + 1 :].split("/"):
                chain.append(chain[-1].child(name))
                if len(chain) > _HELD:
                    chain.pop(0).close()
        return chain[-1]

    def close(self) -> None:
        """Let go of all of them."""
        while self._chain:
            self._chain.pop().close()


def absolute(host: Host, path: str) -> str:
    """``path`` from ``/``, without empty and ``.`` components; ``..`` and a last slash stay.

    Raises PathError where it starts from a current directory that is not there any more.
    """
    try:
        whole = path if path.startswith("/") else f"{host.cwd()}/{path}"
    except OSError as error:
        raise PathError(path, error.errno or errno.ENOENT, hint="the current directory has been removed") from error
    names = [name for name in whole.split("/") if name not in ("", ".")]
    tail = "/" if names and path.endswith(("/", "/.")) else ""
    return "/" + "/".join(names) + tail


def walk(
    host: Host,
    path: str,
    *,
    follow: bool = True,
    into: bool = False,
    to_run: bool = False,
    interpreters: int = MAX_INTERPRETERS + 1,
) -> Route:
    """Walk ``path``; with ``follow`` false a symlink at the end is the end itself.

    With ``into`` the walk is that to a name in the directory ``path``: the
    directory is traversed too, and no symlink is the last name. ``to_run``
    says that what is found is to be run: then it is known what it would be run
    with, even where nobody may. Never raises for what it meets on the way: the
    route says what failed.
    """
    walking = _Walk(host, absolute(host, path))
    if into:
        walking.pending.append(".")
    route, node = walking.to_end(follow)
    if node is not None:
        if to_run and route.end is not None:
            route = route._replace(end=with_program(route.end, node))
        node.close()
    program = route.end.program if route.end is not None else None
    return route if program is None else route._replace(interpreter=interpreter_of(host, program, interpreters))


def interpreter_of(host: Host, program: Program, interpreters: int = MAX_INTERPRETERS + 1) -> Route | None:
    """The route to what runs ``program``: a script's interpreter, with its own, or a loader; None for neither."""
    if program.runs_with is None or not interpreters:
        return None
    further = interpreters - 1 if program.format is not Format.BINARY else 0  # a loader is not run with a loader
    found = walk(host, program.runs_with, to_run=True, interpreters=further)
    if program.format is Format.SCRIPT and program.hangs_on and not _in_usual_folders(host, program.hangs_on):
        return found._replace(not_found=program.hangs_on)
    return found


USUAL_FOLDERS = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
"""Where PATH leads to on most hosts."""


def _in_usual_folders(host: Host, name: str) -> bool:
    """Whether there is something of that name where programs mostly are; a relative path is not looked at."""
    if name.startswith("/"):
        return walk(host, name, interpreters=0).end is not None
    return "/" in name or any(walk(host, f"{folder}/{name}", interpreters=0).end for folder in USUAL_FOLDERS)


def route_for(host: Host, path: str, right: Right) -> Route:
    """The route that the kernel walks when ``right`` is asked of ``path``."""
    if right.by_name_alone:  # a symlink at the end is not followed: its name is meant
        return walk(host, path.rstrip("/") or "/", follow=False)
    route = walk(host, path, to_run=right is rights.EXECUTE)
    in_directory = right in (rights.WRITE, rights.CREATE)
    if in_directory and route.end is not None and route.end.posture.directory:
        return walk(host, path, into=True)
    return route


def open_end(host: Host, path: str, *, follow: bool = True) -> tuple[Route, Node | None]:
    """Walk ``path`` and keep its end open; the caller closes the node."""
    walking = _Walk(host, absolute(host, path))
    return walking.to_end(follow)


class _Walk:
    """One walk, which holds one node open at a time."""

    def __init__(self, host: Host, asked: str) -> None:
        self.host = host
        self.asked = asked
        self.node = host.root()
        self.stages: list[Stage] = []
        self.pending = _names(asked)
        self.must_be_directory = asked.endswith("/")
        self.links_followed = 0
        self.looking_up = "/"

    def to_end(self, follow: bool) -> tuple[Route, Node | None]:
        try:
            here = self.node.look()
            while self.pending:
                if not here.posture.directory:
                    return self._failed(errno.ENOTDIR, here.path)
                self._traverse(here)
                name = self.pending.pop(0)
                if name == ".":  # looked up like any name, which takes traversing, and leads nowhere else
                    continue
                found, object_ = self._look_up(name)
                trailing = not self.pending
                if object_.posture.kind is Kind.SYMLINK and (not trailing or follow or self.must_be_directory):
                    found.close()
                    if not self._follow(object_, trailing):
                        return self._failed(errno.ELOOP, object_.path)
                    here = self.node.look()
                else:
                    self._enter(found)
                    here = object_
            if self.must_be_directory and not here.posture.directory:
                return self._failed(errno.ENOTDIR, here.path)
            return Route(self.asked, tuple(self.stages), here), self.node
        except OSError as error:
            number = error.errno or errno.EIO
            hidden = number in (errno.EACCES, errno.EPERM) or isinstance(error, NotHeld)
            last_is_missing = number == errno.ENOENT and not self.pending and not self.must_be_directory
            missing_in = self.stages[-1].object if last_is_missing and self.stages else None
            return self._failed(number, self.looking_up, missing_in, hidden)

    def _traverse(self, directory: Object) -> None:
        # Several names in a row may be looked up in one directory (".", a relative link): one stage.
        if not self.stages or self.stages[-1].object.path != directory.path:
            self.stages.append(Stage(directory))

    def _look_up(self, name: str) -> tuple[Node, Object]:
        self.looking_up = posixpath.join(self.node.path, name)
        found = self.node.child(name)
        try:
            return found, found.look()
        except OSError:
            found.close()
            raise

    def _enter(self, node: Node) -> None:
        self.node.close()
        self.node = node

    def _follow(self, link: Object, trailing: bool) -> bool:
        """Go where ``link`` leads from; False when it is one link too many."""
        self.stages.append(Stage(link, trailing))
        self.links_followed += 1
        if self.links_followed > MAX_SYMLINKS:
            return False
        target = link.target or ""
        self.pending = _names(target) + self.pending
        if trailing and target.endswith("/"):
            self.must_be_directory = True
        if target.startswith("/"):
            self._enter(self.host.root())
        return True

    def _failed(
        self, number: int, path: str, missing_in: Object | None = None, hidden: bool = False
    ) -> tuple[Route, None]:
        self.node.close()
        return Route(self.asked, tuple(self.stages), None, number, path, missing_in, hidden), None


def _names(path: str) -> list[str]:
    return [name for name in path.split("/") if name]

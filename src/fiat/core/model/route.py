"""The route to a path, as a value: what was walked, and what was found."""

from typing import NamedTuple

from fiat.core.model.posture import Object


def lies_under(path: str, top: str) -> bool:
    """Whether ``path`` is ``top``, or a path in it."""
    return f"{path}/".startswith(f"{top.rstrip('/')}/")


MAX_SYMLINKS = 40
"""How many symlinks a walk follows: the kernel's ``MAXSYMLINKS`` (path_resolution(7))."""

MAX_INTERPRETERS = 5
"""How often the kernel takes an interpreter of an interpreter (execve(2), "Interpreter scripts")."""


class Stage(NamedTuple):
    """One thing walked: a directory that was traversed, or a symlink that was followed.

    ``trailing`` marks a symlink that is the last name of the whole path.
    """

    object: Object
    trailing: bool = False


class Route(NamedTuple):
    """How a path is walked (path_resolution(7)).

    ``asked`` is the absolute path asked for, ``stages`` what is walked before
    the end, ``end`` the object arrived at. Where the walk fails, ``end`` is
    None, ``errno`` the kernel's answer to those who get that far, and
    ``failed_at`` the path it speaks of. ``missing_in`` is the directory that
    has not got the last name of the path, where only that is missing;
    ``hidden`` is true where Fiat itself may not look further, or a host in a file holds no more. ``interpreter``
    is the route to what runs ``end``: a script's interpreter or a program's
    loader. ``not_found`` is set where ``end`` is an env that will look for a program
    which is in none of the usual folders.
    """

    asked: str
    stages: tuple[Stage, ...]
    end: Object | None
    errno: int = 0
    failed_at: str = ""
    missing_in: Object | None = None
    hidden: bool = False
    interpreter: "Route | None" = None
    not_found: str = ""

    @property
    def objects(self) -> list[Object]:
        """All that is walked, and the end."""
        return [*(stage.object for stage in self.stages), *([self.end] if self.end else [])]

    @property
    def directories(self) -> list[Object]:
        """The directories that are traversed, in order."""
        return [stage.object for stage in self.stages if stage.object.posture.directory]

    @property
    def parent(self) -> Object | None:
        """The directory that holds the end's name; None where the end is the root directory."""
        return next((stage.object for stage in reversed(self.stages) if stage.object.posture.directory), None)

    @property
    def links(self) -> list[Object]:
        """The symlinks that are followed, in order."""
        return [stage.object for stage in self.stages if not stage.object.posture.directory]

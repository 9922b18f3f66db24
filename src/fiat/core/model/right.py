"""Rights: what can be asked about, on which kinds of objects, and what decides.

A right is decided by the object itself, by its name in the directory that
holds it, or by both: deleting is the directory's matter, and opening a file
with O_CREAT asks both (open(2), unlink(2), proc_sys_fs(5)).
"""

from collections.abc import Iterable
from typing import final

from fiat.core.errors import NotationError
from fiat.core.model.posture import Kind
from fiat.core.text import near, quoted


@final
class Right:
    """One right; there is one object for each, so rights are compared by identity.

    ``kinds`` are the kinds of objects that it means something on. ``by_object``
    and ``by_name`` tell what decides: one of them must, or ValueError is raised. ``with_right`` names a right that this
    one nearly always goes with: where a person is told who gains and who
    loses, it is mentioned only on paths where it does not.
    """

    __slots__ = ("about", "by_name", "by_object", "kinds", "name", "with_right")

    def __init__(
        self,
        name: str,
        about: str,
        kinds: Iterable[Kind],
        *,
        by_object: bool = True,
        by_name: bool = False,
        with_right: "Right | None" = None,
    ) -> None:
        if not by_object and not by_name:
            raise ValueError(f"nothing decides the right {name}, so that everybody would have it")
        self.name = name
        self.about = about
        self.kinds = frozenset(kinds)
        self.by_object = by_object
        self.by_name = by_name
        self.with_right = with_right

    def applies(self, kind: Kind) -> bool:
        """Whether it means something on an object of this kind."""
        return kind in self.kinds

    def __repr__(self) -> str:
        return f"<right {self.name}>"

    def __str__(self) -> str:
        return self.name

    def __reduce__(self) -> tuple[object, ...]:
        return right_named, (self.name,)


_NO_LINK = [kind for kind in Kind if kind is not Kind.SYMLINK]
_FILES, _DIRECTORIES = [Kind.FILE], [Kind.DIRECTORY]

READ = Right("read", "open it for reading; list the names in a directory", _NO_LINK)
WRITE = Right("write", "open it for writing; add and remove names in a directory", _NO_LINK)
EXECUTE = Right("execute", "run it, so that it really runs", _FILES)
TRAVERSE = Right("traverse", "enter a directory, and use a name in it", _DIRECTORIES)
LIST = Right("list", "list the names in a directory", _DIRECTORIES, with_right=READ)
APPEND = Right("append", "open it for adding at its end", _FILES, with_right=WRITE)
CREATE = Right(
    "create",
    "make a name in a directory; open what is there for writing as if to make it",
    _NO_LINK,
    by_name=True,
    with_right=WRITE,
)
DELETE = Right("delete", "remove its name", Kind, by_object=False, by_name=True)
RENAME = Right("rename", "give it another name", Kind, by_object=False, by_name=True, with_right=DELETE)
CHANGE_MODE = Right("change-mode", "change its mode and its access list", _NO_LINK)
CHANGE_OWNER = Right("change-owner", "give it to another user", _NO_LINK)
CHANGE_GROUP = Right("change-group", "give it another group", _NO_LINK)

BASIC = (READ, WRITE, EXECUTE, TRAVERSE)
"""The rights that are shown where none is asked for, in their order."""

ALL = (*BASIC, LIST, APPEND, CREATE, DELETE, RENAME, CHANGE_MODE, CHANGE_OWNER, CHANGE_GROUP)
"""Every right that can be asked about. Effects count all of them."""

CHANGING = (WRITE, APPEND, CREATE, DELETE, RENAME)
"""The rights by which something becomes another, or goes."""

_BY_NAME = {right.name: right for right in ALL}


def right_named(word: str) -> Right:
    """The right called ``word``; :class:`NotationError` that lists them where there is none."""
    found = _BY_NAME.get(word)
    if found is None:
        raise NotationError(word, f"{quoted(word)} is no right{near(word, _BY_NAME)}; these are: {', '.join(_BY_NAME)}")
    return found

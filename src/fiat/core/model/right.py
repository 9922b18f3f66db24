"""Rights: what can be asked about, on which kinds of objects, and what decides. Each is one row.

A right is decided by the object itself, by its name in the directory that
holds it, or by both: deleting is the directory's matter, and opening a file
with O_CREAT asks both (open(2), unlink(2), proc_sys_fs(5)). The checks that the
kernel makes for it are bound to it in :mod:`fiat.core.rules.access`.
"""

from collections.abc import Iterable, Mapping
from typing import final

from fiat.core.errors import NotationError
from fiat.core.model import mode
from fiat.core.model.posture import Kind
from fiat.core.text import near, quoted


@final
class Right:
    """One right; there is one object for each, so rights are compared by identity.

    ``kinds`` are the kinds of objects that it means something on. ``by_object``
    and ``by_name`` tell what decides: one of them must, or ValueError is raised.
    ``permission`` is the one that the classes of an object must grant for it, 0 for a right that they do not decide;
    ``by_owner`` tells that whoever owns the object has it.

    ``with_right`` names a right that this one nearly always goes with: where a person is told who gains and who
    loses, it is mentioned only on paths where it does not. What a change costs others is counted in the rights that
    are ``counted``; ``counts_as`` is the one of these that stands for this right. ``implies`` are rights that whoever
    is given this one is given with it.

    ``phrase`` is the right as a verb for a sentence, ``phrase_on`` where an object's kind makes it another, and
    ``heading_on`` the heading of a column about objects of that kind, elsewhere the name.
    """

    __slots__ = (
        "about",
        "by_name",
        "by_object",
        "by_owner",
        "counted",
        "counts_as",
        "heading_on",
        "implies",
        "kinds",
        "name",
        "permission",
        "phrase",
        "phrase_on",
        "with_right",
    )

    def __init__(
        self,
        name: str,
        about: str,
        kinds: Iterable[Kind],
        *,
        permission: int = 0,
        by_object: bool = True,
        by_name: bool = False,
        by_owner: bool = False,
        with_right: "Right | None" = None,
        counted: bool = False,
        counts_as: "Right | None" = None,
        implies: "tuple[Right, ...]" = (),
        phrase: str = "",
        phrase_on: Mapping[Kind, str] | None = None,
        heading_on: Mapping[Kind, str] | None = None,
    ) -> None:
        if not by_object and not by_name:
            raise ValueError(f"nothing decides the right {name}, so that everybody would have it")
        self.name = name
        self.about = about
        self.kinds = frozenset(kinds)
        self.permission = permission
        self.by_object = by_object
        self.by_name = by_name
        self.by_owner = by_owner
        self.with_right = with_right
        self.counted = counted
        self.counts_as = counts_as or self
        self.implies = implies
        self.phrase = phrase or name
        self.phrase_on = phrase_on or {}
        self.heading_on = heading_on or {}

    def applies(self, kind: Kind) -> bool:
        """Whether it means something on an object of this kind."""
        return kind in self.kinds

    @property
    def by_name_alone(self) -> bool:
        """Whether the directory that holds the name decides, and the object itself is not asked."""
        return self.by_name and not self.by_object

    def permissions_on(self, kind: Kind) -> int:
        """The permissions that one entry must hold together for it, on an object of this kind.

        To add and remove names in a directory takes write and traverse at once. KeyError for a right that the
        classes do not decide.
        """
        if not self.permission:
            raise KeyError(self)
        names = self.permission == mode.WRITE and (kind is Kind.DIRECTORY or not self.by_object)
        return mode.WRITE | mode.EXECUTE if names else self.permission

    def __repr__(self) -> str:
        return f"<right {self.name}>"

    def __str__(self) -> str:
        return self.name

    def __reduce__(self) -> tuple[object, ...]:
        return right_named, (self.name,)


_NO_LINK = [kind for kind in Kind if kind is not Kind.SYMLINK]
_FILES, _DIRECTORIES = [Kind.FILE], [Kind.DIRECTORY]

_IN_DIRECTORY = Kind.DIRECTORY

READ = Right(
    "read",
    "open it for reading; list the names in a directory",
    _NO_LINK,
    permission=mode.READ,
    counted=True,
    phrase_on={_IN_DIRECTORY: "list the names in"},
    heading_on={_IN_DIRECTORY: "list"},
)
TRAVERSE = Right(
    "traverse", "enter a directory, and use a name in it", _DIRECTORIES, permission=mode.EXECUTE, counted=True
)
WRITE = Right(
    "write",
    "open it for writing; add and remove names in a directory",
    _NO_LINK,
    permission=mode.WRITE,
    counted=True,
    implies=(TRAVERSE,),
    phrase_on={_IN_DIRECTORY: "add or remove names in", Kind.SOCKET: "connect to"},
    heading_on={_IN_DIRECTORY: "add, remove"},
)
EXECUTE = Right(
    "execute", "run it, so that it really runs", _FILES, permission=mode.EXECUTE, counted=True, implies=(READ,)
)
LIST = Right(
    "list",
    "list the names in a directory",
    _DIRECTORIES,
    permission=mode.READ,
    with_right=READ,
    counts_as=READ,
    phrase="list the names in",
)
APPEND = Right(
    "append",
    "open it for adding at its end",
    _FILES,
    permission=mode.WRITE,
    with_right=WRITE,
    counts_as=WRITE,
    phrase="append to",
)
CREATE = Right(
    "create",
    "make a name in a directory; open what is there for writing as if to make it",
    _NO_LINK,
    permission=mode.WRITE,
    by_name=True,
    with_right=WRITE,
    counts_as=WRITE,
    implies=(TRAVERSE,),
    phrase_on={**dict.fromkeys(Kind, "open for writing, creating it,"), _IN_DIRECTORY: "add names in"},
    heading_on={_IN_DIRECTORY: "add"},
)
DELETE = Right("delete", "remove its name", Kind, permission=mode.WRITE, by_object=False, by_name=True)
RENAME = Right(
    "rename", "give it another name", Kind, permission=mode.WRITE, by_object=False, by_name=True, with_right=DELETE
)
CHANGE_MODE = Right(
    "change-mode",
    "change its mode and its access list",
    _NO_LINK,
    by_owner=True,
    counted=True,
    phrase="change the mode of",
)
CHANGE_OWNER = Right("change-owner", "give it to another user", _NO_LINK, phrase="change the owner of")
CHANGE_GROUP = Right("change-group", "give it another group", _NO_LINK, by_owner=True, phrase="change the group of")

BASIC = (READ, WRITE, EXECUTE, TRAVERSE)
"""The rights that are shown where none is asked for, in their order."""

ALL = (*BASIC, LIST, APPEND, CREATE, DELETE, RENAME, CHANGE_MODE, CHANGE_OWNER, CHANGE_GROUP)
"""Every right that can be asked about. Effects count all of them."""

COUNTED = tuple(right for right in ALL if right.counted)
"""The rights in which it is counted what a change costs: the others go with these, or with the directory's."""

CHANGING = (WRITE, APPEND, CREATE, DELETE, RENAME)
"""The rights by which something becomes another, or goes."""

_BY_NAME = {right.name: right for right in ALL}


def right_named(word: str) -> Right:
    """The right called ``word``; :class:`NotationError` that lists them where there is none."""
    found = _BY_NAME.get(word)
    if found is None:
        raise NotationError(word, f"{quoted(word)} is no right{near(word, _BY_NAME)}; these are: {', '.join(_BY_NAME)}")
    return found

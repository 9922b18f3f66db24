"""Which objects of a tree are meant: kind, name, owner, group, and what their posture has."""

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model.accesslist import Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import SPECIAL_BITS
from fiat.core.model.posture import FLAGS, Kind, Object, Posture
from fiat.core.text import near, quoted

WORDS = {
    "list": "an access list",
    "default-list": "a default list",
    "capabilities": "file capabilities",
    **{flag: f"the {flag} flag" for flag in FLAGS},
    "no-owner": "an owner without an account",
    "no-group": "a group without a name",
    **{special.name: special.name for special in SPECIAL_BITS},
}
"""What ``--with`` takes beside modes, with what each means."""

_BIT_WORDS = {special.name: special.bit for special in SPECIAL_BITS}


ENTRY_FOR = "entry-for:"
"""What stands before a name: an entry that names this user or group, in the access list or in the default list."""


class Feature(NamedTuple):
    """Something that a posture may have: all of these bits, all of ``has``, which are keys of :data:`WORDS`, and an
    entry for one of ``named``, where there are any: users and groups by number.
    """

    bits: int = 0
    has: tuple[str, ...] = ()
    named: tuple[tuple[Tag, int], ...] = ()

    def of(self, posture: Posture, accounts: Accounts) -> bool:
        """Whether ``posture`` has all the bits and all else that the feature names."""
        if posture.mode & self.bits != self.bits or (self.bits and posture.kind is Kind.SYMLINK):
            return False  # a symlink's letters decide nothing, so it has none of them
        if self.named and not any(entry in self.named for entry in _named_in(posture)):
            return False
        return all(_has(word, posture, accounts) for word in self.has)


class Selection(NamedTuple):
    """All that is set must hold: all features of ``every``, one of ``any_of``, none of ``none_of``."""

    only: str | None = None
    name: str | None = None
    uid: int | None = None
    gid: int | None = None
    every: tuple[Feature, ...] = ()
    any_of: tuple[Feature, ...] = ()
    none_of: tuple[Feature, ...] = ()

    def on(self, accounts: Accounts) -> "HostSelection":
        """This selection on a host with these accounts."""
        return HostSelection(self, accounts)

    @property
    def everything(self) -> bool:
        """Whether nothing is left out."""
        return self == Selection()

    def takes(self, object_: Object, accounts: Accounts) -> bool:
        """Whether ``object_`` is meant, by its posture and by its name."""
        return self.takes_posture(object_.posture, accounts) and all(
            self.takes_names([object_.path.rpartition("/")[2]])
        )

    def takes_names(self, names: Sequence[str]) -> list[bool]:
        """Of each name whether what has it in its directory can be meant."""
        if self.name is None:
            return [True] * len(names)
        import fnmatch

        match = re.compile(fnmatch.translate(self.name)).match
        return [match(name) is not None for name in names]

    def takes_posture(self, posture: Posture, accounts: Accounts) -> bool:
        """Whether what has this posture can be meant."""
        if self.only is not None and posture.directory != (self.only == "dirs"):
            return False
        if self.uid is not None and posture.uid != self.uid:
            return False
        if self.gid is not None and posture.gid != self.gid:
            return False
        return (
            all(one.of(posture, accounts) for one in self.every)
            and (not self.any_of or any(one.of(posture, accounts) for one in self.any_of))
            and not any(one.of(posture, accounts) for one in self.none_of)
        )


class HostSelection(NamedTuple):
    """A selection with the accounts that tell which owners have none."""

    selection: Selection
    accounts: Accounts

    @property
    def looks_at_names(self) -> bool:
        """Whether the selection chooses by names."""
        return self.selection.name is not None

    @property
    def looks_at_postures(self) -> bool:
        """Whether the selection chooses by postures."""
        return self.selection._replace(name=None) != Selection()

    def takes_posture(self, posture: Posture) -> bool:
        """Whether what has this posture can be meant."""
        return self.selection.takes_posture(posture, self.accounts)

    def takes_names(self, names: Sequence[str]) -> list[bool]:
        """Of each name whether what has it in its directory can be meant."""
        return self.selection.takes_names(names)


def _named_in(posture: Posture) -> Iterable[tuple[Tag, int]]:
    for one in (posture.acl, posture.default):
        for entry in one.entries if one is not None else ():
            if entry.id is not None:
                yield entry.tag, entry.id


def features(words: Iterable[str], accounts: Accounts) -> tuple[Feature, ...]:
    """The features for what was written after ``--with`` and the like, one for each word.

    A word is one of :data:`WORDS`, or several of them with commas between; octal bits
    (``4000``, ``0022``); or clauses that only add (``o+w``, ``u+s,o+x``): the mode must
    have all that they would add; or ``entry-for:NAME``, a user or a group. Raises :class:`NotationError`, or
    :class:`fiat.core.errors.UnknownAccount`.
    """
    found: list[Feature] = []
    for word in words:
        if word.startswith(ENTRY_FOR):
            found.append(Feature(named=_named(word.removeprefix(ENTRY_FOR), accounts)))
            continue
        parts = word.split(",")
        if all(part in WORDS for part in parts):
            found += [Feature(_BIT_WORDS[part]) if part in _BIT_WORDS else Feature(has=(part,)) for part in parts]
        else:
            found.append(Feature(_bits(word)))
    return tuple(found)


def _named(word: str, accounts: Accounts) -> tuple[tuple[Tag, int], ...]:
    """Whom entries are to be for: a user, a group, or both where both have the name; ``user:`` and ``group:`` tell."""
    kind, colon, name = word.partition(":")
    if colon and kind in ("user", "group"):
        if kind == "user":
            return ((Tag.NAMED_USER, accounts.user_id(name)),)
        return ((Tag.NAMED_GROUP, accounts.group_id(name)),)
    user, group = accounts.user_named(word), accounts.group_named(word)
    if user is None and (group is None or not word):
        return ((Tag.NAMED_USER, accounts.user_id(word)),)  # a number, or the error that says what is right
    return (
        *(() if user is None else ((Tag.NAMED_USER, user.uid),)),
        *(() if group is None else ((Tag.NAMED_GROUP, group.gid),)),
    )


def _bits(word: str) -> int:
    try:
        from fiat.core.model.modechange import parse_change

        change = parse_change(word)
    except NotationError as error:
        choices = ", ".join((*WORDS, "entry-for:NAME"))
        text = f"{quoted(word)} is nothing to look for{near(word, WORDS)}; bits such as o+w or 4000 are, and {choices}"
        raise NotationError(word, text) from error
    if any(action.operator != "+" or action.copy for clause in change.clauses for action in clause.actions):
        raise NotationError(
            word, f"{quoted(word)} takes away or copies; to look for bits write them with +, such as o+w"
        )
    return change.apply(0, directory=False)


def _has(word: str, posture: Posture, accounts: Accounts) -> bool:
    if word == "list":
        return posture.acl is not None
    if word == "default-list":
        return posture.default is not None
    if word == "capabilities":
        return posture.capabilities is not None
    if word == "no-owner":
        return accounts.has_no_user(posture.uid)
    if word == "no-group":
        return accounts.has_no_group(posture.gid)
    return word in (posture.flags or ())

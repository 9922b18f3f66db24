"""Expectations, as values."""

from typing import NamedTuple

from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import Chosen
from fiat.core.model.principals import Universe
from fiat.core.model.right import Right


class Whom(NamedTuple):
    """Somebody who is named: ``kind`` is user, group (every member), anyone-else or everyone; ``word`` as it stands."""

    kind: str
    number: int
    word: str

    def among(self, universe: Universe, accounts: Accounts) -> int:
        """Who these are: users, and anyone else."""
        people = universe.of_kind("user") | universe.of_kind("anyone-else")
        if self.kind == "everyone":
            return people
        if self.kind == "anyone-else":
            return universe.of_kind("anyone-else")
        if self.kind == "user":
            return universe.with_uid(self.number) & people
        return universe.in_group(self.number) & people


class Demand(NamedTuple):
    """Who shall have a right: ``only`` these (None for: not said), ``always`` at least these, ``never`` these."""

    right: Right
    only: tuple[Whom, ...] | None = None
    always: tuple[Whom, ...] = ()
    never: tuple[Whom, ...] = ()


class Stated(NamedTuple):
    """What a posture shall be; None for what is not said."""

    uid: int | None = None
    gid: int | None = None
    mode: int | None = None
    file_mode: int | None = None
    dir_mode: int | None = None
    acl: AccessList | None = None
    no_acl: bool = False
    default: AccessList | None = None
    no_default: bool = False
    arrangement: Chosen | None = None

    def mode_for(self, *, directory: bool) -> int | None:
        """The mode of an object."""
        own = self.dir_mode if directory else self.file_mode
        return self.mode if own is None else own


class Expectation(NamedTuple):
    """One expectation: of ``paths``, or all ``below`` them too, but for names that match ``leaving_out``.

    ``may_replace`` are those who alone may replace what is there, or write to it (None for: not said).
    ``where`` says where it stands, for messages.
    """

    name: str
    paths: tuple[str, ...]
    below: bool
    leaving_out: tuple[str, ...]
    demands: tuple[Demand, ...]
    stated: Stated
    may_replace: tuple[Whom, ...] | None
    weight: str
    because: str
    where: str

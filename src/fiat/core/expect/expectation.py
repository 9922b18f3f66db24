"""Expectations, as values; and those that state a tree as it is, for a start."""

import errno
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree
from fiat.core.audit.evidence import NoEvidence
from fiat.core.errors import ExpectationError, PathError
from fiat.core.model import right as rights
from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import ArrangementChoice
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.principals import Universe, places
from fiat.core.model.right import Right
from fiat.core.text import quoted
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import Extent
from fiat.core.words import naming

_RIGHTS = (rights.READ, rights.WRITE)


class _Answers(NamedTuple):
    """Who may read, and who may write, anything in a tree; by the words for them."""

    read: tuple[str, ...]
    write: tuple[str, ...]


def statements(
    host: Host, paths: Sequence[str], problem: Callable[[PathError], None], progress: Progress = no_progress
) -> Iterator[str]:
    """The lines of a file of expectations that hold now: trees of which the same is so, together.

    What could not be looked at is a ``problem``: of that nothing is stated. Raises :class:`PathError` for a path that
    leads nowhere, :class:`ExpectationError` for one that is not UTF-8.
    """
    alike: dict[_Answers, list[str]] = {}
    for path in paths:
        if not path:
            raise PathError(path, errno.ENOENT)
        route, survey = survey_at(host, path, Extent(), progress)
        for trouble in survey.troubles:
            problem(PathError(trouble.path, trouble.errno))
        audited = AuditedTree(host, route, survey, NoEvidence(), _RIGHTS)
        answers = _Answers(*(_words(audited, right) for right in _RIGHTS))
        alike.setdefault(answers, []).append(survey.top.path)
    yield "# What is so now. Leave out who should not be there, and say why in because.\n"
    for answers, tops in alike.items():
        yield "\n[[expect]]\n"
        name = tops[0] + (f" and {len(tops) - 1} more" if len(tops) > 1 else "")
        yield f"name = {_toml(name)}\n"
        yield f"paths = [{', '.join(map(_toml, tops))}]\n"
        yield "below = true\n"
        for right, words in zip(_RIGHTS, answers, strict=True):
            yield f"{right.name} = {{ only = [{', '.join(map(_toml, words))}] }}\n"
        yield 'because = ""\n'


def _words(audited: AuditedTree, right: rights.Right) -> tuple[str, ...]:
    universe = audited.universe
    people = universe.of_kind("user") | universe.of_kind("anyone-else")
    found = 0
    for bits, _ in audited.by_people(np.arange(len(audited.survey)), right):
        found |= bits & people
    if found == people:
        return ("everyone",)
    return tuple(naming.word_for(who) for who in universe.members(found))


def _toml(text: str) -> str:
    """A basic string (TOML 1.0); what is not printable as an escape. A byte that is no UTF-8 has none there."""
    if any("\ud800" <= char <= "\udfff" for char in text):
        raise ExpectationError(f"{quoted(text)} cannot stand in a file of expectations: TOML holds nothing but UTF-8")
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(char if char.isprintable() else f"\\u{ord(char):04x}" for char in escaped) + '"'


class NamedPeople(NamedTuple):
    """Somebody who is named: ``kind`` is user, group (every member), anyone-else or everyone; ``word`` as it stands.

    A user is one account, called ``name``, or whoever has the number.
    """

    kind: str
    number: int
    word: str
    name: str | None = None

    def among(self, universe: Universe, accounts: Accounts) -> int:
        """Who these are: users, and anyone else."""
        people = universe.of_kind("user") | universe.of_kind("anyone-else")
        if self.kind == "everyone":
            return people
        if self.kind == "anyone-else":
            return universe.of_kind("anyone-else")
        if self.kind == "user":
            some = universe.with_uid(self.number) & people
            return some if self.name is None else _called(self.name, universe, some)
        return universe.in_group(self.number) & people


def _called(name: str, universe: Universe, some: int) -> int:
    """Those among ``some`` who have this name: of one number there may be several accounts."""
    return sum(1 << place for place in places(some) if universe.principals[place].name == name)


class Demand(NamedTuple):
    """Who shall have a right: ``only`` these (None for: not said), ``always`` at least these, ``never`` these."""

    right: Right
    only: tuple[NamedPeople, ...] | None = None
    always: tuple[NamedPeople, ...] = ()
    never: tuple[NamedPeople, ...] = ()


class StatedPosture(NamedTuple):
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
    arrangement: ArrangementChoice | None = None

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
    stated: StatedPosture
    may_replace: tuple[NamedPeople, ...] | None
    weight: str
    because: str
    where: str

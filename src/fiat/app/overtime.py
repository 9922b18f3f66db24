"""What a host was like at several times: of each snapshot how many can do what is asked for, how many dangers there
are, and how many expectations are broken."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from fiat.app.audit import audit, chosen_rules
from fiat.app.check import check, read_expectations
from fiat.app.compare import open_state
from fiat.app.fleet import snapshots_at
from fiat.app.hosts import arrive
from fiat.app.problems import Problem, raise_problem
from fiat.app.question import Question
from fiat.app.who import who
from fiat.core.errors import FiatError, NotationError, PathError
from fiat.core.model import capabilities
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.right import Right
from fiat.core.text import joined, natural_order, visible


class HowManyCan(NamedTuple):
    """Of one path and one right: how many ``users`` have it, root and its like aside; and whether ``anyone`` else has.

    ``open`` are as many of whom it is not known.
    """

    users: int
    anyone: bool
    open: int


class Moment(NamedTuple):
    """The host as one snapshot has it. ``can`` holds for each path and right an answer, None where there was nothing of
    this name; ``dangers`` and ``broken`` are None where they were not asked for, ``unknown`` are expectations of which
    it is not known."""

    taken: datetime
    snapshot: str
    can: dict[tuple[str, Right], HowManyCan | None]
    dangers: int | None
    broken: int | None
    unknown: int
    caveats: list[Finding]


class Asked(NamedTuple):
    """What is asked of each snapshot: who has which of ``rights`` on ``paths``; whether to look for ``dangers``; and
    the files of ``expectations``."""

    paths: tuple[str, ...]
    rights: tuple[str, ...]
    dangers: bool
    expectations: tuple[str, ...]


def over_time(
    places: Sequence[str],
    asked: Asked,
    *,
    problem: Problem = raise_problem,
    left_out: Callable[[str, str], None] = lambda place, why: None,
    progress: Callable[[int, int], None] = lambda done, whole: None,
) -> tuple[str, list[Moment]]:
    """The name of the host, and what it was like in each snapshot at ``places``, the oldest first.

    A snapshot that cannot be read is ``left_out``. Raises :class:`NotationError` where they are of several hosts, or of
    no known time, and :class:`SnapshotError` where there are none.
    """
    found = snapshots_at(places)
    names = sorted({name for name, _ in found}, key=natural_order)
    if len(names) > 1:
        text = f"{joined(map(visible, names[:4]))}{' and others' if len(names) > 4 else ''} are several hosts"
        raise NotationError(places[0], f"{text}: name the snapshots of one, as FOLDER/{visible(names[0])}")
    moments = []
    dated = sorted(((kept.taken, kept.path) for _, kept in found if kept.taken is not None), key=lambda one: one[0])
    for done, (taken, path) in enumerate(dated, 1):
        try:
            moments.append(_moment(taken, path, asked, problem))
        except (PathError, NotationError):
            raise
        except FiatError as error:
            left_out(path, str(error))
        progress(done, len(dated))
    return names[0], moments


def _moment(taken: datetime, path: str, asked: Asked, problem: Problem) -> Moment:
    state = open_state(path)
    host = state.host
    can = dict(_can(host, asked)) if asked.rights else {}
    caveats: list[Finding] = []
    dangers = broken = None
    unknown = 0
    if asked.dangers:
        tops = [top for top in asked.paths or state.tops or ("/",) if _is_there(host, top)]
        seen = audit(host, tops, chosen_rules(), weight="danger", problem=problem)
        dangers = len(seen.weighing("danger"))
        caveats += seen.caveats
    if asked.expectations:
        checked = check(host, read_expectations(asked.expectations, host), problem=problem)
        broken, unknown = len(checked.broken), len(checked.unknown)
    return Moment(taken, path, can, dangers, broken, unknown, caveats)


def _is_there(host: Host, path: str) -> bool:
    problems: list[PathError] = []
    return bool(list(arrive(host, [path], problems.append)))


def _can(host: Host, asked: Asked) -> Iterator[tuple[tuple[str, Right], HowManyCan | None]]:
    question = Question(host, rights=asked.rights)
    for path in asked.paths:
        problems: list[PathError] = []
        routes = list(arrive(host, [path], problems.append, missing=question.may_be_missing))
        if not routes:
            yield from (((path, one[0]), None) for one in question.asked)
            continue
        answer = who(question, routes[0]).answer
        universe = answer.universe
        users = universe.of_kind("user") & ~universe.holders_of(capabilities.DAC_OVERRIDE)
        for right, first in zip(answer.rights, (one[0] for one in question.asked), strict=True):
            allowed = answer.allowed[right]
            unsure = (answer.open[right] & users).bit_count()
            anyone = bool(allowed & universe.of_kind("anyone-else"))
            yield (path, first), HowManyCan((allowed & users).bit_count(), anyone, unsure)

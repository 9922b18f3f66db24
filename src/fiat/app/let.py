"""Letting and barring: from what is meant to the least change."""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from fiat.app import unevaluated
from fiat.app.change import Planned
from fiat.app.problems import Problem, failure, raise_problem
from fiat.core.ask import caveats
from fiat.core.change.making import make_plan
from fiat.core.errors import NotationError, PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.principals import Principal
from fiat.core.model.right import ALL
from fiat.core.model.route import Route
from fiat.core.model.shown import shown
from fiat.core.suggest.cost import Way
from fiat.core.suggest.goal import COUNT_LIMIT as COUNT_LIMIT
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.means import MEANS as MEANS
from fiat.core.suggest.search import First, SearchResult, search, to_know
from fiat.core.text import near, quoted
from fiat.core.tree.walk import walk
from fiat.core.words import who as who_words
from fiat.core.words.who import Asked, on_kind, parse_rights


class LetOptions(NamedTuple):
    """For the whole tree; by which means (all, if empty); who is to be spared any gain and any loss; and the rest as in
    :class:`fiat.core.suggest.goal.Terms`.
    """

    below: bool = False
    by: tuple[str, ...] = ()
    spare: tuple[str, ...] = ()
    exact: bool = False
    and_new: bool = False
    count_limit: int = COUNT_LIMIT
    cost_over: str | None = None

    def terms(self, host: Host) -> Terms:
        """The terms of the search that these options ask for; :class:`NotationError` for a word that is no means."""
        for word in self.by:
            if word not in MEANS:
                known = ", ".join(MEANS)
                raise NotationError(word, f"{quoted(word)} is no means{near(word, MEANS)}; these are: {known}")
        by = tuple(name for name in MEANS if name in self.by or not self.by)
        spare = tuple(who_words.parse(word, host) for words in self.spare for word in words.split(","))
        over = None
        if self.cost_over is not None:
            end = walk(host, self.cost_over).end
            if end is None:
                raise failure(walk(host, self.cost_over))
            over = end.path
        return Terms(by, spare, self.exact, self.and_new, self.count_limit, over)


class WaysToGoals(NamedTuple):
    """The ways to what is meant, and what is to be known besides."""

    found: SearchResult
    how: LetOptions
    notes: list[Finding]
    caveats: list[Finding]
    host: Host

    def __str__(self) -> str:
        return shown(self, repr)

    @property
    def best(self) -> Way | None:
        """The best way that Fiat can go itself."""
        return next((way for way in self.found.ways if way.plan is not None), None)


def meant(
    host: Host,
    who: str,
    right: str,
    paths: Iterable[str],
    how: LetOptions = LetOptions(),  # noqa: B008
    *,
    gives: bool,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
    first: First | None = None,
) -> WaysToGoals | None:
    """The ways after which all of ``who`` (with commas between) have each right on each path, or have not.

    ``first`` is told the entry way, as wishes by path, before what lies below is read to count costs.
    None where no path can be looked at.
    """
    people = [who_words.parse(word, host) for word in who.split(",")]
    asked = parse_rights([right])
    terms = how.terms(host)
    routes = list(_routes(host, paths, problem))
    goals = list(dict.fromkeys(goal for route in routes for goal in _goals(people, asked, route, how, gives=gives)))
    if not goals:
        return None
    found = search(host, goals, terms, progress, first)
    for trouble in found.troubles:
        problem(PathError(trouble.path, trouble.errno, hint="what is under it is left alone"))
    said = dict.fromkeys(
        (
            *(one for route in routes for one in caveats.of_route(route)),
            *unevaluated.of_host(host),
            *caveats.of_mounts_left_out(list(found.skipped)),
        )
    )
    notes = [] if found.already or found.why_not else list(to_know(host, found))
    return WaysToGoals(found, how, notes, list(said), host)


def _routes(host: Host, paths: Iterable[str], problem: Problem) -> Iterator[Route]:
    for path in paths:
        if not path:
            problem(PathError(path, 2))
            continue
        route = walk(host, path)
        if route.end is None:
            problem(failure(route))
        else:
            yield route


def _goals(
    people: Sequence[Principal], asked: Sequence[Asked], route: Route, how: LetOptions, *, gives: bool
) -> Iterator[Goal]:
    """One for each of them; a name that is to be removed is itself meant, and not what it leads to."""
    assert route.end is not None
    for who in people:
        for one in asked:
            for right in one if how.below else (on_kind(one, route.end.posture.kind),):
                if (how.below or how.and_new) and not right.permission:
                    known = ", ".join(one.name for one in ALL if one.permission)
                    where = "for a whole tree" if how.below else "of what is made there later"
                    text = f"{right.name} goes with owning it; {where} these can be meant: {known}"
                    raise NotationError(right.name, text)
                goal = Goal(who, right, route.end.path, gives, how.below)
                yield goal._replace(path=route.asked) if goal.names_itself else goal


def planned(found: WaysToGoals, way: Way) -> Planned:
    """A way as a plan of the one who acts, that can be shown and carried out as ``set`` does."""
    assert way.plan is not None
    targets = [part.target for part in way.plan.parts]
    made = make_plan(found.host, targets, most=found.how.count_limit)
    return Planned(made, targets, list(made.caveats), found.host)

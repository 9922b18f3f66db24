"""The door to the search: every way to some goals, the best first, or why there is none."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.principals import Principal
from fiat.core.model.right import Right
from fiat.core.rules.check import Verdict
from fiat.core.suggest.cost import Way
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.members import members_of
from fiat.core.suggest.newfiles import for_new
from fiat.core.suggest.terms import Terms
from fiat.core.suggest.treeways import SearchingTrees
from fiat.core.suggest.ways import ROOT, First, Searching, ask, impossible, worth_telling
from fiat.core.text import visible
from fiat.core.tree.trouble import Trouble
from fiat.core.tree.walk import route_for, walk
from fiat.core.tree.walked import Walked, end_without_links


class Found(NamedTuple):
    """The ways to ``goals``, the best first; ``already`` where nothing is to be done, ``why_not`` where nothing can be.

    ``left`` are the goals that are not so yet, and ``verdicts`` what is so of each of them now; with trees, of
    their tops. ``missing`` counts the paths of trees where a goal is not so yet, ``others_left`` tells that
    ways by other means were not looked for. ``members`` are those of a group for whom it is not so, though it is for
    the group. ``skipped`` are mounts in trees that
    were left out, ``troubles`` what of them could not be looked at.
    """

    goals: tuple[Goal, ...]
    already: bool
    why_not: str
    ways: list[Way]
    verdicts: tuple[Verdict, ...]
    left: tuple[Goal, ...] = ()
    missing: int = 0
    others_left: bool = False
    members: tuple[Principal, ...] = ()
    skipped: tuple[str, ...] = ()
    troubles: tuple[Trouble, ...] = ()

    @property
    def goal(self) -> Goal:
        """The first goal."""
        return self.goals[0]


def search(
    host: Host,
    goals: Sequence[Goal],
    terms: Terms = Terms(),  # noqa: B008
    progress: Progress = no_progress,
    first: First | None = None,
) -> Found:
    """Every way to all of ``goals``, which give or take together, for single paths or for trees.

    Of single paths, ``first`` is told the entry way at once, before costs are counted. Raises :class:`PathError`
    where something is another object than it was a moment ago: nothing is proposed for what was put in its place.
    """
    goals = tuple(goals)
    walked = _walked(host, goals)
    verdicts = tuple(ask(host, goal) for goal in goals)
    found = Found(goals, False, "", [], verdicts)
    if goals[0].below:
        trees = SearchingTrees(host, goals, terms, walked, progress)
        surveys = [tree.survey for tree in trees.trees]
        found = found._replace(
            left=tuple(trees.left),
            missing=trees.missing,
            skipped=tuple(point for survey in surveys for point in survey.skipped),
            troubles=tuple(trouble for survey in surveys for trouble in survey.troubles),
        )
        if not trees.left:
            return found._replace(already=True)
        searching: Searching | SearchingTrees = trees
    else:
        members = {goal: _wrong_members(host, goal) for goal in goals}
        left = [
            goal
            for goal, verdict in zip(goals, verdicts, strict=True)
            if verdict.allowed is not goal.gives or members[goal] or (terms.and_new and _misses_new(host, goal))
        ]
        found = found._replace(left=tuple(left))
        if len(goals) == 1 and verdicts[0].allowed is goals[0].gives:
            found = found._replace(members=members[goals[0]])
        if not left:
            return found._replace(already=True)
        searching = Searching(host, goals, terms, walked, progress, first)
    for goal, verdict in zip(goals, verdicts, strict=True):
        wrong = goal in found.left and (verdict.allowed is not goal.gives or goal.below)
        why_not = "" if not wrong or (goal.below and goal.gives) else impossible(goal, verdict)
        if why_not:
            return found._replace(why_not=why_not if len(goals) == 1 else f"{_said(goal)}: {why_not}")
    ways = list(searching.ways())
    kept = [way for way in ways if terms.spares(_movers(way))]
    if ways and not kept:
        return found._replace(why_not="each way would move something for who is to be spared")
    kept = worth_telling(kept)
    found = found._replace(others_left=isinstance(searching, SearchingTrees) and searching.others_left)
    return found._replace(ways=kept, why_not="" if kept else searching.why_none())


def _walked(host: Host, goals: Sequence[Goal]) -> Walked:
    """What is on the way of the goals; :class:`PathError` where a path that was real leads through a link by now."""
    walked = Walked()
    for goal in goals:
        route = route_for(host, goal.path, goal.right)
        if route.end is not None and not goal.names_itself:
            end_without_links(route)
        walked.add(route)
    return walked


def _wrong_members(host: Host, goal: Goal) -> tuple[Principal, ...]:
    """The members of a group for whom it is not so, since another class decides for them."""
    members = members_of(goal.who, host.accounts).principals if goal.who.kind == "group" else ()
    return tuple(member for member in members if ask(host, goal, member).allowed is not goal.gives)


def _misses_new(host: Host, goal: Goal) -> bool:
    """Whether what is made later in the directory that a goal is for would not follow."""
    end = walk(host, goal.path).end
    return end is not None and for_new(end, goal, ROOT, host.settings.umask) is not None


def _said(goal: Goal) -> str:
    right: Right = goal.right
    return f"{right} at {visible(goal.path)}"


def _movers(way: Way) -> set[tuple[object, ...]]:
    return {shift.principal.identity for shift in (*way.gains, *way.losses)}

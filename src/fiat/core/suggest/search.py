"""The door to the search: every way to some goals, the best first, or why there is none; and what is to be known
besides."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from fiat.core.model import right as rights
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import Right
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.suggest.cost import Way
from fiat.core.suggest.forecast import for_new
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.memberships import members_of
from fiat.core.suggest.needs import ROOT, ask, impossible
from fiat.core.suggest.treeways import SearchingTrees
from fiat.core.suggest.ways import First, Searching, worth_telling
from fiat.core.text import counted, joined, shell_word, visible
from fiat.core.tree.reading import Walked, end_without_links
from fiat.core.tree.walk import Trouble, inside, names_in, open_end, route_for, walk
from fiat.core.words import naming


class SearchResult(NamedTuple):
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
        """The first goal, whose direction all of them share."""
        return self.goals[0]


def search(
    host: Host,
    goals: Sequence[Goal],
    terms: Terms = Terms(),  # noqa: B008
    progress: Progress = no_progress,
    first: First | None = None,
) -> SearchResult:
    """Every way to all of ``goals``, which give or take together, for single paths or for trees.

    Of single paths, ``first`` is told the entry way at once, before costs are counted. Raises :class:`PathError`
    where something is another object than it was a moment ago: nothing is proposed for what was put in its place.
    """
    goals = tuple(goals)
    walked = _walked(host, goals)
    verdicts = tuple(ask(host, goal) for goal in goals)
    found = SearchResult(goals, False, "", [], verdicts)
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


_MOST_NAMES = 10_000
"""In a directory with more names, other names of a file are not looked for."""


def to_know(host: Host, found: SearchResult) -> Iterator[Finding]:
    """What holds for the best way, for what its goals are about, each thing once."""
    said: dict[Finding, None] = {}
    for goal in found.left:
        end = walk(host, goal.path).end
        if end is not None:
            said |= dict.fromkeys(_to_let(found, goal, end) if goal.gives else _to_bar(host, goal, end))
    if found.ways and not found.goal.gives and (owners := _owners_among(found.ways[0])):
        text = f"{joined(naming.user(uid, host.accounts) for uid in owners)} can give it back to themselves, as owner"
        said[Finding("owner", "odd", text)] = None
    if found.ways and found.goal.gives and found.ways[0].for_new:
        text = "a program that asks for 0600 shuts the group class of what it makes there, and with it each entry"
        said[Finding("asking-less", "plain", text)] = None
    if found.others_left:
        text = "other means were not looked at, for the objects are of very many kinds; --by MEANS asks for one"
        said[Finding("others-left", "plain", text)] = None
    yield from said


def _owners_among(way: Way) -> list[int]:
    """Those members of a group whose own files are taken from them."""
    changes = () if way.plan is None else (planned.change for planned in way.plan.changes)
    owners = {change.after.uid for change in changes if change.changes}
    return [uid for uid in way.members if uid in owners]


def _to_let(found: SearchResult, goal: Goal, end: Object) -> Iterator[Finding]:
    yield from _elsewhere(end)
    if not found.ways or goal.below:
        return
    entries = any(wish.access.entries and path == goal.path for path, wish in found.ways[0].steps)
    if entries and end.posture.kind is Kind.FILE:
        folder = shell_word(goal.path.rpartition("/")[0] or "/")
        text = f"a program that replaces the file by a new one loses the entry: a default entry on {folder} keeps it"
        yield Finding("replaced", "plain", text, goal.path)


def _to_bar(host: Host, goal: Goal, end: Object) -> Iterator[Finding]:
    if goal.right.by_owner:
        yield from _elsewhere(end)
        return
    who = naming.principal(goal.who)
    if goal.who.uid is not None and goal.who.uid == end.posture.uid:
        yield Finding("owner", "odd", f"{who} owns it and can give it back to themselves; --by owner takes that too")
    parent = walk(host, goal.path).parent
    if parent is not None and not goal.right.by_name_alone and not goal.below:
        route = route_for(host, goal.path, rights.DELETE)
        if Access(Universe([goal.who]), host.settings).allowed(route, rights.DELETE):
            text = f"{who} can replace it, for names in {visible(parent.path)} are theirs to change"
            directory = f"fiat bar {shell_word(naming.word_for(goal.who))} write {shell_word(parent.path)}"
            text = f"{text}: this holds for the file that is there now; {directory} takes that as well"
            yield Finding("replaceable", "odd", text, goal.path)
    if end.status.links > 1 and not end.posture.directory:
        yield Finding("all-names", "plain", _all_names(host, end), end.path)
    yield from _elsewhere(end)
    yield Finding("open-files", "plain", "processes that have it open keep what they have until they close it")


def _all_names(host: Host, end: Object) -> str:
    """What is said of the other names of a file: those beside it are looked for."""
    others = list(_names_beside(host, end))
    such = f", such as {joined(visible(one) for one in others[:3])}" if others else ""
    left = end.status.links - 1 - len(others)
    rest = f"; {counted(left, 'more name')} of it {'is' if left == 1 else 'are'} somewhere else" if left > 0 else ""
    return f"it holds for all {end.status.links} names of it{such}{rest}"


def _names_beside(host: Host, end: Object) -> Iterator[str]:
    folder = end.path.rpartition("/")[0] or "/"
    node = open_end(host, folder)[1]
    if node is None:
        return
    try:
        names = names_in(node, [])
        if len(names) <= _MOST_NAMES:
            for child, one in inside(node, sorted(names), []):
                child.close()
                if one.path != end.path and one.status.identity.inode == end.status.identity.inode:
                    yield one.path
    finally:
        node.close()


def _elsewhere(end: Object) -> Iterator[Finding]:
    """Other mounts by which the same is reached."""
    others = end.mount.elsewhere(end.path) if end.mount is not None else []
    if others:
        where = joined(visible(path) for path in others[:3])
        text = f"the same is also at {where}: what is changed of it here is changed there, but the way there is another"
        yield Finding("other-mounts", "plain", text, end.path, len(others))

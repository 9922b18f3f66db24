"""The search for the least change that gives somebody a right, or takes it: every way, and what each costs others.

A way is a set of changes of the objects that goals are for and of directories on the way there, or one membership,
after which the kernel's answer is the one that is wanted. What may be one is proposed by the goals for paths alone, or
for trees; each proposal is made a plan before it is told: what it costs comes from the effects of that plan, the same
that any change has.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from fiat.core.ask.effects import Effects, effects_at
from fiat.core.change.making import make_plan
from fiat.core.change.plan import Surveys
from fiat.core.model import right as rights
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import Right
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Verdict
from fiat.core.suggest.cost import Way, way_of
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.means import MEANS
from fiat.core.suggest.memberships import effects_of_membership, membership_ways
from fiat.core.suggest.needs import ROOT, ask, impossible
from fiat.core.suggest.pathgoals import PathGoals
from fiat.core.suggest.proposal import Proposal
from fiat.core.suggest.treegoals import TreeGoals
from fiat.core.text import counted, joined, shell_word, visible
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.reading import Walked, end_without_links, survey_at
from fiat.core.tree.walk import Extent, Trouble, inside, names_in, open_end, route_for, walk
from fiat.core.words import naming

First = Callable[[Sequence[tuple[str, Wish]]], None]
"""Is told of the entry way, by its wishes by path, before what lies below is read to count what the ways cost."""


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
    surveys: Surveys = {}
    sought: PathGoals | TreeGoals
    if goals[0].below:
        sought = TreeGoals(host, goals, terms, walked, surveys, progress)
    else:
        sought = PathGoals(host, goals, terms, walked)
    found = SearchResult(
        goals,
        not sought.left,
        "",
        [],
        verdicts,
        sought.left,
        sought.missing,
        members=sought.members,
        skipped=sought.skipped,
        troubles=sought.troubles,
    )
    if found.already:
        return found
    for goal, verdict in zip(goals, verdicts, strict=True):
        wrong = goal in found.left and (verdict.allowed is not goal.gives or goal.below)
        why_not = "" if not wrong or (goal.below and goal.gives) else impossible(goal, verdict)
        if why_not:
            return found._replace(why_not=why_not if len(goals) == 1 else f"{_said(goal)}: {why_not}")
    searching = _Search(host, sought, terms, surveys, progress, first)
    ways = list(searching.ways())
    kept = [way for way in ways if terms.spares(_movers(way))]
    if ways and not kept:
        return found._replace(why_not="each way would move something for who is to be spared")
    kept = _worth_telling(kept)
    return found._replace(ways=kept, why_not="" if kept else sought.why_none(), others_left=searching.others_left)


class _Search:
    """Looks for ways to goals; what lies under changed directories is read once for all of them.

    ``others_left`` tells afterwards that one way was enough, and others were not looked for.
    """

    def __init__(
        self,
        host: Host,
        sought: PathGoals | TreeGoals,
        terms: Terms,
        surveys: Surveys,
        progress: Progress,
        first: First | None,
    ) -> None:
        self.host = host
        self.sought = sought
        self.terms = terms
        self.progress = progress
        self.first = first
        self.surveys = surveys
        self.others_left = False
        self._known: set[object] = set()

    def ways(self) -> Iterator[Way]:
        """Each way, as its goals propose them; then each membership."""
        sought = self.sought
        for proposal in sought.proposals():
            way = self._way(proposal)
            if way is None:
                continue
            yield way
            if way.tree and sought.is_enough(way.cost):
                self.others_left = True
                break
        if "membership" in self.terms.by:
            yield from membership_ways(
                self.host, sought.goals, sought.postures(), sought.holds, self._effects_of_membership
            )

    def _way(self, proposal: Proposal) -> Way | None:
        """The way that is proposed, if its plan is another one than before and really leads to the goals."""
        if self.first is not None and not proposal.edits and all(MEANS[name].own for name in proposal.names):
            self.first(proposal.drafting.steps)
            self.first = None
        made = make_plan(
            self.host,
            proposal.targets(),
            progress=self.progress,
            surveys=self.surveys,
            actor=ROOT,
            most=self.terms.most,
        )
        outcomes = tuple((planned.profile, planned.change.after) for planned in made.changes)
        if outcomes in self._known:
            return None
        self._known.add(outcomes)
        covered = self.sought.covered(proposal, made, HostAsIf(self.host, Supposition(made.postures_after())))
        if covered is None or made.effects is None:
            return None
        short, meant = covered
        return way_of(
            self.host, self.sought.goals, proposal.draft(made, short), made.effects, meant, self.sought.makers
        )

    def _effects_of_membership(self, then: Host) -> Effects:
        """What a membership does, as far as was read for the other ways; of the paths alone where nothing was."""
        over = self.terms.cost_over
        if over is not None and (over, Extent()) not in self.surveys:
            extent = Extent(entry_limit=self.terms.most)
            self.surveys[over, Extent()] = survey_at(self.host, over, extent, self.progress)[1]
        if not self.surveys:
            return effects_at(self.host, then, self.sought.goals[0].path)
        return effects_of_membership(self.host, then, self.surveys)


def _worth_telling(ways: list[Way]) -> list[Way]:
    """The ways, the best first, without those that do more than another one, and are no better for it.

    What covers more of what is meant comes first; what makes somebody owner against a guard comes last. Of those that
    are about the same entries, owners and groups at the same paths, the best is enough.
    """
    ways = sorted(ways, key=_rank)
    best: dict[object, Way] = {}
    for way in ways:
        best.setdefault((way.means, way.membership, way.tree and way.cost, *map(_about, way.steps)), way)
    return [
        way
        for way in best.values()
        if not any({*one.means} < {*way.means} and one.cost[:8] <= way.cost[:8] and not one.short for one in ways)
    ]


def _rank(way: Way) -> tuple[object, ...]:
    """How early a way is told: by what it lacks, then by what it costs; among those that open nothing to anyone else,
    what a guard would refuse comes last, and of that what makes somebody owner."""
    refused = way.plan is not None and bool(way.plan.guards)
    objected = refused + (refused and way.cost.by_owner)
    return sum(one.paths for one in way.short), way.cost.against, way.cost.anyone_else, objected, way.cost


def _about(step: tuple[str, Wish]) -> tuple[object, ...]:
    """What one change is about: where, and whose entries, which owner, which group."""
    path, wish = step
    entries = {(one.entry.tag, one.entry.id) for one in wish.access.entries}
    entries |= {(entry.tag, entry.id) for entry in wish.access.remove}
    return path, wish.uid, wish.gid, frozenset(entries)


def _walked(host: Host, goals: Sequence[Goal]) -> Walked:
    """What is on the way of the goals; :class:`PathError` where a path that was real leads through a link by now."""
    walked = Walked()
    for goal in goals:
        route = route_for(host, goal.path, goal.right)
        if route.end is not None and not goal.names_itself:
            end_without_links(route)
        walked.add(route)
    return walked


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
    if not goal.right.by_name_alone:  # a name is not held open
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

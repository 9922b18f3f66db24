"""Goals for whole trees: where they are not so, and what may lead there: each object its own change, and the route
to the top.

What becomes of an object depends on its posture and on what it is run with, so each profile is worked out once.
"""

import os
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.treeeffects import Asker, Pair, View
from fiat.core.ask.treeeffects import effects as tree_effects
from fiat.core.ask.why import RULE_WORDS
from fiat.core.change.plan import Plan, Surveys
from fiat.core.change.planned import Item
from fiat.core.model import right as rights
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal, Universe, of_accounts
from fiat.core.model.right import Right
from fiat.core.rules.access import Access
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.suggest.cost import Cost, Meant
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.forecast import for_new
from fiat.core.suggest.goal import Goal, Terms, implied_by
from fiat.core.suggest.later import Makers
from fiat.core.suggest.means import MEANS
from fiat.core.suggest.memberships import (
    members_of,
)
from fiat.core.suggest.needs import ROOT, ask, impossible
from fiat.core.suggest.pathedits import PathEdits
from fiat.core.suggest.proposal import Proposal
from fiat.core.suggest.treeedits import GoalTree, Preference, TreeEdits
from fiat.core.text import counted, visible
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.distinct import distinct
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import Walked, end_without_links, survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, walk

_FEW_GROUPS = 4
"""So many groups of who it is about are thought of; those that are on the objects first."""

_MANY_PROFILES = 2_000
"""Where objects are of more kinds, one way that costs nobody anything is enough, unless others are asked for."""

_OF_USE = (rights.READ, rights.WRITE, rights.EXECUTE)
"""Who has none of these below a directory has nothing from entering it."""


class TreeGoals:
    """Goals for trees; each tree is read once, into ``surveys``."""

    def __init__(
        self, host: Host, goals: Sequence[Goal], terms: Terms, walked: Walked, surveys: Surveys, progress: Progress
    ) -> None:
        self.host = host
        self.goals = goals
        self.terms = terms
        self.walked = walked
        self.everyone = of_accounts(host.accounts)
        self.makers = Makers(host)
        self.people = list(dict.fromkeys(goal.who for goal in goals))
        self.members: tuple[Principal, ...] = ()
        self._members = {who: members_of(who, host.accounts) for who in self.people if who.kind == "group"}
        self.trees = [self._read(path, surveys, progress) for path in dict.fromkeys(goal.path for goal in goals)]
        self.skipped = tuple(point for tree in self.trees for point in tree.survey.skipped)
        self.troubles = tuple(trouble for tree in self.trees for trouble in tree.survey.troubles)
        self.missing = 0
        self._example: dict[Goal, str] = {}
        left = []
        for number, tree in enumerate(self.trees):
            everywhere = []
            for goal in tree.goals:
                wrong = self._wrong(host, View(tree.route, tree.survey), goal)
                everywhere.append(wrong)
                self.missing += len(wrong)
                if len(wrong):
                    self._example[goal] = tree.survey.path(int(wrong[-1]))
                if len(wrong) or (terms.and_new and self._misses_new(tree, goal)):
                    left.append(goal)
            self.trees[number] = tree._replace(spared=_spared(tree.survey, np.concatenate(everywhere)))
        self.left = tuple(left)

    def _read(self, path: str, surveys: Surveys, progress: Progress) -> GoalTree:
        route, survey = survey_at(self.host, path, Extent(), progress, follow=False)
        self.walked.expect(end_without_links(route))
        if not survey.complete:
            raise KeyboardInterrupt
        surveys[survey.top.path, Extent()] = survey
        return GoalTree(route, survey, tuple(goal for goal in self.goals if goal.path == path))

    def why_none(self) -> str:
        """Why there is no way: for one of the paths where it is not so."""
        for goal, path in self._example.items():
            there = goal._replace(path=path, below=False)
            reason = impossible(there, ask(self.host, there))
            if reason:
                return reason
        return f"no change of modes, lists, owners or a membership does it{self.terms.by_words}"

    def _wrong(self, host: Host, view: View, goal: Goal) -> NDArray[np.intp]:
        """The places in a tree where a goal is not so; for a group, where it is not so for all of its members."""
        members = self._members[goal.who].principals if goal.who in self._members else ()
        people = (goal.who, *members)
        wrong = wrong_places(host, view, people, [goal._replace(who=who) for who in people])
        return distinct(np.concatenate(wrong))

    def _misses_new(self, tree: GoalTree, goal: Goal) -> bool:
        """Whether there is a directory in a tree where what is made later would not follow."""
        return any(
            for_new(profile.at(), goal, ROOT, self.makers.umask(tree.route, profile.posture)) is not None
            for profile in tree.survey.profiles
            if profile.posture.directory
        )

    # --- proposals ---

    def proposals(self) -> Iterator[Proposal]:
        """One by each means wherever it can be; for what is to be taken also by closing the tops."""
        for preference in self._preferences():
            drafting = Drafting(self.host, ROOT, self.walked)
            opened = self._opened(drafting, preference) if self.goals[0].gives else []
            if opened is None:
                continue
            terms, umask = self.terms, self.host.settings.umask
            edits = [
                TreeEdits(tree, preference, terms, self.everyone, self._members, umask, self.makers)
                for tree in self.trees
            ]
            if preference.top:
                for one in edits:
                    one.close(drafting)
            yield Proposal(drafting, tuple(opened), preference.name, edits=tuple(edits))

    def is_enough(self, cost: Cost) -> bool:
        """Whether it costs nobody anything, and to look for another one would take long."""
        many = sum(len(tree.survey.profiles) for tree in self.trees) > _MANY_PROFILES
        return many and self.terms.by == tuple(MEANS) and cost[:4] == (False, 0, 0, 0)

    def _preferences(self) -> Iterator[Preference]:
        kinds = [MEANS[name] for name in self.terms.by]
        if not self.goals[0].gives and any(kind.own for kind in kinds):
            yield Preference("entry", top=True)
        for kind in kinds:
            if kind.by_group:
                yield from (Preference(kind.name, gid) for gid in self._gids())
            elif kind.in_trees:
                yield Preference(kind.name)

    def _gids(self) -> list[int]:
        """The groups of who it is about; those that own something in the trees first."""
        theirs = frozenset[int]().union(*(who.gids for who in self.people if who.kind != "group"))
        used: set[int] = set()
        for tree in self.trees:
            for profile in tree.survey.profiles:
                used |= profile.posture.owners()[1]
        return sorted(theirs, key=lambda gid: (gid not in used, gid))[:_FEW_GROUPS]

    def _opened(self, drafting: Drafting, preference: Preference) -> list[str] | None:
        """Have everyone get as far as the tops, members of groups too; the means that it took, None if it cannot be."""
        names: list[str] = []
        edits = PathEdits(self.host, self.terms, self.everyone)
        for tree in self.trees:
            for who in dict.fromkeys(goal.who for goal in tree.goals):
                members = self._members[who].principals if who in self._members else ()
                for one in (who, *members):
                    prefer = preference.name if one is who else "entry"
                    more = edits.open_route(drafting, one, tree.top, prefer)
                    if more is None:
                        return None
                    names += more
        return names

    # --- what comes of one ---

    def covered(self, proposal: Proposal, made: Plan, after: Host) -> tuple[tuple[Finding, ...], Meant] | None:
        """What cannot be changed, or not enough; None where nothing is gained, or closing the tops takes more."""
        short = self._short(made, after)
        if short is None:
            return None
        meant = self._meant(made, after)
        if not proposal.in_trees:
            short += [one for tree in self.trees for one in self._open_elsewhere(tree)]
            if not self._without_use(meant):
                return None
        return tuple(short), meant

    def _short(self, made: Plan, after: Host) -> list[Finding] | None:
        """What of the goals is not so after the plan: what cannot be changed, with the reason; None where nothing is
        gained by it."""
        refused = {item.path: item for item in made.refused()}
        wrong: dict[str, list[str]] = {}
        count = 0
        for tree in self.trees:
            view = _view_after(made, after, tree)
            for places in (self._wrong(after, view, goal) for goal in tree.goals):
                count += len(places)
                for _, path in view.survey.paths_of(places.tolist()):
                    wrong.setdefault(_why(refused.get(path)), []).append(path)
        if self.missing and count >= self.missing:
            return None
        return [_not_covered(reason, list(dict.fromkeys(paths))) for reason, paths in wrong.items()]

    def _open_elsewhere(self, tree: GoalTree) -> Iterator[Finding]:
        """What closing the top leaves open: files by names outside the tree, and what other mounts show of it."""
        survey = tree.survey
        outside = [places for places in survey.several_names().values() if survey.links[places[0]] > len(places)]
        if outside:
            view = View(tree.route, survey)
            open_now = {int(place) for goal in tree.goals for place in self._wrong(self.host, view, goal)}
            places = sorted(some[0] for some in outside if open_now.intersection(some))
            if places:
                paths = [path for _, path in survey.paths_of(places)]
                yield _open_elsewhere("other names, outside the tree, lead to", paths)
        mount = survey.top.mount
        shown = mount.shown_below(tree.top) if mount is not None else []
        if shown:
            yield _open_elsewhere("other mounts show a part of it at", shown)

    def _meant(self, made: Plan, after: Host) -> dict[tuple[tuple[object, ...], Right], int]:
        """On how many paths the goals themselves move each right of those whom they are about."""
        universe = Universe(self.people)
        found: dict[tuple[tuple[object, ...], Right], int] = {}
        for tree in self.trees:
            asked = sorted(implied_by(tree.goals), key=rights.ALL.index)
            asking = Asker(self.host, after, (universe, universe), asked)
            moved = tree_effects(asking, [Pair(View(tree.route, tree.survey), _view_after(made, after, tree))])
            for one in moved.gains if self.goals[0].gives else moved.losses:
                key = one.principal.identity, one.right
                found[key] = found.get(key, 0) + one.paths
        return found

    def _without_use(self, meant: dict[tuple[tuple[object, ...], Right], int]) -> bool:
        """Whether those whom the goals are about have nothing below the tops that is not to be taken; entering it is
        of no use to them then, and is no loss."""
        taken = {goal.right for goal in self.goals}
        for tree in self.trees:
            members = (member for one in self._members.values() for member in one.principals)
            everyone = list(dict.fromkeys((*self.people, *members)))
            asked = _Asked(self.host, View(tree.route, tree.survey), everyone, rights.BASIC)
            for who in everyone:
                if any(asked.has(who, right)[1:].any() for right in _OF_USE if right not in taken):
                    return False
                key = who.identity, rights.TRAVERSE
                meant[key] = meant.get(key, 0) + int(asked.has(who, rights.TRAVERSE).sum())
        return True

    # --- memberships ---

    def postures(self) -> Iterator[Posture]:
        """What decides now, of which a membership may have others match something else."""
        for tree in self.trees:
            yield from (found.posture for found in tree.route.objects)
            yield from (profile.posture for profile in tree.survey.profiles)

    def holds(self, member: Principal) -> bool:
        """Whether all goals hold for who has joined a group, or left it."""
        return all(self._so_as(member, goal) for goal in self.goals) and not any(
            self._wrong_as(member, tree) for tree in self.trees
        )

    def _so_as(self, member: Principal, goal: Goal) -> bool:
        """Whether it is so for who is a member then at the first path where it is not so now."""
        path = self._example.get(goal)
        return path is None or ask(self.host, goal._replace(path=path, below=False), member).allowed is goal.gives

    def _wrong_as(self, member: Principal, tree: "GoalTree") -> int:
        """On how many paths of a tree the goals are not so for who is a member then."""
        goals = [goal._replace(who=member) for goal in tree.goals]
        places = wrong_places(self.host, View(tree.route, tree.survey), [member], goals)
        return sum(len(some) for some in places)


class _Asked:
    """Who of some people has which right on each entry of a tree."""

    def __init__(self, host: Host, view: View, people: Sequence[Principal], asked: Sequence[Right]) -> None:
        self._people = [who.identity for who in people]
        self._rights = list(dict.fromkeys(asked))
        access = TreeAccess(host, Access(Universe(people), host.settings), self._rights)
        self._answers = access.answers(view.survey, view.route)

    def has(self, who: Principal, right: Right) -> NDArray[np.bool_]:
        """For each entry, whether ``who`` has ``right``; not where that means nothing."""
        bit = 1 << self._people.index(who.identity)
        found: NDArray[np.bool_] = self._answers.keys.holding(bit, self._rights.index(right))[self._answers.number]
        return found


def wrong_places(host: Host, view: View, people: Sequence[Principal], goals: Sequence[Goal]) -> list[NDArray[np.intp]]:
    """For each goal the places in a tree where it is not so."""
    found = []
    asked = _Asked(host, view, people, [goal.right for goal in goals])
    for goal in goals:
        meant = np.array([goal.means(profile) for profile in view.survey.profiles], np.bool_)[view.survey.profile]
        meant[0] &= not goal.right.by_name_alone  # which the directory above decides
        found.append(np.flatnonzero(meant & (asked.has(goal.who, goal.right) != goal.gives)))
    return found


def _spared(survey: Survey, wrong: NDArray[np.intp]) -> frozenset[Profile]:
    """The profiles of what nobody can change that have none of the places where it is ``wrong``."""
    fixed = survey.profiles.by_rest(lambda rest: bool(refused_to_everyone(rest.posture, rest.mount)[1]))
    fixed[distinct(survey.profile[wrong])] = False
    return frozenset(survey.profiles[number] for number in np.flatnonzero(fixed).tolist())


def _view_after(made: Plan, after: Host, tree: GoalTree) -> View:
    return View(walk(after, tree.top, follow=False), made.postures_after().on(tree.survey))


def _why(item: Item | None) -> str:
    """Why something was not changed, or not enough."""
    if item is None:
        return "something else decides there"
    rule = refused_to_everyone(item.change.before, item.planned.profile.mount)[1]
    return RULE_WORDS[rule] if rule else os.strerror(item.change.errno)


def _not_covered(reason: str, paths: list[str]) -> Finding:
    return Finding("not-covered", "odd", f"does not cover {_where(paths)}: {reason}", paths[0], len(paths))


def _open_elsewhere(how: str, paths: list[str]) -> Finding:
    return Finding("open-elsewhere", "odd", f"does not close every way: {how} {_where(paths)}", paths[0], len(paths))


def _where(paths: list[str]) -> str:
    return visible(paths[0]) if len(paths) == 1 else f"{counted(len(paths), 'path')}, such as {visible(paths[0])}"

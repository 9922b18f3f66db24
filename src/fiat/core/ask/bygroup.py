"""What an account has to do with a tree: what is its own, what names it, and what it reaches by each group alone."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.who import universe_of
from fiat.core.model import right as rights
from fiat.core.model.accounts import Group, User
from fiat.core.model.host import Host
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, bare_group, user
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.tree.answers import for_tree
from fiat.core.tree.summary import topmost
from fiat.core.tree.survey import Survey
from fiat.core.words.selection import Selection, features

_ASKED = (rights.READ, rights.WRITE, rights.EXECUTE, rights.TRAVERSE)
_FIRST = 20
"""Topmost paths that are named of each."""


class Part(NamedTuple):
    """A part of a tree: how many ``paths``, the topmost that stand for them, and how many ``more`` of these."""

    paths: int
    topmost: tuple[str, ...]
    more: int


class ByGroup(NamedTuple):
    """What somebody has by one group alone: without it they would not have ``right`` on ``part``."""

    gid: int
    right: Right
    part: Part


class Reached(NamedTuple):
    """On what part of a tree somebody has ``right``."""

    right: Right
    part: Part


class InTree(NamedTuple):
    """What an account has to do with the tree ``top`` of ``entries`` objects: what it owns, what has an entry for it
    in a list, what it reaches (of a group: what its membership alone reaches), and what of that by one group alone.
    """

    top: str
    entries: int
    owned: Part
    named: Part
    reached: tuple[Reached, ...]
    by_group: tuple[ByGroup, ...]


def user_in_tree(host: Host, account: User, route: Route, survey: Survey) -> InTree:
    """What a user has to do with the tree at the end of ``route``: each group is asked about by leaving it."""
    gids = host.accounts.gids_of(account)
    whole = user(account, gids)
    without = [whole._replace(gids=whole.gids - {gid}) for gid in gids]
    found = _by_group(host, route, survey, [whole, *without], gids)
    return _in_tree(host, route, survey, Selection(uid=account.uid), f"entry-for:user:{account.uid}", *found)


def group_in_tree(host: Host, group: Group, route: Route, survey: Survey) -> InTree:
    """What a group has to do with the tree: what it gives that nobody has whom no entry and no group matches."""
    asked = [bare_group(group.gid, group.name), ANYONE_ELSE]
    found = _by_group(host, route, survey, asked, (group.gid,))
    return _in_tree(host, route, survey, Selection(gid=group.gid), f"entry-for:group:{group.gid}", *found)


def _in_tree(
    host: Host,
    route: Route,
    survey: Survey,
    owned: Selection,
    named: str,
    reached: tuple[Reached, ...],
    by_group: tuple[ByGroup, ...],
) -> InTree:
    everything = np.ones(len(survey), np.bool_)
    parts = [
        _part(survey, everything, survey.chosen(one.on(host.accounts)))
        for one in (owned, Selection(every=features([named], host.accounts)))
    ]
    return InTree(route.asked, len(survey), parts[0], parts[1], reached, by_group)


def _by_group(
    host: Host, route: Route, survey: Survey, asked: Sequence[Principal], gids: Sequence[int]
) -> tuple[tuple[Reached, ...], tuple[ByGroup, ...]]:
    """What the first who is asked has, and what of it each of the others has not: they lack the group at the same
    place."""
    known = universe_of(host.accounts, [one.posture for one in route.objects], profiles=[survey.profiles])
    universe = Universe([*asked, *known.principals])
    answers = for_tree(host, universe, _ASKED, route, survey).answers(survey, route)
    reached: list[Reached] = []
    found: list[ByGroup] = []
    for place, right in enumerate(_ASKED):
        applies = (answers.keys.numbers[:, place] >= 0)[answers.number]
        has = answers.keys.holding(1, place)
        if has[answers.number].any():
            reached.append(Reached(right, _part(survey, applies, applies & has[answers.number])))
        for other, gid in enumerate(gids, 1):
            lost = (has & ~answers.keys.holding(1 << other, place))[answers.number]
            if lost.any():
                found.append(ByGroup(gid, right, _part(survey, applies, applies & lost)))
    return tuple(reached), tuple(found)


def _part(survey: Survey, meant: NDArray[np.bool_], taken: NDArray[np.bool_]) -> Part:
    tops = list(topmost(survey, meant, taken)) if taken.any() else []
    return Part(int(taken.sum()), tuple(survey.path(one.place) for one in tops[:_FIRST]), max(len(tops) - _FIRST, 0))

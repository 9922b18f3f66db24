"""What a plan changes: objects that were looked at, each with its identity, and never a path to be walked again.

Every command that writes makes its targets here. The identities that they hold are what
:mod:`fiat.core.change.apply` compares with, object by object, before anything is changed.
"""

from collections.abc import Callable, Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Posture
from fiat.core.model.route import Route
from fiat.core.model.wish import Wish
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import end_without_links
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import open_end


class Goals(NamedTuple):
    """Postures that are to come out, by the number of the profile of what becomes so.

    Those of ``known`` were so before, with the same contents: privilege is nothing new for them. ``earlier`` tells
    that all of them are what was there before.
    """

    postures: Mapping[int, Posture]
    known: frozenset[int] = frozenset()
    earlier: bool = False


class Target(NamedTuple):
    """What is to be changed at the end of ``route``: of what was surveyed there the ``chosen`` entries.

    ``wish`` is what becomes of what has each profile there, where that is not the wish of the whole plan;
    ``goals`` are, by the number of a profile, postures that are to come out whole. ``owner_asked`` tells that an owner
    is asked for by name, and for no more than what is named or what an arrangement is for.
    """

    asked: str
    route: Route
    survey: Survey
    chosen: NDArray[np.bool_]
    with_tree: bool
    wish: Callable[[Profile], Wish] | None = None
    goals: Goals | None = None
    owner_asked: bool = False


def target_of(
    host: Host,
    path: str,
    identity: Identity,
    *,
    wish: Callable[[Profile], Wish] | None = None,
    goal: Posture | None = None,
) -> Target:
    """One object, which was found at the real ``path`` before, by a wish or with the posture that is to come out.

    It is opened without following any link. Raises :class:`PathError` where it is not there any more.
    """
    route, node = open_end(host, path, follow=False)
    try:
        end_without_links(route, identity)
        assert node is not None
        survey = survey_of_one(node.look(exact=True))
    finally:
        if node is not None:
            node.close()
    goals = None if goal is None else Goals({0: goal})
    return Target(path, route, survey, np.ones(1, np.bool_), False, wish, goals)


def targets_in(survey: Survey, route: Route, goals: Mapping[int, Posture], *, with_tree: bool) -> Target:
    """Some entries of a tree that was surveyed, with the posture that is to come out of each, by its place."""
    places = np.fromiter(goals, np.int64, len(goals))
    before = survey.profile[places].tolist()
    count = len(survey.profiles)
    numbers: dict[tuple[int, Posture], int] = {}
    profile = survey.profile.copy()
    for place, number, posture in zip(places.tolist(), before, goals.values(), strict=True):
        profile[place] = count + numbers.setdefault((number, posture), len(numbers))
    profiles = survey.profiles.taken(np.concatenate([np.arange(count), np.array([n for n, _ in numbers], np.int64)]))
    chosen = np.zeros(len(survey), np.bool_)
    chosen[places] = True
    postures = {count + which: posture for (_, posture), which in numbers.items()}
    again = survey.with_profiles(profiles, profile)
    return Target(survey.top.path, route, again, chosen, with_tree, goals=Goals(postures))

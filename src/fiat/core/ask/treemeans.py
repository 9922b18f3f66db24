"""What everybody can bring about in a whole tree by their own means: of each object, or of what is under its name.

What its owner can open counts as open to them: the owner's class is theirs alone, so all owners of a tree can do that
at once, and nobody else has anything by it. Who can take a name away can put something of their own there, and so
under every name below: the set of these grows on the way down.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.core.ask.ownmeans import OF_A_NAME, as_opened
from fiat.core.model.accesslist import AccessList
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Universe
from fiat.core.model.right import EXECUTE, RENAME, Right
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.checks import has_option
from fiat.core.tree.answerkeys import AnswerKeys, Answers
from fiat.core.tree.answers import for_tree, unmapped
from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.profiles import Columns, Profiles
from fiat.core.tree.survey import Survey

_OWNERS = 0o700


def by_own_means(host: Host, universe: Universe, rights: Sequence[Right], route: Route, survey: Survey) -> Answers:
    """Who can bring about that they have each of ``rights``, for each entry of the tree at the end of ``route``."""
    opened = survey.with_profiles(_opened(survey.profiles), survey.profile)
    way = as_opened(route)
    access = for_tree(host, universe, (*rights, RENAME), way, opened)
    found = access.answers(opened, way)
    table = found.keys.table
    numbers = found.keys.numbers[found.number]
    asked = access.access if table.crowd is not None else Access(universe, host.settings)
    names = np.full(len(survey), -1, np.int32)
    taken = numbers[:, -1]
    above = table.number(_taken_above(asked, way))
    for depth, level in enumerate(opened.levels()):
        before = names[survey.parent[level]] if depth else np.full(len(level), above, np.int32)
        names[level] = table.either(taken[level], before)
    rest = np.flatnonzero(names < 0)
    parents = survey.parent[rest]
    before = np.where(parents < 0, above, names[np.maximum(parents, 0)]).astype(np.int32)
    names[rest] = table.either(taken[rest], before)
    for place, right in enumerate(rights):
        if right not in OF_A_NAME:
            continue
        some = numbers[:, place] >= 0
        if right is EXECUTE:
            some &= ~survey.profiles.by_rest(lambda one: has_option(one.mount, "noexec"))[survey.profile]
        numbers[some, place] = table.either(numbers[some, place], names[some])
    first, same = distinct_columns(*numbers[:, :-1].T)
    return Answers(same.astype(np.int32), AnswerKeys(table, numbers[first, :-1]))


def _taken_above(access: Access, way: Route) -> int:
    """Who can take away a name that stands before the top."""
    found = 0
    for number, stage in enumerate(way.stages):
        if stage.object.path != "/":
            found |= access.allowed(way._replace(stages=way.stages[:number], end=stage.object), RENAME)
    return found


def _opened(profiles: Profiles) -> Profiles:
    """The profiles as they are once every owner has opened what is theirs."""
    columns = profiles.columns
    can: NDArray[np.bool_] = profiles.by_rest(
        lambda one: one.posture.kind is not Kind.SYMLINK and not refused_to_everyone(one.posture, one.mount)[0]
    )
    can &= ~unmapped(profiles)
    other = Profiles()
    other.rests, other._rest_numbers = profiles.rests.copy(), profiles._rest_numbers.copy()
    for acl in profiles.lists[1:]:
        other.list_number(acl)
    lists = np.array([other.list_number(None if acl is None else _open_list(acl)) for acl in profiles.lists], np.int64)
    mode = np.where(can, columns.mode | _OWNERS, columns.mode)
    other.extend(Columns(mode, columns.uid, columns.gid, np.where(can, lists[columns.acl], columns.acl), columns.rest))
    return other


def _open_list(acl: AccessList) -> AccessList:
    """The list with all permissions for the owner, whose entry is the first (acl(5))."""
    return acl._replace(entries=(acl.entries[0]._replace(permissions=7), *acl.entries[1:]))

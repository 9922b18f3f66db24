"""Mending: the commands after which a finding is gone, and what they take from whom.

Each is made as a plan, as ``fiat set`` would make it; then each rule is asked
once more, of the host as it would be after all that it was told to be mended by. What it would
still find has no command.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np

from fiat.core.ask.effects import KeptShift, kept
from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule
from fiat.core.audit.examine import TreeFinding, examine
from fiat.core.change.making import make_plan
from fiat.core.change.plan import Plan
from fiat.core.change.steps import change, steps_towards, wanted
from fiat.core.change.target import Target
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.route import Route
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.postures import postures_of_many
from fiat.core.tree.profile import Profile
from fiat.core.tree.walk import walk
from fiat.core.words.commands import set_command_for

_IN_ONE_COMMAND = 8
"""So many paths are named in one command."""

_COUNTED = 8
"""Of a finding on more paths than that, what mending takes from whom is not counted."""


_FINDINGS_COUNTED = 30
"""Of the worst so many findings it is counted; of the others that would take long."""


class Mended(NamedTuple):
    """A finding with the ``commands`` that mend it; none where nothing does.

    ``takes`` and ``gives`` say who loses and who gains what by that, None where that was not counted;
    ``unlisted`` are the words for those among whom that was counted, and who have no account.
    """

    told: TreeFinding
    commands: tuple[str, ...] = ()
    takes: tuple[KeptShift, ...] | None = None
    gives: tuple[KeptShift, ...] | None = None
    unlisted: frozenset[str] = frozenset()


def mended(told: Sequence[TreeFinding]) -> list[Mended]:
    """Each finding with what mends it."""
    if not told:
        return []
    host = told[0].audited.host
    actor = host.actor()
    made = [_works(host, one, actor) for one in told]
    left = _still_found(host, told)
    return [
        _mended(host, one, count=number < _FINDINGS_COUNTED) if works and _key(one) not in left else Mended(one)
        for number, (one, works) in enumerate(zip(told, made, strict=True))
    ]


def _mended(host: Host, one: TreeFinding, *, count: bool) -> Mended:
    plan = _counted(host, one) if count else None
    return Mended(one, _commands(one), *_shifts(plan, host.accounts))


def _key(one: TreeFinding) -> tuple[str, str, str]:
    return one.rule.code, one.audited.survey.top.path, one.first


_Shifts = tuple[KeptShift, ...] | None


def _shifts(plan: Plan | None, accounts: Accounts) -> tuple[_Shifts, _Shifts, frozenset[str]]:
    if plan is None:
        return None, None, frozenset()
    uids = {uid for planned in plan.changes for uid in planned.change.before.owners()[0]}
    unlisted = frozenset(f"uid:{uid}" for uid in uids if accounts.user_numbered(uid) is None)
    return kept(plan.losses), kept(plan.gains), unlisted


# --- what is changed -------------------------------------------------------------------


def _paths(one: TreeFinding) -> Iterator[str]:
    """What is to be changed."""
    mend = one.found.mend
    assert mend is not None
    yield from mend.at or one.audited.paths(one.found.places)


def _commands(one: TreeFinding) -> tuple[str, ...]:
    mend = one.found.mend
    assert mend is not None
    accounts = one.audited.accounts
    paths = list(_paths(one))
    if len(paths) > _IN_ONE_COMMAND and mend.chosen:
        return (set_command_for([one.audited.survey.top.path], mend.wish, accounts, ("--below", *mend.chosen)),)
    parts = [paths[start : start + _IN_ONE_COMMAND] for start in range(0, len(paths), _IN_ONE_COMMAND)]
    return tuple(set_command_for(part, mend.wish, accounts) for part in parts)


def _works(host: Host, one: TreeFinding, actor: Principal) -> bool:
    """Whether the kernel would make all of the change, and it makes a difference."""
    mend = one.found.mend
    if mend is None:
        return False
    differs = False
    for found in _distinct(host, one, mend):
        goal = wanted(found.posture, mend.wish, actor, host.settings.umask)
        made = change(found.posture, steps_towards(found.posture, goal, actor), actor, found.mount, found.keeps_lists)
        if made.errno:
            return False
        differs |= made.changes
    return differs


def _distinct(host: Host, one: TreeFinding, mend: Mend) -> Iterator[Profile | Object]:
    """What is to be changed: of what is alike, one."""
    if mend.at:
        yield from (route.end for _, route in _routes(host, one) if route.end is not None)
    else:
        survey = one.audited.survey
        yield from (survey.profiles[number] for number in np.unique(survey.profile[one.found.places]).tolist())


def _counted(host: Host, one: TreeFinding) -> Plan | None:
    """The plan, with who loses and who gains by it; None where that takes long."""
    mend = one.found.mend
    if mend is None or (not mend.at and len(one.found.places) > _COUNTED):
        return None
    targets = []
    for path, route in _routes(host, one):
        if route.end is not None:
            survey = survey_of_one(route.end)
            targets.append(Target(path, route, survey, survey.profile >= 0, False))
    return make_plan(host, targets, mend.wish)


def _routes(host: Host, one: TreeFinding) -> Iterator[tuple[str, Route]]:
    for path in _paths(one):
        yield path, walk(host, path, follow=False, interpreters=0)


# --- whether it is gone then ----------------------------------------------------------


def _still_found(host: Host, told: Sequence[TreeFinding]) -> set[tuple[str, str, str]]:
    """What each rule would still find after everything had been mended that it has found."""
    found: set[tuple[str, str, str]] = set()
    for rule in {one.rule.code: one.rule for one in told}.values():
        mine = [one for one in told if one.rule is rule and one.found.mend is not None]
        if mine:
            found |= _found_again(host, rule, mine)
    return found


def _found_again(host: Host, rule: Rule, told: Sequence[TreeFinding]) -> set[tuple[str, str, str]]:
    postures: dict[Identity, Posture] = {}
    actor, umask = host.actor(), host.settings.umask
    for one in told:
        mend = one.found.mend
        assert mend is not None
        made: dict[Posture, Posture] = {}
        for identity, posture in _objects(host, one, mend):
            now = postures.get(identity, posture)
            if now not in made:
                made[now] = wanted(now, mend.wish, actor, umask)
            postures[identity] = made[now]
    supposed = postures_of_many(postures)
    after = HostAsIf(host, Supposition(supposed))
    weights = {_key(one): one.found.weight for one in told}
    found: set[tuple[str, str, str]] = set()
    for audited in {id(one.audited): one.audited for one in told}.values():
        top = audited.survey.top.path
        then = AuditedTree(after, walk(after, top), supposed.on(audited.survey), audited.evidence)
        for again in examine(then, [rule]):
            for path in then.paths(again.found.places):
                key = rule.code, top, path
                if again.found.weight == weights.get(key, again.found.weight):
                    found.add(key)
    return found


def _objects(host: Host, one: TreeFinding, mend: Mend) -> Iterable[tuple[Identity, Posture]]:
    survey = one.audited.survey
    if mend.at:
        for _, route in _routes(host, one):
            if route.end is not None:
                yield route.end.status.identity, route.end.posture
        return
    for place in one.found.places.tolist():
        yield survey.identity(place), survey.profiles[int(survey.profile[place])].posture

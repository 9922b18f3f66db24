"""Mending: the commands after which a finding is gone, and what they take from whom.

Each is made as a plan, as ``fiat set`` would make it; then each rule is asked
once more, of the host as it would be after all that it was told to be mended by. What it would
still find has no command, and neither has what is less than a danger on an object that the mend of a danger changes:
what is right there is seen once that is done.
"""

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import NamedTuple

import numpy as np

from fiat.core.ask.effects import KeptShift, kept
from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule
from fiat.core.audit.examine import TreeFinding, examine
from fiat.core.change.making import Beside, in_place, make_plan
from fiat.core.change.plan import Plan
from fiat.core.change.steps import change, steps_towards, wanted
from fiat.core.change.target import Target
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Identity, Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.route import Route
from fiat.core.model.wish import Wish
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.distinct import distinct, each_once
from fiat.core.tree.postures import postures_of_many
from fiat.core.tree.profile import Profile
from fiat.core.tree.walk import walk
from fiat.core.words.commands import set_command_for

_IN_ONE_COMMAND = 8
"""So many paths are named in one command."""

_COUNTED = 8
"""Of a finding on more paths than that, what mending takes from whom is not counted."""


_FEW = 3
"""Of so many findings what mends them is planned as fast as it is begun elsewhere."""

_FINDINGS_COUNTED = 30
"""Of the worst so many findings it is counted; of the others that would take long."""


class Mended(NamedTuple):
    """A finding with the ``commands`` that mend it; none where nothing does.

    ``takes`` and ``gives`` say who loses and who gains what by that, None where that was not counted;
    ``unlisted`` are the words for those among whom that was counted, and who have no account. ``guards`` are those
    that object to it: the commands accept them.
    """

    told: TreeFinding
    commands: tuple[str, ...] = ()
    takes: tuple[KeptShift, ...] | None = None
    gives: tuple[KeptShift, ...] | None = None
    unlisted: frozenset[str] = frozenset()
    guards: tuple[Finding, ...] = ()
    later: bool = False


def mended(told: Sequence[TreeFinding], beside: Beside = in_place) -> list[Mended]:
    """Each finding with what mends it; of what can be changed in part only, that part by itself.

    Half of what mends them is planned ``beside`` the other.
    """
    if not told:
        return []
    host = told[0].audited.host
    actor = host.actor()
    parts = [part for one in told for part in _by_what_works(host, one, actor)]
    left = _still_found(host, [one for one, _ in parts])
    changed = _changed_by_dangers(host, [one for one, works in parts if works and _key(one) not in left])
    found = [Mended(one) for one, _ in parts]
    planned = []
    for number, (one, works) in enumerate(parts):
        if not works or _key(one) in left:
            continue
        if one.found.weight != "danger" and any(
            changed.get(identity, wish) != wish for identity, wish in _touched(host, one).items()
        ):
            found[number] = Mended(one, later=True)
        else:
            planned.append(number)

    def ways(numbers: Sequence[int]) -> list[_Way]:
        return [_way(host, parts[number][0], count=number < _FINDINGS_COUNTED) for number in numbers]

    # by turns, for the worst are counted, which takes longer
    others = (beside if len(planned) > _FEW else in_place)(partial(ways, planned[1::2]))
    for numbers, found_ways in ((planned[::2], ways(planned[::2])), (planned[1::2], others())):
        for number, way in zip(numbers, found_ways, strict=True):
            found[number] = Mended(parts[number][0], *way)
    return found


class _Way(NamedTuple):
    """What :class:`Mended` says of a finding."""

    commands: tuple[str, ...] = ()
    takes: tuple[KeptShift, ...] | None = None
    gives: tuple[KeptShift, ...] | None = None
    unlisted: frozenset[str] = frozenset()
    guards: tuple[Finding, ...] = ()


def _way(host: Host, one: TreeFinding, *, count: bool) -> _Way:
    count = count and _count(one) <= _COUNTED
    plan = _planned(host, one, count=count)
    guards = tuple(plan.guards) if plan is not None else ()
    if guards and one.found.weight != "danger":
        return _Way()  # what is a danger to nobody is not worth what the guard is there for
    return _Way(_commands(one, guards), *_shifts(plan if count else None, host.accounts), guards)


def _changed_by_dangers(host: Host, told: Sequence[TreeFinding]) -> dict[Identity, Wish]:
    """What the mends of dangers change, and what each asks for."""
    found: dict[Identity, Wish] = {}
    for one in told:
        if one.found.weight == "danger":
            found |= _touched(host, one)
    return found


def _touched(host: Host, one: TreeFinding) -> dict[Identity, Wish]:
    """What the mend of a finding changes, and what it asks for."""
    mend = one.found.mend
    assert mend is not None
    return {identity: mend.wish for identity, _ in _objects(host, one, mend)}


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


def _paths(one: TreeFinding, most: int | None = None) -> Sequence[str]:
    """What is to be changed, or the first of it."""
    mend = one.found.mend
    assert mend is not None
    return mend.at[:most] if mend.at else one.audited.paths(one.found.places[:most])


def _count(one: TreeFinding) -> int:
    """How much is to be changed."""
    mend = one.found.mend
    assert mend is not None
    return len(mend.at or one.found.places)


def _commands(one: TreeFinding, guards: Sequence[Finding] = ()) -> tuple[str, ...]:
    mend = one.found.mend
    assert mend is not None
    accounts = one.audited.accounts
    accepted = tuple(f"--accept {code}" for code in dict.fromkeys(guard.code for guard in guards))
    if _count(one) > _IN_ONE_COMMAND and mend.chosen:
        how = ("--below", *mend.chosen, *accepted)
        return (set_command_for([one.audited.survey.top.path], mend.wish, accounts, how),)
    paths = _paths(one)
    parts = [paths[start : start + _IN_ONE_COMMAND] for start in range(0, len(paths), _IN_ONE_COMMAND)]
    return tuple(set_command_for(part, mend.wish, accounts, accepted) for part in parts)


def _by_what_works(host: Host, one: TreeFinding, actor: Principal) -> Iterator[tuple[TreeFinding, bool]]:
    """The finding, and whether the kernel would make the change, and it makes a difference: where it would for some of
    what was found, that apart from the rest."""
    mend = one.found.mend
    if mend is None or mend.at:
        yield one, mend is not None and all(_works(host, found, mend, actor) for found in _at_paths(host, one))
        return
    survey = one.audited.survey
    profile = survey.profile[one.found.places]
    numbers = distinct(profile)
    working = [number for number in numbers.tolist() if _works(host, survey.profiles[number], mend, actor)]
    works = np.isin(profile, working)
    for some, does in ((works, True), (~works, False)):
        if some.all():
            yield one, does
        elif some.any():
            yield one._replace(found=one.found._replace(places=one.found.places[some])), does


def _works(host: Host, found: Profile | Object, mend: Mend, actor: Principal) -> bool:
    goal = wanted(found.posture, mend.wish, actor, host.settings.umask)
    made = change(found.posture, steps_towards(found.posture, goal, actor), actor, found.mount, found.keeps_lists)
    return not made.errno and made.changes


def _at_paths(host: Host, one: TreeFinding) -> Iterator[Object]:
    yield from (route.end for _, route in _routes(host, one) if route.end is not None)


def _planned(host: Host, one: TreeFinding, *, count: bool) -> Plan | None:
    """The plan of the first of what is changed; with who loses and who gains by it."""
    mend = one.found.mend
    if mend is None:
        return None
    targets = []
    for path, route in _routes(host, one, _COUNTED):
        if route.end is not None:
            survey = survey_of_one(route.end)
            targets.append(Target(path, route, survey, survey.profile >= 0, False))
    return make_plan(host, targets, mend.wish, count=count)


def _routes(host: Host, one: TreeFinding, most: int | None = None) -> Iterator[tuple[str, Route]]:
    mend = one.found.mend
    assert mend is not None
    for path in mend.at[:most]:
        yield path, walk(host, path, follow=False, interpreters=0)
    for place in () if mend.at else one.found.places[:most].tolist():
        route = one.audited.inside.to(place)
        yield route.asked, route


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
    places = one.found.places
    postures = {number: survey.profiles[number].posture for number in each_once(survey.profile[places])}
    yield from zip(survey.identities(places), map(postures.__getitem__, survey.profile[places].tolist()), strict=True)

"""Whether expectations hold: where they do not, who can what where, the shortest path first; and which cannot hold
together."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from functools import reduce
from itertools import islice
from operator import or_
from typing import NamedTuple

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Places
from fiat.core.audit.evidence import NoEvidence
from fiat.core.audit.replacing import footholds
from fiat.core.change.steps import wanted
from fiat.core.errors import PathError
from fiat.core.expect.expectation import Demand, Expectation, NamedPeople, StatedPosture
from fiat.core.model.accesslist import AccessList, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import Arrangement
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.mode import SETGID, octal
from fiat.core.model.posture import Identity, Kind, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.principals import places as bits_in
from fiat.core.model.right import Right
from fiat.core.model.wish import Wish
from fiat.core.suggest.arranging import Arranger
from fiat.core.text import joined, quoted, visible
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.distinct import each_once
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import Extent
from fiat.core.words import naming

Problem = Callable[[PathError], None]


class Counterexample(NamedTuple):
    """Entries on which an expectation does not hold, all for the same reason.

    ``people`` have ``right`` there, or where it is not ``allowed`` have not; ``right`` is None
    where the posture is not what it shall be, which ``text`` says then.
    """

    audited: AuditedTree
    places: Places
    right: Right | None
    people: int
    allowed: bool
    text: str = ""

    @property
    def first(self) -> str:
        """The shortest of its paths."""
        return min(self.audited.paths(self.places[:_LOOKED_AT]), key=lambda path: (path.count("/"), path))

    @property
    def universe(self) -> Universe:
        """The universe that ``people`` is a set of."""
        return self.audited.universe


_LOOKED_AT = 1000
"""Among so many paths the shortest is looked for."""


class Holding(NamedTuple):
    """Whether one expectation holds; ``asked`` are the entries that it is about, tree by tree.

    ``unread`` is what it is about as well, or may be, and could not be looked at.
    """

    expectation: Expectation
    broken: list[Counterexample]
    asked: list[tuple[AuditedTree, Places]]
    unread: tuple[PathError, ...] = ()

    @property
    def held(self) -> bool:
        """Whether it is known to hold."""
        return not self.broken and not self.unread

    @property
    def unknown(self) -> bool:
        """Whether nothing breaks it, and yet it is not known to hold."""
        return not self.broken and bool(self.unread)

    @property
    def state(self) -> str:
        """``held``, ``broken``, or ``unknown`` where something could not be looked at."""
        return "broken" if self.broken else "unknown" if self.unread else "held"

    @property
    def paths(self) -> int:
        """How many paths it is about."""
        return sum(len(places) for _, places in self.asked)


def check_expectation(
    host: Host, expectation: Expectation, problem: Problem, progress: Progress = no_progress
) -> Holding:
    """Whether ``expectation`` holds on ``host``; what cannot be looked at is a ``problem``, and leaves it unknown."""
    broken: list[Counterexample] = []
    asked: list[tuple[AuditedTree, Places]] = []
    unread: list[PathError] = []

    def failed(error: PathError) -> None:
        unread.append(error)
        problem(error)

    for path in expectation.paths:
        try:
            audited = _audited_tree(host, path, expectation, failed, progress)
        except PathError as error:
            failed(error)
            continue
        places = _meant(audited, expectation)
        for one in _not_read(audited, places):
            failed(one)
        asked.append((audited, places))
        for demand in expectation.demands:
            broken += _of_demand(audited, places, demand)
            for one in _not_told(audited, places, demand):
                failed(one)
        broken += _of_posture(audited, places, expectation.stated)
        if expectation.may_replace is not None:
            broken += _of_replacing(audited, places, expectation.may_replace)
    broken.sort(key=lambda one: (one.first.count("/"), one.first))
    return Holding(expectation, broken, asked, tuple(unread))


def _audited_tree(host: Host, path: str, expectation: Expectation, problem: Problem, progress: Progress) -> AuditedTree:
    extent = Extent() if expectation.below else Extent(entry_limit=1)
    route, survey = survey_at(host, path, extent, progress)
    if not expectation.below:
        survey = survey_of_one(survey.top)
    for trouble in survey.troubles:
        problem(PathError(trouble.path, trouble.errno))
    rights = tuple(dict.fromkeys(demand.right for demand in expectation.demands))
    return AuditedTree(host, route, survey, NoEvidence(), rights)


def _not_read(audited: AuditedTree, places: Places) -> Iterator[PathError]:
    """What of the lists of some entries could not be read: who gets at these is not known."""
    survey = audited.survey
    for number in each_once(survey.profile[places]):
        lists = [error for what, error in survey.profiles[number].unknown if what in ("access list", "default list")]
        if lists:
            some = places[survey.profile[places] == number]
            yield PathError(audited.path(int(some[0])), lists[0], "read the list of", f"{len(some):,} such paths")


def _meant(audited: AuditedTree, expectation: Expectation) -> Places:
    """The entries that it is about."""
    count = len(audited.survey)
    if not expectation.leaving_out:
        return np.arange(count)
    names = [audited.survey.name(0), *audited.survey.names(np.arange(1, count))]
    kept = [not any(fnmatchcase(name, one) for one in expectation.leaving_out) for name in names]
    return np.flatnonzero(kept)


def people_of(whom: Iterable[NamedPeople], universe: Universe, accounts: Accounts) -> int:
    """The principals whom any of ``whom`` speaks of, as a set of the universe."""
    found = 0
    for one in whom:
        found |= one.among(universe, accounts)
    return found


def _of_demand(audited: AuditedTree, places: Places, demand: Demand) -> Iterator[Counterexample]:
    universe, accounts = audited.universe, audited.accounts
    people = universe.of_kind("user") | universe.of_kind("anyone-else")
    barred = people_of(demand.never, universe, accounts)
    if demand.only is not None:
        barred |= people & ~people_of(demand.only, universe, accounts)
    needed = people_of(demand.always, universe, accounts)
    for bits, opened, some in audited.open_to(places, demand.right):
        if bits & barred:
            yield Counterexample(audited, some, demand.right, bits & barred, True)
        if needed & ~bits & ~opened:
            yield Counterexample(audited, some, demand.right, needed & ~bits & ~opened, False)


def _not_told(audited: AuditedTree, places: Places, demand: Demand) -> Iterator[PathError]:
    """Where a demand hangs on what the sources of accounts did not tell: whose groups, or who else there is."""
    universe, accounts = audited.universe, audited.accounts
    if accounts.tells_all:
        return
    about = people_of((*demand.never, *(demand.only or ()), *demand.always), universe, accounts)
    about = universe.everyone if demand.only is not None else about
    doing = f"tell who may {demand.right.name}"
    for bits, opened, some in audited.open_to(places, demand.right):
        if opened & about:
            who = joined(naming.principal(one) for one in islice(universe.members(opened & about), _TOLD))
            yield PathError(audited.path(int(some[0])), 0, doing, f"not every group of {who} is known")
        elif (demand.only is not None or demand.never) and bits & universe.of_kind("group"):
            group = naming.principal(next(universe.members(bits & universe.of_kind("group"))))
            yield PathError(audited.path(int(some[0])), 0, doing, f"{group} may, and not everybody in it is known")


def _of_posture(audited: AuditedTree, places: Places, stated: StatedPosture) -> Iterator[Counterexample]:
    if stated == StatedPosture():
        return
    survey = audited.survey
    for number in each_once(survey.profile[places]):
        text = differences(survey.profiles[number], stated, audited)
        if text:
            some = places[survey.profile[places] == number]
            yield Counterexample(audited, some, None, 0, False, text)


def differences(profile: Profile, stated: StatedPosture, audited: AuditedTree) -> str:
    """How a posture differs from what it shall be, in words; empty where it does not."""
    posture, accounts = profile.posture, audited.accounts
    found = []
    if stated.uid is not None and posture.uid != stated.uid:
        found.append(f"it belongs to {naming.user(posture.uid, accounts)}, not {naming.user(stated.uid, accounts)}")
    if stated.gid is not None and posture.gid != stated.gid:
        found.append(f"its group is {naming.group(posture.gid, accounts)}, not {naming.group(stated.gid, accounts)}")
    if posture.kind is Kind.SYMLINK:
        return joined(found)
    mode = stated.mode_for(directory=posture.directory)
    if mode is not None and posture.mode != mode:
        found.append(f"its mode is {octal(posture.mode)}, not {octal(mode)}")
    acl = posture.acl or (None if stated.no_acl else from_mode(posture.mode))  # three entries are what the mode says
    if (stated.acl is not None or stated.no_acl) and acl != stated.acl:
        found.append(f"its list is {_entries(posture.acl)}, not {_entries(stated.acl)}")
    if posture.directory and (stated.default is not None or stated.no_default) and posture.default != stated.default:
        found.append(f"its default list is {_entries(posture.default)}, not {_entries(stated.default)}")
    if stated.arrangement is not None:
        goal = arranged(posture, stated, audited)
        if goal != posture:
            found.append(f"it is not as {stated.arrangement.arrangement.name} has it")
    return joined(found)


def arranged(posture: Posture, stated: StatedPosture, audited: AuditedTree) -> Posture:
    """What the arrangement makes of a posture."""
    assert stated.arrangement is not None
    actor, umask = audited.host.actor(), audited.host.settings.umask
    owner = audited.survey.top.posture.uid
    wish = Arranger(stated.arrangement, owner, audited.accounts, actor, umask).wish(Profile(posture).at("/"))
    after = wanted(posture, wish, actor, umask)
    owned = _owned_as(posture, stated.arrangement.arrangement, audited.survey.top.posture)
    return after if owned == Wish() else wanted(after, owned, actor, umask)


def _owned_as(posture: Posture, arrangement: Arrangement, top: Posture) -> Wish:
    """What an arrangement says of owner and group without naming them: where nobody but the owner makes anything, all
    is the owner's, and where directories hand their group on, all has that group."""
    folder, pattern = arrangement.directory, arrangement.directory if posture.directory else arrangement.file
    if folder.mode is None or not folder.mode.isdigit() or pattern.mode is None:
        return Wish()
    mode = int(folder.mode, 8)
    others_make = mode & 0o022 or any("w" in entry.rpartition(":")[2] for entry in folder.entries)
    uid = None if others_make or pattern.owner is not None else top.uid
    gid = top.gid if mode & SETGID and pattern.group is None else None
    return Wish(uid=None if uid == posture.uid else uid, gid=None if gid == posture.gid else gid)


def _entries(acl: AccessList | None) -> str:
    return "none" if acl is None else ",".join(acl.texts())


def _of_replacing(audited: AuditedTree, places: Places, only: tuple[NamedPeople, ...]) -> Iterator[Counterexample]:
    trusted = people_of(only, audited.universe, audited.accounts)
    for place, path in audited.survey.paths_of(places.tolist()):
        for hold in footholds(audited, path, trusted):
            text = f"it could be replaced: {hold.words(audited)}"
            yield Counterexample(audited, np.array([place]), None, hold.people, True, text)


class Contradiction(NamedTuple):
    """Two expectations, a path that both are about, and what they say of it."""

    one: Expectation
    other: Expectation
    path: str
    text: str


_TOLD = 20
"""So many contradictions at most are told for one set of expectations that are about the same."""


def contradictions(found: Sequence[Holding]) -> list[Contradiction]:
    """Pairs of expectations that contradict each other on a path that both are about; one path for each.

    What several are about is looked at once for all paths of which the same several speak.
    """
    told: dict[tuple[str, str, str], Contradiction] = {}
    for several, audited, place in _about_the_same(_that_may_contradict(found)):
        for one, other, text in (*_of_rights(several, audited), *_of_postures(several)):
            key = one.expectation.name, other.expectation.name, text
            if key not in told:
                told[key] = Contradiction(one.expectation, other.expectation, audited.path(place), text)
    return list(told.values())


def _that_may_contradict(found: Sequence[Holding]) -> list[Holding]:
    """Those of which another could say the opposite, wherever that is: most say nothing that is ever denied."""
    demands = [demand for one in found for demand in one.expectation.demands]
    denied = {demand.right for demand in demands if demand.never or demand.only is not None}
    rights = denied & {demand.right for demand in demands if demand.always}
    return [
        one
        for one in found
        if one.expectation.stated != StatedPosture()
        or any(demand.right in rights for demand in one.expectation.demands)
    ]


def _about_the_same(found: Sequence[Holding]) -> Iterator[tuple[list[Holding], AuditedTree, int]]:
    """The sets of those that are about one object, each once, with where the first such object is."""
    about: dict[Identity, list[int]] = {}
    places: dict[Identity, tuple[AuditedTree, int]] = {}
    for number, one in enumerate(found):
        for audited, some in one.asked:
            for place, identity in zip(some.tolist(), audited.survey.identities(some), strict=True):
                numbers = about.setdefault(identity, [])
                if not numbers or numbers[-1] != number:
                    numbers.append(number)
                    places.setdefault(identity, (audited, place))
    first: dict[tuple[int, ...], Identity] = {}
    for identity, numbers in about.items():
        first.setdefault(tuple(numbers), identity)
    for several, identity in first.items():
        yield [found[number] for number in several], *places[identity]


def _of_rights(several: Sequence[Holding], audited: AuditedTree) -> Iterator[tuple[Holding, Holding, str]]:
    """Those who always have a right by one, and must not by another."""
    universe, accounts = audited.universe, audited.accounts
    for right in dict.fromkeys(demand.right for one in several for demand in one.expectation.demands):
        demands = [(one, demand) for one in several for demand in one.expectation.demands if demand.right is right]
        needed = [(one, people_of(demand.always, universe, accounts)) for one, demand in demands]
        barred = [(one, _barred(demand, universe, accounts)) for one, demand in demands]
        both = reduce(or_, (bits for _, bits in needed), 0) & reduce(or_, (bits for _, bits in barred), 0)
        pairs: dict[tuple[int, int], list[Principal]] = {}
        for number, member in islice(zip(bits_in(both), universe.members(both), strict=True), _TOLD):
            bit = 1 << number
            mine = next(place for place, (_, bits) in enumerate(needed) if bits & bit)
            theirs = next(place for place, (_, bits) in enumerate(barred) if bits & bit)
            pairs.setdefault((mine, theirs), []).append(member)
        for (mine, theirs), members in pairs.items():
            who = joined(visible(naming.word_for(one)) for one in members[:3])
            yield needed[mine][0], barred[theirs][0], f"{who} shall {right.name} there, and shall not"


def _of_postures(several: Sequence[Holding]) -> Iterator[tuple[Holding, Holding, str]]:
    """Those that state something else than the first that states anything of it."""
    for what, value_of in _STATED.items():
        first: tuple[Holding, object] | None = None
        for one in several:
            value = value_of(one.expectation.stated)
            if value is None:
                continue
            if first is None:
                first = one, value
            elif value != first[1]:
                bare = () in (value, first[1])
                none = f"one states a {what}, and the other that there is none"
                yield first[0], one, none if bare else f"they state another {what} each"
                break


_STATED: dict[str, Callable[[StatedPosture], object]] = {
    "owner": lambda stated: stated.uid,
    "group": lambda stated: stated.gid,
    "mode": lambda stated: stated.mode,
    "list": lambda stated: () if stated.no_acl else stated.acl,
    "default list": lambda stated: () if stated.no_default else stated.default,
}


def _barred(demand: Demand, universe: Universe, accounts: Accounts) -> int:
    people = universe.of_kind("user") | universe.of_kind("anyone-else")
    barred = people_of(demand.never, universe, accounts)
    return barred if demand.only is None else barred | people & ~people_of(demand.only, universe, accounts)


def words(one: Contradiction) -> str:
    """The contradiction as a sentence: which expectations, at which path, and why."""
    names = [quoted(one.one.name), quoted(one.other.name)]
    both = names[0] if one.one is one.other else joined(names)
    verb = "contradicts itself" if one.one is one.other else "contradict each other"
    return f"{both} {verb} at {visible(one.path)}: {one.text}"

"""Comparing the hosts of a fleet with each other: which of them are not as most are."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from json import dumps
from typing import NamedTuple

import numpy as np

from fiat.app.fleet import FleetHost, JoinedNames, file_of, open_one, without_path
from fiat.app.fleetwork import in_pieces
from fiat.app.question import Question
from fiat.app.whobelow import TreeWho, who_below
from fiat.core.errors import FiatError, PathError, SnapshotError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.posture import Posture
from fiat.core.model.record import PostureRecord
from fiat.core.state.betweenhosts import Hashes, Most, Said, WorthTelling, among
from fiat.core.state.fleet import EveryPerson, Met, People, Sameness, SamePeople, Together, members
from fiat.core.text import Fields
from fiat.core.tree.walk import walk
from fiat.core.words.naming import PeopleWords, entry
from fiat.engine.pieces import Engine
from fiat.host.snapshot.host import SnapshotHost

POSTURE, RIGHTS = "posture", "rights"
"""The kinds of things that are said of a path."""


class Thing(NamedTuple):
    """What a host says of a path: the kind of it, and in full; None: it is not there. ``where`` is the hash of path and
    kind."""

    where: int
    path: str
    kind: str
    what: Fields | None


class Deviation(NamedTuple):
    """What some hosts (as a set) say of paths, and what most say instead, with those hosts; the first of the paths."""

    hosts: int
    there: Thing
    most: Fields
    most_hosts: int
    paths: list[str]


class BetweenHosts(NamedTuple):
    """The deviations, the rarest first, and how many paths only ``few`` hosts have.

    ``failed`` are the hosts, by their places, that could not be asked, with the reason.
    """

    deviations: list[Deviation]
    few: int
    failed: dict[int, str]
    problems: list[tuple[int, PathError]]
    people: EveryPerson


class _Asked(NamedTuple):
    host: FleetHost
    paths: tuple[str, ...]
    same_people: SamePeople
    names: JoinedNames | None
    incomplete: bool
    wanted: WorthTelling | None = None


class _Answer(NamedTuple):
    people: People
    said: Said | None
    told: list[tuple[int, Thing]]
    problems: list[PathError]


def compare_hosts(
    engine: Engine,
    hosts: Sequence[FleetHost],
    paths: Sequence[str] = (),
    *,
    same_people: SamePeople = "name",
    names: JoinedNames | None = None,
    incomplete: bool = False,
    progress: Callable[[int, str], None] = lambda count, host: None,
) -> BetweenHosts:
    """What hosts have at the same paths, or in the trees that their snapshots hold, that most others have not."""
    asked = _Asked(FleetHost("", ""), tuple(paths), same_people, names, incomplete)
    most = Most()
    people = EveryPerson()
    failed: dict[int, str] = {}
    problems: list[tuple[int, PathError]] = []
    first = (asked._replace(host=host) for host in in_pieces(engine, hosts))
    for count, (place, answer) in enumerate(engine.each(say, first), 1):
        progress(count, hosts[place].name)
        if isinstance(answer, FiatError):
            failed[place] = str(answer)
            continue
        if isinstance(answer, Exception):
            raise answer
        assert answer.said is not None
        most.take(answer.said)
        people.take(place, answer.people)
        problems += ((place, problem) for problem in answer.problems)
    wanted = most.worth_telling()
    told: Together[Thing] = Together()
    good = [place for place in range(len(hosts)) if place not in failed]
    again = asked._replace(wanted=wanted.sorted())
    second = (again._replace(host=host) for host in in_pieces(engine, [hosts[place] for place in good]))
    if len(wanted.both):
        for number, answer in engine.each(say, second):
            if isinstance(answer, Exception):
                raise answer
            for both, thing in answer.told:
                told.take(good[number], both.to_bytes(8, "little"), thing)
    return BetweenHosts(
        _deviations(told, {int(one) for one in wanted.most.tolist()}), wanted.rare, failed, problems, people
    )


def _deviations(told: Together[Thing], most: set[int]) -> list[Deviation]:
    """Of what was told in full what most do not say, the same things of many paths together."""
    normal: dict[int, Met[Thing]] = {}
    others: list[Met[Thing]] = []
    for digest, met in told.known.items():
        if int.from_bytes(digest, "little") in most:
            normal[met.said.where] = met
        else:
            others.append(met)
    alike: dict[tuple[int, str, str, int], Deviation] = {}
    for met in others:
        usual = normal.get(met.said.where)
        if usual is None or usual.said.what is None or (met.said.what is None and usual.said.kind != POSTURE):
            continue  # where there is nothing, nobody has any rights
        key = (met.hosts, dumps(met.said.what), dumps(usual.said.what), usual.hosts)
        known = alike.get(key)
        if known is None:
            there = met.said._replace(kind=usual.said.kind)
            alike[key] = Deviation(met.hosts, there, usual.said.what, usual.hosts, [usual.said.path])
        else:
            known.paths.append(usual.said.path)
    for one in alike.values():
        one.paths.sort()
    return sorted(alike.values(), key=_rarest_first)


def _rarest_first(one: Deviation) -> tuple[int, tuple[int, ...], list[str], str]:
    return one.hosts.bit_count(), tuple(members(one.hosts)), one.paths, one.there.kind


def say(asked: _Asked) -> _Answer:
    """What one host has at each path: in hashes, or in full what is wanted."""
    with file_of(asked.host) as path:
        try:
            host, people = open_one(path, None, asked.names, incomplete=asked.incomplete)
        except FiatError as error:
            raise SnapshotError(without_path(str(error), asked.host, path)) from error
        problems: list[PathError] = []
        same = Sameness(people, asked.same_people)
        things = [_Things(tree, same) for tree in _trees(host, asked.paths, problems)]
    nothing = np.empty(0, np.uint64)
    where = np.concatenate([nothing, *(one.where for one in things)])
    if asked.wanted is None:
        return _Answer(people, Said(where, np.concatenate([nothing, *(one.both for one in things)])), [], problems)
    wanted = asked.wanted
    told = [pair for one in things for pair in one.told(wanted)]
    lacking = wanted.missing[~among(np.sort(where), wanted.missing)]
    told += [(one ^ 1, Thing(one, "", "", None)) for one in lacking.tolist()]
    return _Answer(people, None, told, problems)


def _trees(host: Host, paths: Sequence[str], problems: list[PathError]) -> Iterator[TreeWho]:
    tops: Sequence[str] = paths
    if not paths:
        tops = host.held.tops if isinstance(host, SnapshotHost) else ("/",)
    question = Question(host)
    for top in tops:
        route = walk(host, top)
        if route.end is not None:  # else it is missing here, where others have it
            yield who_below(question, route, across_mounts=True, problem=problems.append)


class _Things:
    """What a host says of the entries of a tree: of each its posture, and who has which right."""

    def __init__(self, tree: TreeWho, same: Sameness) -> None:
        survey, answers = tree.survey, tree.answers
        accounts = tree.question.host.accounts
        record, people = PostureRecord(accounts), PeopleWords(tree.universe, accounts, tree.universe.everyone)
        self._tree = tree
        self._postures = [_posture(one.posture, record, accounts) for one in survey.profiles]
        known: dict[int, Fields] = {}
        self._rights: list[Fields] = []
        for place in range(len(answers.keys)):
            each: Fields = {}
            for right, bits in zip(tree.rights, answers.keys[place], strict=True):
                if bits is not None:
                    if bits not in known:
                        known[bits] = _people(people, bits)
                    each[right.name] = known[bits]
            self._rights.append(each)
        path_hashes = [_hash(path.encode("utf-8", "surrogateescape")) for path in survey.paths()]
        path = np.array(path_hashes, np.uint64)
        wheres, boths = [], []
        for salt, said, number in ((1, self._postures, survey.profile), (2, self._rights, answers.number)):
            what = np.array([_hash(same.of_record(one, _IN_WORDS)) for one in said], np.uint64)
            where = _mixed(path * np.uint64(2) + np.uint64(salt))
            wheres.append(where)
            boths.append(_mixed(where + what[number]) & ~np.uint64(1))
        self.where = np.concatenate(wheres)
        self.both = np.concatenate(boths)

    def told(self, wanted: WorthTelling) -> Iterator[tuple[int, Thing]]:
        """In full what is wanted, with the hash of where and what."""
        count = len(self._tree.survey)
        numbers = (self._tree.survey.profile, self._tree.answers.number)
        for place in np.flatnonzero(among(wanted.both, self.both)).tolist():
            rights, entry = divmod(place, count)
            said = (self._rights if rights else self._postures)[int(numbers[rights][entry])]
            thing = Thing(int(self.where[place]), self._tree.survey.path(entry), (POSTURE, RIGHTS)[rights], said)
            yield int(self.both[place]), thing


_IN_WORDS = ("short", "entries")
"""Fields that say again what others say."""


def _posture(posture: Posture, record: PostureRecord, accounts: Accounts) -> Fields:
    """A posture as a record, with the entries of its lists by the names of whom they are for."""
    lists = (("acl", posture.acl), ("default", posture.default))
    named = {name: [entry(one, accounts) for one in acl.entries] for name, acl in lists if acl is not None}
    return {**record.write(posture), "entries": named}


def _people(people: PeopleWords, bits: int) -> Fields:
    """A set of people: exactly who they are (or all but whom), and in short."""
    exactly = people.exactly(bits)
    return {"all_but": exactly.all_but, "people": list(exactly.words), "short": people.words(bits)}


def _hash(data: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(data, digest_size=8).digest(), "little")


def _mixed(numbers: Hashes) -> Hashes:
    """Each with its bits spread over all of it: the end of SplitMix64 (Steele, Lea, Flood 2014)."""
    found = (numbers ^ (numbers >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    found = (found ^ (found >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return np.asarray(found ^ (found >> np.uint64(31)), np.uint64)

"""What root and services run and read by themselves: who could put something else in its place, or make it.

Source: unlink(2), execve(2).
"""

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.evidence import StartedFile
from fiat.core.audit.replacing import Foothold, beside, footholds, mend_of, nearest, without
from fiat.core.model import right as rights
from fiat.core.model.mode import EXECUTE_BITS, STICKY, WRITE
from fiat.core.model.route import lies_under
from fiat.core.model.wish import Wish
from fiat.core.text import joined, visible
from fiat.core.tree.distinct import distinct, each_once
from fiat.core.words import naming


class _Use(NamedTuple):
    """In which way something is used, by whom: what is said of all that is used so, and could be replaced alike."""

    uid: int | None
    run: bool
    folder: bool
    missing: bool

    def words(self, audited: AuditedTree) -> str:
        who = "a user made for the purpose" if self.uid is None else naming.user(self.uid, audited.accounts)
        verb = "run" if self.run else "read"
        if self.missing:
            return f"{who} {verb}s what is not there yet"
        return f"{who} {verb}s {'whatever lies here' if self.folder else 'it'}"


def _found(audited: AuditedTree) -> Iterator[RuleFinding]:
    started = audited.evidence.started()
    if started is None:
        return
    top = audited.survey.top.path
    inside = [one for one in started if not one.end or lies_under(one.end, top)]
    ends = {path: nearest(audited, path) for path in dict.fromkeys(one.path for one in inside)}
    places = audited.places_of([end for end in ends.values() if end is not None and lies_under(end, top)])
    alike: dict[tuple[_Use, Foothold], dict[StartedFile, int]] = {}
    for one in inside:
        place = places.get(ends.get(one.path) or "")
        if place is None:
            continue
        trusted = audited.root | (audited.universe.with_uid(one.uid) if one.uid is not None else 0)
        use = _Use(one.uid, one.run, one.folder, audited.walk(one.path).end is None)
        for hold in footholds(audited, one.path, trusted):
            alike.setdefault((use, hold), {})[one] = place
        added = beside(audited, one.path, trusted) if one.run and not one.folder else None
        if added is not None:
            script = audited.object(place).script is not None
            could = f"{added.words(audited)}, where it may load from"
            text = f"{use.words(audited)} ({visible(one.by)}), and {could}"
            weight = "danger" if script else "odd"
            yield RuleFinding(weight, text, np.array([place]), added.people, mend_of(audited, added))
    for (use, hold), ones in alike.items():
        yield _told(audited, use, hold, ones)


def _told(audited: AuditedTree, use: _Use, hold: Foothold, ones: dict[StartedFile, int]) -> RuleFinding:
    """One finding of all that is used alike, and could be replaced by the same means."""
    by = list(dict.fromkeys(visible(one.by) for one in ones))
    shown = by if len(by) <= _NAMED else [*by[: _NAMED - 1], f"{len(by) - _NAMED + 1:,} more"]
    missing = list(dict.fromkeys(one.path for one in ones)) if use.missing else []
    which = f": {visible(missing[0])}" if len(missing) == 1 else f": {len(missing):,} of these" if missing else ""
    text = f"{use.words(audited)}{which} ({joined(shown)}), and {hold.words(audited)}"
    return RuleFinding("danger", text, distinct(np.array(list(ones.values()))), hold.people, mend_of(audited, hold))


_NAMED = 4
"""So many of what starts it are named."""


def _configuration(audited: AuditedTree) -> Iterator[RuleFinding]:
    """What lies in /etc, is told by nothing else, and others than root and its owner may write to."""
    place = audited.places_of(["/etc"]).get("/etc")
    if place is None:
        return
    started = {one.path for one in audited.evidence.started() or ()}
    mode, uid, _ = audited.columns
    inside = np.append(audited.below(place), place)
    inside = inside[(audited.files | audited.directories)[inside]]
    inside = inside[(mode[inside] & STICKY == 0) & (mode[inside] & 0o002 == 0)]  # what is open to all is told elsewhere
    own = audited.universe.with_uid
    for people, some in audited.by_others(inside, rights.WRITE):
        for one in some.tolist() if people else ():
            if audited.path(one) not in started:
                mend = without(audited.universe, audited.object(one).posture, people, WRITE)
                text = "it belongs to the settings of this host, and others may write to it"
                yield RuleFinding("odd", text, np.array([one]), people, mend)
    first = audited.accounts.first_person
    for owner in each_once(uid[inside][uid[inside] >= first]):
        some = inside[uid[inside] == owner]
        left = [one for one in some.tolist() if audited.path(one) not in started]
        text = f"it belongs to the settings of this host, and to {naming.user(owner, audited.accounts)}"
        yield RuleFinding("odd", text, np.array(left, np.int64), own(owner), Mend(Wish(uid=0)))


def _stray(audited: AuditedTree) -> Iterator[RuleFinding]:
    """Root's programs in directories of others: nothing known runs them, and somebody may."""
    mode, uid, _ = audited.columns
    survey = audited.survey
    above = np.maximum(survey.parent, 0)
    theirs = (survey.parent >= 0) & (uid[above] != 0) & (uid == 0) & audited.files & (mode & EXECUTE_BITS != 0)
    programs = theirs & audited.by_rest(lambda rest: rest.program is not None and rest.program.format is not None)
    started = {one.path for one in audited.evidence.started() or ()}
    packaged = audited.evidence.packaged(audited.paths(np.flatnonzero(programs))) or frozenset()
    for owner in each_once(uid[above][programs]):
        some = np.flatnonzero(programs & (uid[above] == owner))
        people = audited.universe.with_uid(owner)
        left = []
        for place, path in zip(some.tolist(), audited.paths(some), strict=True):
            reach = people & audited.allowed(audited.path(int(survey.parent[place])), rights.CHANGE_MODE)
            if reach and path not in started and path not in packaged:
                left.append(place)
        text = (
            f"a program of root's in a directory of {naming.user(owner, audited.accounts)}, "
            "who can put another in its place: root must not run it"
        )
        yield RuleFinding("odd", text, np.array(left, np.int64), people)


RULES = (
    Rule(
        "started-replaceable",
        "something that root or a service runs or reads, and others could replace",
        "who replaces it acts as whoever runs it, the next time that it is started",
        _found,
    ),
    Rule(
        "settings-writable",
        "settings of the host, in /etc, that others may write to",
        "whatever reads them does what they say",
        _configuration,
    ),
    Rule(
        "program-in-foreign-directory",
        "a program of root's in a directory of somebody else",
        "whose directory it is decides what root runs by that name",
        _stray,
    ),
)

"""One among many of the same: what deviates from its siblings, told by its share, not by a list of what is right."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Places, Rule, RuleFinding
from fiat.core.model.mode import EXECUTE_BITS, READ, SETGID, SETUID, SPECIAL, WRITE, octal
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Posture
from fiat.core.model.wish import Wish
from fiat.core.rules.decision import Decisions
from fiat.core.text import joined
from fiat.core.tree.distinct import distinct_columns
from fiat.core.words import naming

_SIBLINGS = 50
"""So many files must be in a directory for one of them to deviate."""

_NO_NEWS = EXECUTE_BITS | SPECIAL
"""Who may execute differs between programs and data in one directory."""

_SHARE = 50
"""One in so many at most deviates, and the others are all alike."""


def _found(audited: AuditedTree) -> Iterator[RuleFinding]:
    survey = audited.survey
    columns = survey.profiles.columns
    profile = survey.profile
    # of a program with setuid or setgid the owner and the group are its privilege
    plain = columns.mode[profile] & (SETUID | SETGID) == 0
    files = np.flatnonzero(audited.files & (survey.parent >= 0) & plain)
    if not len(files):
        return
    sorts, sort = distinct_columns(columns.mode & ~_NO_NEWS, columns.uid, columns.gid, columns.acl)
    in_directory = survey.parent[files].astype(np.int64) * len(sorts) + sort[profile[files]]
    first, number = distinct_columns(in_directory)
    counts = np.bincount(number, minlength=len(first))
    parents = survey.parent[files[first]]
    order = np.lexsort((-counts, parents))
    starts = np.flatnonzero(np.append(True, np.diff(parents[order]) != 0))
    ends = np.append(starts[1:], len(order))
    wholes, most_alike = np.add.reduceat(counts[order], starts), counts[order[starts]]
    few = (wholes >= _SIBLINGS) & (most_alike < wholes) & ((wholes - most_alike) * _SHARE <= wholes)
    for start, end, whole in zip(starts[few].tolist(), ends[few].tolist(), wholes[few].tolist(), strict=True):
        kinds = order[start:end]
        norm = survey.profiles[int(profile[files[first[kinds[0]]]])].posture
        for kind in kinds[1:].tolist():
            posture = survey.profiles[int(profile[files[first[kind]]])].posture
            places = files[number == kind]
            yield _told(audited, places, posture, norm, whole)


def _told(audited: AuditedTree, places: Places, posture: Posture, norm: Posture, whole: int) -> RuleFinding:
    accounts = audited.accounts
    has, others = [], []
    wish = Wish()
    if posture.uid != norm.uid:
        has.append(f"owned by {naming.user(posture.uid, accounts)}")
        others.append(f"by {naming.user(norm.uid, accounts)}")
        wish = wish._replace(uid=norm.uid)
    if posture.gid != norm.gid:
        has.append(f"of group {naming.group(posture.gid, accounts)}")
        others.append(f"of {naming.group(norm.gid, accounts)}")
        wish = wish._replace(gid=norm.gid)
    if (posture.mode ^ norm.mode) & ~_NO_NEWS:
        has.append(octal(posture.mode))
        others.append(octal(norm.mode))
        wish = wish._replace(mode=parse_change(octal(norm.mode & ~_NO_NEWS | posture.mode & _NO_NEWS)))
    if posture.acl != norm.acl:
        has.append("with another access list" if posture.acl is not None else "without an access list")
        others.append("with one" if posture.acl is None else "without it" if norm.acl is None else "with theirs")
        wish = Wish()
    be = "is" if len(places) == 1 else "are"
    text = f"{len(places):,} of {whole:,} files here {be} {joined(has)}; the others are {joined(others)}"
    decisions = Decisions(audited.universe)
    given = 0
    for want in (READ, WRITE):
        given |= decisions.of(posture).allowed(want) & ~decisions.of(norm).allowed(want)
    given &= audited.others & ~audited.universe.with_uid(posture.uid)
    return RuleFinding("odd" if given else "plain", text, places, given, None if wish == Wish() else Mend(wish))


RULES = (
    Rule(
        "deviates",
        "a file that is not as all the others beside it are",
        "one in a great many is more often forgotten, or changed by somebody, than meant",
        _found,
    ),
)

"""Secrets that others may read, by what they are: see :mod:`fiat.core.rules.secretkinds`."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Places, Rule, RuleFinding
from fiat.core.audit.replacing import without
from fiat.core.model import right as rights
from fiat.core.model.mode import READ
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Posture
from fiat.core.model.wish import ListWish, Wish
from fiat.core.rules import secretkinds


def candidates(audited: AuditedTree) -> Iterator[tuple[int, Places]]:
    """Small files that somebody besides the owner can read, by who these are; nobody, as far as is known, where only
    another name could be open to somebody."""
    details = audited.survey.details
    small = audited.files.copy()
    if details is not None:
        small &= (details.size < secretkinds.LARGEST) & (details.size > 0)
    for people, places in audited.by_others(np.flatnonzero(small), rights.READ):
        if people:
            yield people, places
        elif audited.may_be_elsewhere[places].any():
            yield 0, places[audited.may_be_elsewhere[places]]


def unpackaged(audited: AuditedTree, places: Places) -> dict[str, int]:
    """The paths of these that no package owns, with their places."""
    paths = dict(zip(audited.paths(places), places.tolist(), strict=True))
    packaged = audited.evidence.packaged(list(paths)) or frozenset()
    return {path: place for path, place in paths.items() if path not in packaged}


def _found(audited: AuditedTree) -> Iterator[RuleFinding]:
    for people, places in candidates(audited):
        paths = unpackaged(audited, places)
        kinds = audited.evidence.secrets(list(paths))
        yield from _told(audited, people, paths, dict(kinds or {}))


def _told(audited: AuditedTree, whose: int, paths: dict[str, int], kinds: dict[str, str]) -> Iterator[RuleFinding]:
    for path, kind in kinds.items():
        place = paths[path]
        library, tests = secretkinds.is_example(path, kind), secretkinds.in_tests(path)
        weight = "danger" if kind in secretkinds.DANGEROUS and not tests else "odd"
        people, words = (whose, "") if whose else audited.by_other_names(place, rights.READ)
        if not people and not words:
            continue
        weight = weight if people else "odd"
        text = f"it holds {kind}, and others may read it{words}" if people else f"it holds {kind}{words}"
        if library or tests:
            text += "; it seems to be an example of a library" if library else "; it seems to be there for tests"
        mend = _mend(audited.object(place).posture, audited, people, kind)
        yield RuleFinding("plain" if library else weight, text, np.array([place]), people, mend)


def _mend(posture: Posture, audited: AuditedTree, people: int, kind: str) -> Mend | None:
    """Of a key nobody but its owner may read anything, for programs that use one insist on that (ssh(1), for one)."""
    if kind in (secretkinds.PLAIN_KEY, secretkinds.SEALED_KEY):
        return Mend(Wish(mode=parse_change("go="), access=ListWish(drop=posture.acl is not None)))
    return without(audited.universe, posture, people, READ)


def _logs(audited: AuditedTree) -> Iterator[RuleFinding]:
    logs = [
        place
        for place, path in audited.survey.paths_of(np.flatnonzero(audited.files).tolist())
        if "/log" in path or path.endswith(".log")
    ]
    for people, places in audited.by_others(np.array(logs, np.int64), rights.READ):
        if not people & audited.universe.of_kind("anyone-else"):
            continue
        paths = dict(zip(audited.paths(places), places.tolist(), strict=True))
        for path in audited.evidence.logged(list(paths)) or ():
            place = paths[path]
            mend = without(audited.universe, audited.object(place).posture, people, READ)
            text = "lines in this log look like credentials, and everyone may read it"
            yield RuleFinding("danger", text, np.array([place]), people, mend)


RULES = (
    Rule(
        "secret-readable",
        "a secret that others may read",
        "who has read it can use it for as long as it holds, and leaves no trace",
        _found,
    ),
    Rule(
        "log-with-credentials",
        "a log that everyone may read, and that holds credentials",
        "who has read them can use them for as long as they hold",
        _logs,
        asked=True,
    ),
)

"""Secrets that others may read, by what they are: see :mod:`fiat.core.audit.secretkinds`."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit import secretkinds
from fiat.core.audit.auditedtree import AuditedTree, Places, Rule, RuleFinding
from fiat.core.audit.replacing import without
from fiat.core.model import right as rights
from fiat.core.model.mode import READ


def candidates(audited: AuditedTree) -> Iterator[tuple[int, Places]]:
    """Small files that somebody besides the owner can read, by who these are."""
    details = audited.survey.details
    small = audited.files.copy()
    if details is not None:
        small &= (details.size < secretkinds.LARGEST) & (details.size > 0)
    for people, places in audited.by_others(np.flatnonzero(small), rights.READ):
        if people:
            yield people, places


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


def _told(audited: AuditedTree, people: int, paths: dict[str, int], kinds: dict[str, str]) -> Iterator[RuleFinding]:
    for path, kind in kinds.items():
        place = paths[path]
        tests = secretkinds.in_tests(path)
        weight = "danger" if kind in secretkinds.DANGEROUS and not tests else "odd"
        text = f"it holds {kind}, and others may read it" + ("; it seems to be there for tests" if tests else "")
        mend = without(audited.universe, audited.object(place).posture, people, READ)
        yield RuleFinding("plain" if tests else weight, text, np.array([place]), people, mend)


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

"""Setuid, setgid and capability programs. Source: execve(2), capabilities(7), inode(7)."""

import posixpath
import re
from collections.abc import Iterator

import numpy as np

from fiat.core.audit.ground import AuditedTree, Mend, Places, Rule, RuleFinding
from fiat.core.audit.replacing import footholds, mend_of
from fiat.core.model import right as rights
from fiat.core.model.mode import EXECUTE_BITS, SETGID, SETUID
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Object
from fiat.core.model.wish import Wish
from fiat.core.rules.privilege import refuses_privilege, set_id_by_mode
from fiat.core.words import naming

_RUNS_ANYTHING = re.compile(
    r"(?:(?:ba|da|a|k|mk|z|c|tc|fi)?sh|python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|lua[0-9.]*|[gmn]?awk|env|xargs)"
)
"""Names of programs that run whatever they are told to."""


def privileged(ground: AuditedTree) -> Places:
    """Programs that give whoever runs them something: setuid, setgid or capabilities, where these have effect."""
    mode, _, _ = ground.columns
    executable = mode & EXECUTE_BITS != 0
    capable = executable & ground.by_rest(lambda rest: rest.posture.capabilities is not None)
    counts = ground.by_rest(lambda rest: not refuses_privilege(rest.program, rest.mount))
    return np.flatnonzero(ground.files & counts & ((set_id_by_mode(mode) != 0) | capable))


def _as_whom(ground: AuditedTree, found: Object) -> str:
    parts, counts = [], set_id_by_mode(found.posture.mode)
    if counts & SETUID:
        parts.append(f"as {naming.user(found.posture.uid, ground.accounts)}")
    if counts & SETGID:
        parts.append(f"in group {naming.group(found.posture.gid, ground.accounts)}")
    if found.posture.capabilities is not None:
        parts.append("with capabilities")
    return " ".join(parts)


def _replaceable(ground: AuditedTree) -> Iterator[RuleFinding]:
    for place in privileged(ground).tolist():
        found = ground.object(place)
        trusted = ground.root | (ground.universe.with_uid(found.posture.uid) if found.posture.mode & SETUID else 0)
        for hold in footholds(ground, found.path, trusted):
            text = f"it runs {_as_whom(ground, found)}, and {hold.words(ground)}"
            yield RuleFinding("danger", text, np.array([place]), hold.people, mend_of(ground, hold))


def _unusual(ground: AuditedTree) -> Iterator[RuleFinding]:
    places = privileged(ground)
    paths = ground.paths(places)
    packaged = ground.evidence.packaged(paths)
    for place, path in zip(places.tolist(), paths, strict=True):
        found = ground.object(place)
        anything = _RUNS_ANYTHING.fullmatch(posixpath.basename(path)) is not None
        if packaged is not None and path in packaged and not anything:
            continue
        bits = (SETUID | SETGID) & found.posture.mode
        letters = ",".join(clause for bit, clause in ((SETUID, "u-s"), (SETGID, "g-s")) if bits & bit)
        mend = Mend(Wish(mode=parse_change(letters or "go-x")))  # capabilities go with nothing that can be set
        if anything:
            why = "and runs whatever it is told to"
        elif packaged is None:
            why = "and whether a package owns it was not looked at"
        else:
            why = "and no package owns it"
        strong = bool(found.posture.mode & SETUID and found.posture.uid == 0) or found.posture.capabilities is not None
        weight = "danger" if anything or (strong and packaged is not None) else "odd"
        text = f"whoever runs it acts {_as_whom(ground, found)}, {why}"
        for users, _ in ground.by_others(np.array([place]), rights.EXECUTE):
            if users:
                yield RuleFinding(weight, text, np.array([place]), users, mend)
            else:
                yield RuleFinding("plain", f"{text}; nobody else gets to run it", np.array([place]), 0, mend)


RULES = (
    Rule(
        "privilege-replaceable",
        "a program with privilege that others could replace or write to",
        "whoever changes it decides what is done with that privilege",
        _replaceable,
    ),
    Rule(
        "privilege-unusual",
        "a program with privilege that is not the distribution's",
        "nobody mends what nobody knows of: it keeps its privilege however old it grows",
        _unusual,
    ),
)

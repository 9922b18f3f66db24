"""Setuid, setgid and capability programs. Source: execve(2), capabilities(7), inode(7)."""

import posixpath
import re
from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Places, Rule, RuleFinding
from fiat.core.audit.replacing import footholds, mend_of
from fiat.core.model import right as rights
from fiat.core.model.mode import EXECUTE_BITS, SETGID, SETUID
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Object, Posture
from fiat.core.model.wish import Wish
from fiat.core.rules.privilege import refuses_privilege, set_id_by_mode
from fiat.core.words import naming

_RUNS_ANYTHING = re.compile(
    r"(?:(?:ba|da|a|k|mk|z|c|tc|fi)?sh|python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|lua[0-9.]*|[gmn]?awk|env|xargs)"
)
"""Names of programs that run whatever they are told to."""


def privileged(audited: AuditedTree) -> Places:
    """Programs that give whoever runs them something: setuid, setgid or capabilities, where these have effect."""
    mode, _, _ = audited.columns
    executable = mode & EXECUTE_BITS != 0
    capable = executable & audited.by_rest(lambda rest: gives_capabilities(rest.posture))
    counts = audited.by_rest(lambda rest: not refuses_privilege(rest.program, rest.mount))
    return np.flatnonzero(audited.files & counts & ((set_id_by_mode(mode) != 0) | capable))


def gives_capabilities(posture: Posture) -> bool:
    """Whether whoever runs it gets capabilities by it: what is inheritable alone, or is for the root of another user
    namespace, gives nobody anything here (capabilities(7), "Transformation of capabilities during execve()")."""
    found = posture.capabilities
    return found is not None and found.permitted != 0 and not found.rootid


def _as_whom(audited: AuditedTree, found: Object) -> str:
    parts, counts = [], set_id_by_mode(found.posture.mode)
    if counts & SETUID:
        parts.append(f"as {naming.user(found.posture.uid, audited.accounts)}")
    if counts & SETGID:
        parts.append(f"in group {naming.group(found.posture.gid, audited.accounts)}")
    if gives_capabilities(found.posture):
        parts.append("with capabilities")
    return " ".join(parts)


def _replaceable(audited: AuditedTree) -> Iterator[RuleFinding]:
    places = privileged(audited)
    packaged = audited.evidence.packaged(audited.paths(places)) or frozenset()
    for place in places.tolist():
        found = audited.object(place)
        trusted = audited.root | (audited.universe.with_uid(found.posture.uid) if found.posture.mode & SETUID else 0)
        holds = dict.fromkeys(footholds(audited, found.path, trusted))
        for library in audited.evidence.loaded(found.path) or () if found.path not in packaged else ():
            holds |= dict.fromkeys(footholds(audited, library, trusted))
        for hold in holds:
            text = f"it runs {_as_whom(audited, found)}, and {hold.words(audited)}"
            mend = (
                mend_of(audited, hold)
                if found.path in packaged
                else _without_privilege(found) or mend_of(audited, hold)
            )
            yield RuleFinding("danger", text, np.array([place]), hold.people, mend)


def _without_privilege(found: Object) -> Mend | None:
    """What nobody brought here as a package loses its privilege: no directory has to be taken from anybody for that."""
    letters = _privilege_letters(found.posture)
    return Mend(Wish(mode=parse_change(letters)), (found.path,)) if letters else None


def _privilege_letters(posture: Posture) -> str:
    bits = (SETUID | SETGID) & posture.mode
    return ",".join(clause for bit, clause in ((SETUID, "u-s"), (SETGID, "g-s")) if bits & bit)


def _unusual(audited: AuditedTree) -> Iterator[RuleFinding]:
    places = privileged(audited)
    paths = audited.paths(places)
    packaged = audited.evidence.packaged(paths)
    for place, path in zip(places.tolist(), paths, strict=True):
        found = audited.object(place)
        anything = _RUNS_ANYTHING.fullmatch(posixpath.basename(path)) is not None
        if packaged is not None and path in packaged and not anything:
            continue
        letters = _privilege_letters(found.posture)
        mend = Mend(Wish(mode=parse_change(letters or "go-x")))  # capabilities go with nothing that can be set
        if anything:
            why = "and runs whatever it is told to"
        elif packaged is None:
            why = "and whether a package owns it was not looked at"
        else:
            why = "and no package owns it"
        strong = bool(found.posture.mode & SETUID and found.posture.uid == 0) or gives_capabilities(found.posture)
        weight = "danger" if anything or (strong and packaged is not None) else "odd"
        text = f"whoever runs it acts {_as_whom(audited, found)}, {why}"
        for users, _ in audited.by_others(np.array([place]), rights.EXECUTE):
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

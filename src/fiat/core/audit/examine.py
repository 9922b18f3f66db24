"""Examining a tree: what every rule finds there, equal findings together, the worst first."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Rule, RuleFinding
from fiat.core.audit.evidence import Evidence, SavedFindings
from fiat.core.audit.rules.privilege import privileged
from fiat.core.audit.rules.secrets import candidates, unpackaged
from fiat.core.model.finding import WEIGHTS
from fiat.core.model.host import Host
from fiat.core.tree.distinct import distinct
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import walk


def kept(host: Host, trees: Iterable[Survey], evidence: Evidence) -> SavedFindings:
    """What an audit of ``trees`` would ask of ``evidence``."""
    secrets: dict[str, str] = {}
    owned: set[str] = set()
    libraries: dict[str, tuple[str, ...]] = {}
    known = evidence.packaged(()) is not None
    for survey in trees:
        audited = AuditedTree(host, walk(host, survey.top.path), survey, evidence)
        programs = audited.paths(privileged(audited))
        theirs = evidence.packaged(programs) or frozenset()
        owned |= theirs
        libraries |= {path: evidence.loaded(path) or () for path in programs if path not in theirs}
        for _, places in candidates(audited):
            secrets |= evidence.secrets(list(unpackaged(audited, places))) or {}
    return SavedFindings(
        secrets if evidence.secrets(()) is not None else None,
        frozenset(owned) if known else None,
        evidence.started(),
        evidence.login(),
        libraries if evidence.loaded("") is not None else None,
        tuple(evidence.unread()),
    )


class TreeFinding(NamedTuple):
    """One finding as it is told: of ``rule``, in the tree of ``audited``."""

    rule: Rule
    audited: AuditedTree
    found: RuleFinding

    @property
    def paths(self) -> int:
        """On how many paths of the tree it was found."""
        return len(self.found.places)

    @property
    def first(self) -> str:
        """The first of its paths."""
        return self.audited.path(int(self.found.places[0]))


def examine(audited: AuditedTree, rules: Iterable[Rule]) -> list[TreeFinding]:
    """What the rules find in one tree."""
    return in_order(one for rule in rules for one in _of_rule(audited, rule))


def _of_rule(audited: AuditedTree, rule: Rule) -> Iterator[TreeFinding]:
    """What one rule finds, what is equal but for the place together."""
    alike: dict[object, list[RuleFinding]] = {}
    for found in rule.find(audited):
        if len(found.places):
            alike.setdefault((found.weight, found.text, found.people, found.mend), []).append(found)
    for some in alike.values():
        places = distinct(np.concatenate([one.places for one in some]))
        places = places[audited.judged[places]]
        if not len(places):
            continue
        yield TreeFinding(rule, audited, some[0]._replace(places=places))


def in_order(told: Iterable[TreeFinding]) -> list[TreeFinding]:
    """The worst first; of one weight, what more people can use; otherwise as the rules stand."""
    found = list(told)
    return sorted(found, key=lambda one: (WEIGHTS.index(one.found.weight), -one.found.people.bit_count()))

"""Keeping the evidence of an audit with a snapshot: what was found, never what files hold."""

from collections.abc import Iterable

from fiat.core.audit.evidence import Evidence, Kept
from fiat.core.audit.ground import Ground
from fiat.core.audit.rules.privilege import privileged
from fiat.core.audit.rules.secrets import candidates, unpackaged
from fiat.core.model.host import Host
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import walk


def kept(host: Host, trees: Iterable[Survey], evidence: Evidence) -> Kept:
    """What an audit of ``trees`` would ask of ``evidence``."""
    secrets: dict[str, str] = {}
    owned: set[str] = set()
    known = evidence.packaged(()) is not None
    for survey in trees:
        ground = Ground(host, walk(host, survey.top.path), survey, evidence)
        owned |= evidence.packaged(ground.paths(privileged(ground))) or frozenset()
        for _, places in candidates(ground):
            secrets |= evidence.secrets(list(unpackaged(ground, places))) or {}
    return Kept(
        secrets if evidence.secrets(()) is not None else None,
        frozenset(owned) if known else None,
        evidence.started(),
        evidence.login(),
        tuple(evidence.unread()),
    )

"""What services and the clock start: who could put something else in its place. Source: unlink(2), execve(2)."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Rule, RuleFinding
from fiat.core.audit.evidence import StartedFile
from fiat.core.audit.replacing import beside, footholds, mend_of
from fiat.core.model.route import lies_under
from fiat.core.text import visible
from fiat.core.words import naming


def _found(audited: AuditedTree) -> Iterator[RuleFinding]:
    started = audited.evidence.started()
    if started is None:
        return
    top = audited.survey.top.path
    ends = {path: end.path for path in dict.fromkeys(one.path for one in started) if (end := audited.walk(path).end)}
    places = audited.places_of([end for end in ends.values() if lies_under(end, top)])
    for one in started:
        place = places.get(ends.get(one.path, ""))
        if place is None:
            continue
        where = np.array([place])
        runner = audited.universe.with_uid(one.uid) if one.uid is not None else 0
        for hold in footholds(audited, one.path, audited.root | runner):
            text = f"{_who_runs(audited, one)} ({visible(one.by)}), and {hold.words(audited)}"
            yield RuleFinding("danger", text, where, hold.people, mend_of(audited, hold))
        added = beside(audited, one.path, audited.root | runner) if one.run else None
        if added is not None:
            script = audited.object(place).script is not None
            could = f"{added.words(audited)}, where it may load from"
            text = f"{_who_runs(audited, one)} ({visible(one.by)}), and {could}"
            yield RuleFinding("danger" if script else "odd", text, where, added.people, mend_of(audited, added))


def _who_runs(audited: AuditedTree, one: StartedFile) -> str:
    who = "a user made for the purpose" if one.uid is None else naming.user(one.uid, audited.accounts)
    return f"{who} {'runs' if one.run else 'reads'} it"


RULES = (
    Rule(
        "started-replaceable",
        "something that root or a service runs, and others could replace",
        "who replaces it acts as whoever runs it, the next time that it is started",
        _found,
    ),
)

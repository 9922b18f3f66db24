"""Remarks: what is odd, dangerous or easily misread about one object.

The door of this room is :func:`remarks_on`.
"""

from fiat.core.ask.remarks import beyond, bits, lists, people
from fiat.core.ask.remarks.subject import Subject
from fiat.core.model.accounts import Accounts
from fiat.core.model.finding import WEIGHTS, Finding
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object


def remarks_on(object_: Object, accounts: Accounts) -> list[Finding]:
    """All remarks on ``object_``: dangers first, then what is odd, then what is good to know."""
    subject = Subject(object_, accounts)
    found: list[Finding] = []
    if object_.posture.kind is Kind.SYMLINK:
        found.append(Finding("link-mode", "plain", "a symlink's own letters decide nothing: those of its target do"))
    else:
        for part in (people, bits, lists):
            found += part.remarks(subject)
    found += beyond.remarks(subject)
    found.sort(key=_weight)
    return [remark._replace(path=object_.path) for remark in found] if object_.path else found


def _weight(remark: Finding) -> int:
    return WEIGHTS.index(remark.weight)

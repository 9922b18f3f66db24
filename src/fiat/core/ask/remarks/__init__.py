"""What is odd, dangerous or easily misread about one object."""

from fiat.core.ask.remarks import beyond, bits, lists, people
from fiat.core.ask.remarks.remark import WEIGHTS, Remark, Subject
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Kind, Object

__all__ = ["Remark", "remarks_on"]


def remarks_on(object_: Object, accounts: Accounts) -> list[Remark]:
    """All remarks on ``object_``: dangers first, then what is odd, then what is good to know."""
    subject = Subject(object_, accounts)
    found: list[Remark] = []
    if object_.posture.kind is Kind.SYMLINK:
        found.append(Remark("link-mode", "plain", "a symlink's own letters decide nothing: those of its target do"))
    else:
        for part in (people, bits, lists):
            found += part.remarks(subject)
    found += beyond.remarks(subject)
    return sorted(found, key=lambda remark: WEIGHTS.index(remark.weight))

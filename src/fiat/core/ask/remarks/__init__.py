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


def unreadable_script(object_: Object) -> list[Finding]:
    """What is remarked on a script that some may execute and may not read; nothing on anything else."""
    mode = object_.posture.mode
    return bits.on_script(mode, object_.script)


def owners_for_codes(uid: int, gid: int, accounts: Accounts) -> tuple[bool, bool, bool]:
    """All that the codes of remarks depend on of an owner and a group; what they say names both.

    Objects of which nothing else is different, and that have the same here, get the same codes.
    """
    return (
        accounts.user_numbered(uid) is None,
        accounts.group_numbered(gid) is None,
        accounts.member_count(gid) == 0,
    )


def _weight(remark: Finding) -> int:
    return WEIGHTS.index(remark.weight)

"""Rules that are remarks on single objects: each is asked once of all that are alike."""

from collections.abc import Callable, Iterable, Iterator

import numpy as np

from fiat.core.ask.remarks import owners_for_codes, remarks_on
from fiat.core.audit.auditedtree import AuditedTree, Mend, RuleFinding
from fiat.core.model.posture import Posture
from fiat.core.tree.distinct import distinct

Mending = Callable[[Posture, AuditedTree], Mend | None]
Matters = Callable[[Posture, AuditedTree], bool]


def remarked(
    audited: AuditedTree, code: str, weight: str, mending: Mending, matters: Matters = lambda *_: True
) -> Iterator[RuleFinding]:
    """What the remark with this ``code`` is made on, told with what it says; what does not matter to anybody is not."""
    for found, text in _with_remark(audited, code):
        numbers = [number for number in found if matters(audited.survey.profiles[number].posture, audited)]
        if not numbers:
            continue
        places = audited.with_profiles(numbers)
        if len(places):
            yield RuleFinding(weight, text, places, 0, mending(audited.survey.profiles[numbers[0]].posture, audited))


def remarked_together(audited: AuditedTree, code: str, weight: str, mend: Mend, of_many: str) -> Iterator[RuleFinding]:
    """What is remarked; as one finding where it is made on more than a few kinds: ``of_many`` says how many."""
    found = list(remarked(audited, code, weight, lambda *_: mend))
    if len(found) <= _FEW:
        yield from found
        return
    places = distinct(np.concatenate([one.places for one in found]))
    yield RuleFinding(weight, of_many.format(f"{len(found):,}"), places, 0, mend)


_FEW = 5


def _with_remark(audited: AuditedTree, code: str) -> Iterator[tuple[list[int], str]]:
    """The profiles that a remark is made on, those that are alike together, with what it says."""
    if not audited.remarks:
        for numbers in _alike(audited):
            for one in remarks_on(audited.survey.profiles[numbers[0]].at(), audited.accounts):
                found = _by_owners(audited, numbers, one.code) if one.code in _NAMING else [(numbers, one.text)]
                audited.remarks.setdefault(one.code, []).extend(found)
    yield from audited.remarks.get(code, [])


_NAMING = ("owner-has-less", "group-has-less", "list-passed-over", "empty-group")
"""Remarks that name the owner or the group of what they are made on."""


def _by_owners(audited: AuditedTree, numbers: list[int], code: str) -> Iterator[tuple[list[int], str]]:
    """The same remark on profiles that are alike but for owner and group, each with the names of its own."""
    columns = audited.survey.profiles.columns
    split: dict[tuple[int, int], list[int]] = {}
    for number in numbers:
        split.setdefault((int(columns.uid[number]), int(columns.gid[number])), []).append(number)
    for some in split.values():
        for one in remarks_on(audited.survey.profiles[some[0]].at(), audited.accounts):
            if one.code == code:
                yield some, one.text


def _alike(audited: AuditedTree) -> Iterable[list[int]]:
    """The numbers of profiles on which the same is remarked."""
    alike: dict[object, list[int]] = {}
    rows = zip(*(column.tolist() for column in audited.survey.profiles.columns), strict=True)
    for number, (mode, uid, gid, acl, rest) in enumerate(rows):
        owners = owners_for_codes(uid, gid, audited.accounts)
        nameless = (uid if owners[0] else None, gid if owners[1] or owners[2] else None)
        alike.setdefault((mode, acl, rest, owners, nameless), []).append(number)
    return alike.values()

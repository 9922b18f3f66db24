"""Rules that are remarks on single objects: each is asked once of all that are alike."""

from collections.abc import Callable, Iterator

import numpy as np

from fiat.core.ask.remarks import owners_for_codes, remarks_on
from fiat.core.audit.found import Found, Mend
from fiat.core.audit.ground import Ground
from fiat.core.model.posture import Posture

Mending = Callable[[Posture, Ground], Mend | None]


def remarked(ground: Ground, code: str, weight: str, mending: Mending) -> Iterator[Found]:
    """What the remark with this ``code`` is made on, told with what it says."""
    survey = ground.survey
    alike: dict[object, list[int]] = {}
    columns = survey.profiles.columns
    rows = zip(*(column.tolist() for column in columns), strict=True)
    for number, (mode, uid, gid, acl, rest) in enumerate(rows):
        owners = owners_for_codes(uid, gid, ground.accounts)
        nameless = (uid if owners[0] else None, gid if owners[1] or owners[2] else None)
        alike.setdefault((mode, acl, rest, owners, nameless), []).append(number)
    for numbers in alike.values():
        for remark in _remarks(ground, numbers[0]):
            if remark[0] == code:
                places = np.flatnonzero(np.isin(survey.profile, numbers))
                if len(places):
                    yield Found(weight, remark[1], places, 0, mending(survey.profiles[numbers[0]].posture, ground))


def _remarks(ground: Ground, number: int) -> tuple[tuple[str, str], ...]:
    """The codes and texts of the remarks on one profile; remembered, for several rules ask."""
    found = ground.remarks.get(number)
    if found is None:
        said = remarks_on(ground.survey.profiles[number].at(), ground.accounts)
        found = ground.remarks[number] = tuple((one.code, one.text) for one in said)
    return found

"""Two trees whose profiles go by the same numbers."""

import numpy as np

from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.profile import Profile
from fiat.core.tree.profiles import Columns, Profiles
from fiat.core.tree.survey import Survey


def with_joint_profiles(one: Survey, other: Survey) -> tuple[Survey, Survey]:
    """The same two trees; profiles with the same number are the same on both sides.

    What is another with each start of the machine, and decides nothing, is left out of
    them: the number of the device, and what other mounts show of the file system.
    """
    joint = Profiles()
    columns = [_renumbered(survey.profiles, joint) for survey in (one, other)]
    together = Columns(*(np.concatenate(pair) for pair in zip(*columns, strict=True)))
    first, number = distinct_columns(*together)
    joint.extend(Columns(*(column[first] for column in together)))
    count = len(one.profiles)
    return (
        one.with_profiles(joint, number[:count][one.profile].astype(np.int32)),
        other.with_profiles(joint, number[count:][other.profile].astype(np.int32)),
    )


def _renumbered(profiles: Profiles, joint: Profiles) -> Columns:
    """The columns of profiles, with the numbers that their lists and rests have in ``joint``."""
    lists = np.array([joint.list_number(acl) for acl in profiles.lists], np.int64)
    rests = np.array([joint.rest_number(_lasting(rest)) for rest in profiles.rests], np.int64)
    columns = profiles.columns
    return columns._replace(acl=lists[columns.acl], rest=rests[columns.rest])


def _lasting(rest: Profile) -> Profile:
    mount = rest.mount._replace(beside=()) if rest.mount is not None else None
    return rest._replace(device=0, mount=mount)

"""What decides a right on objects that are alike but for their owners and permissions: asked of one of them."""

from collections.abc import Iterable
from typing import NamedTuple

from fiat.core.model.posture import Object
from fiat.core.rules.check import Check


class Conditions(NamedTuple):
    """Those have the right who are among ``allowed`` and have each of the permissions in ``wants``.

    With ``in_full`` every check is asked for each profile; ``as_program`` it
    must also be reached as the program that is run.
    """

    allowed: int = -1
    wants: tuple[int, ...] = ()
    in_full: bool = False
    as_program: bool = False


def conditions(checks: Iterable[Check], of: Object, everyone: int, *, as_program: bool = False) -> Conditions:
    """What ``checks`` come to, where only the permissions of ``of`` are other ones on what is like it."""
    allowed, wants = everyone, []
    for check in checks:
        if check.object is of and check.want:
            wants.append(check.want)
        else:  # another object's, or the same for all that are like it
            allowed &= check.passers
    return Conditions(allowed, tuple(dict.fromkeys(wants)), as_program=as_program)

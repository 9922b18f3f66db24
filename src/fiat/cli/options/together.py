"""Options that mean something only together, or not together: refused with a word where they mean nothing."""

import argparse

from fiat.app.text import NotationError

_SELECTING = ("--only", "--name", "--owned-by", "--in-group", "--with", "--with-any", "--without")


def goes_with(option: str, given: object, needed: str, there: object) -> None:
    """Refuse ``option``, if it is ``given``, where what it needs is not ``there``; :class:`NotationError`."""
    if given and not there:
        raise NotationError(option, f"{option} goes with {needed}")


def not_with(option: str, given: object, other: str, there: object, why: str) -> None:
    """Refuse ``option`` together with another one; :class:`NotationError`."""
    if given and there:
        raise NotationError(option, f"{option} does not go with {other}: {why}")


def selection_goes_with(args: argparse.Namespace, needed: str, there: object) -> None:
    """Refuse what chooses among many where there are not many; :class:`NotationError`."""
    given = (args.only, args.name, args.owned_by, args.in_group, args.having, args.with_any, args.without)
    for option, value in zip(_SELECTING, given, strict=True):
        goes_with(option, value, needed, there)

"""Which objects of a tree are meant, from the words of a command line."""

from collections.abc import Iterable

from fiat.core.model.accounts import Accounts
from fiat.core.words.selection import Selection, features


def selection(
    accounts: Accounts,
    *,
    only: str | None = None,
    name: str | None = None,
    owned_by: str | None = None,
    in_group: str | None = None,
    having: Iterable[str] = (),
    any_of: Iterable[str] = (),
    none_of: Iterable[str] = (),
) -> Selection:
    """Which objects of a tree are meant; NotationError or UnknownAccount for a wrong word."""
    return Selection(
        only=only,
        name=name,
        uid=None if owned_by is None else accounts.user_id(owned_by),
        gid=None if in_group is None else accounts.group_id(in_group),
        every=features(having, accounts),
        any_of=features(any_of, accounts),
        none_of=features(none_of, accounts),
    )

"""The accounts of a container, as those see them who are in it."""

from collections.abc import Iterable

from fiat.core.model.accounts import FIRST_PERSON, Accounts, Group, HeldAccounts, Unknown, User
from fiat.core.model.view import Namesake, View
from fiat.core.text import joined, quoted

_NAMED = 4
"""So many of those who are left out are named."""


class SeenAccounts(HeldAccounts):
    """The accounts of a container, by the numbers that they have on the host."""

    def __init__(
        self,
        users: Iterable[User],
        groups: Iterable[Group],
        source: str,
        view: View,
        here: Accounts | None = None,
        first_person: int = FIRST_PERSON,
        unknown: Iterable[Unknown] = (),
    ) -> None:
        """``here`` are the accounts of the host, by default those that the view holds."""
        super().__init__(users, groups, source, first_person, unknown=unknown)
        self._view = view
        self._here = here

    @property
    def view(self) -> View:
        """How the host is seen by those who have these accounts."""
        return self._view

    def same_people(self, uid: int) -> list[Namesake]:
        """The accounts of the host that have this number."""
        if self._here is None:
            return [one for one in self._view.people if one.uid == uid]
        return [Namesake(one.name, one.uid) for one in self._here.users_numbered(uid)]

    def has_no_user(self, uid: int) -> bool:
        """Whether it is known that no account has this number, which is one of theirs."""
        return self._view.there(uid, users=True) is not None and super().has_no_user(uid)

    def has_no_group(self, gid: int) -> bool:
        """Whether it is known that no group has this number, which is one of theirs."""
        return self._view.there(gid, users=False) is not None and super().has_no_group(gid)

    def has_no_members(self, gid: int) -> bool:
        """Whether it is known that nobody there is in a group."""
        return self._view.there(gid, users=False) is None or super().has_no_members(gid)


def seen_accounts(
    users: Iterable[User], groups: Iterable[Group], source: str, view: View, here: Accounts
) -> SeenAccounts:
    """The accounts that account files of a container hold, each by its number here.

    Whose number is none of its user namespace's is nobody there: that is noted, and they are left out.
    """
    found, left_out = [], []
    for user in users:
        uid, gid = view.here(user.uid, users=True), view.here(user.gid, users=False)
        if uid is None or gid is None:
            left_out.append(user.name)
        else:
            found.append(user._replace(uid=uid, gid=gid))
    listed = []
    for group in groups:
        number = view.here(group.gid, users=False)
        if number is None:
            left_out.append(group.name)
        else:
            listed.append(group._replace(gid=number))
    unknown: tuple[Unknown, ...] = ()
    if left_out:
        more = len(left_out) - _NAMED
        names = joined([*map(quoted, left_out[:_NAMED]), *([f"{more:,} more"] if more > 0 else [])])
        what = f"numbers that its user namespace does not know, of {names}"
        unknown = (Unknown("container", what, "nobody there can be them", "left-out"),)
    return SeenAccounts(found, listed, source, view, here, unknown=unknown)

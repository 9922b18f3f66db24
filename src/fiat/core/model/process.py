"""How a running process differs from the account it runs as.

A process has the groups that it was given when it started (credentials(7)):
a group that its user joined since does not count for it.
"""

from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.principals import Principal


class ProcessDifference(NamedTuple):
    """Groups the account has and the process has not, and the reverse; capabilities it holds or has given up.

    ``holds`` is a mask of capabilities beyond what the uid gives, ``lacks``
    one of those that uid 0 would give and this process has not.
    """

    missing: tuple[int, ...]
    extra: tuple[int, ...]
    holds: int
    lacks: int

    def __bool__(self) -> bool:
        return bool(self.missing or self.extra or self.holds or self.lacks)


def difference(process: Principal, accounts: Accounts) -> ProcessDifference:
    """What ``process`` has other than a fresh login of its user would have.

    Only capabilities that bear on files are compared.
    """
    known = [] if process.uid is None else accounts.users_numbered(process.uid)
    # which of several accounts with its number logged in can be told by its groups alone
    logins = (frozenset(accounts.gids_of(account)) for account in known)
    expected = min(logins, key=lambda gids: len(gids ^ process.gids), default=frozenset[int]())
    held = process.capabilities & capabilities.ABOUT_FILES
    normal = capabilities.ABOUT_FILES if process.uid == 0 else 0
    all_told = not any(accounts.unsure(account) for account in known)
    return ProcessDifference(
        tuple(sorted(expected - process.gids)),
        tuple(sorted(process.gids - expected)) if all_told else (),
        held & ~normal,
        normal & ~held,
    )

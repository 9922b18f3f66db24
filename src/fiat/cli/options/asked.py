"""What a command line of ``fiat who`` asks, looked up on the host."""

import argparse

from fiat.core.errors import NotationError
from fiat.core.model.accounts import Supposed, near
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal
from fiat.core.rules.access import ALL_RIGHTS
from fiat.core.text import quoted
from fiat.core.words import who


class Asked:
    """The rights, the principals and the suppositions that are asked about.

    Raises :class:`UnknownAccount` or :class:`NotationError` for a wrong word.
    """

    def __init__(self, args: argparse.Namespace, host: Host) -> None:
        self.host = host
        self.rights = tuple(dict.fromkeys(right(word) for word in args.can))
        self.uids = {host.accounts.user_id(word) for word in args.user}
        self.gids = {host.accounts.group_id(word) for word in args.group}
        self.processes = [host.process(pid) for pid in args.pid]
        self.anyone_else: bool = args.anyone_else
        self.because: bool = args.because
        self.everyone: bool = args.all
        joins = [who.membership(word, host) for word in args.if_member]
        leaves = [who.membership(word, host) for word in args.if_not_member]
        self.supposing = bool(joins or leaves)
        self.accounts = Supposed(host.accounts, joins, leaves) if self.supposing else host.accounts

    @property
    def names_somebody(self) -> bool:
        """Whether users, groups or anyone else are asked about, and not all of them."""
        return bool(self.uids or self.gids or self.anyone_else)

    def shows(self, principal: Principal) -> bool:
        """Whether the answer for ``principal`` is asked for."""
        if principal.kind == "process" or not (self.names_somebody or self.processes):
            return True
        if principal.kind == "anyone-else":
            return self.anyone_else
        if principal.kind == "user":
            return principal.uid in self.uids
        return principal.kind == "group" and bool(principal.gids & self.gids)


def right(word: str) -> str:
    """``word`` if it is a right; NotationError that lists them if not."""
    if word not in ALL_RIGHTS:
        raise NotationError(
            word, f"{quoted(word)} is no right{near(word, ALL_RIGHTS)}; these are: {', '.join(ALL_RIGHTS)}"
        )
    return word

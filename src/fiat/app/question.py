"""What is asked about access: which rights, of whom, on which host."""

from collections.abc import Iterable, Sequence

from fiat.core.ask import caveats
from fiat.core.errors import NotationError
from fiat.core.model.accounts import SupposedAccounts
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Principal
from fiat.core.model.process import difference
from fiat.core.model.right import BASIC, CREATE, Right
from fiat.core.words import who as who_words
from fiat.core.words.who import on_kind, parse_rights


class Question:
    """What is asked: which rights, of whom, on a host as it is or as if some memberships were others.

    ``host`` is the host as it is, ``asked_of`` the one that is asked. Raises
    :class:`UnknownAccount` or :class:`NotationError` for a wrong word.
    """

    def __init__(
        self,
        host: Host,
        *,
        rights: Iterable[str] = (),
        users: Iterable[str] = (),
        groups: Iterable[str] = (),
        pids: Iterable[int] = (),
        anyone_else: bool = False,
        if_member: Iterable[str] = (),
        if_not_member: Iterable[str] = (),
        but_not: Iterable[str] = (),
    ) -> None:
        self.host = host
        self.asked = parse_rights(rights)
        words = list(users)
        taken = [word for word in words if who_words.means_group(word, host)]
        self.uids = {host.accounts.user_id(word) for word in words if word not in taken}
        self.gids = {host.accounts.group_id(word) for word in (*groups, *taken)}
        self.processes = [host.process(pid) for pid in pids]
        self.anyone_else = anyone_else
        self.but_not = {who_words.parse(word, host).identity for word in but_not}
        joins = [who_words.membership(word, host) for word in if_member]
        leaves = [who_words.membership(word, host) for word in if_not_member]
        self.supposing = bool(joins or leaves)
        self.asked_of: Host = host
        if self.supposing:
            from fiat.core.tree.asif import HostAsIf, Supposition

            self.asked_of = HostAsIf(host, Supposition(accounts=SupposedAccounts(host.accounts, joins, leaves)))

    def seen(self, *, today: bool = False) -> Host:
        """The host as those see it who are asked about (``today``: without what is supposed).

        A process may have mounts of its own: then what is at a path is another
        thing for it than for everyone else. Raises :class:`NotationError` where
        others are asked about as well.
        """
        host = self.host if today else self.asked_of
        apart = [process for process in self.processes if host.seen_by(process) is not host]
        if apart and (len(self.processes) > 1 or self.names_somebody):
            pid = apart[0].pid
            raise NotationError(
                str(pid),
                f"process {pid} has mounts of its own, where a tree holds other things: ask for it alone, "
                f"with --pid {pid} and nobody else",
            )
        return host.seen_by(apart[0]) if apart else host

    def rights_on(self, kind: Kind | None) -> Sequence[Right]:
        """The rights that are asked about on an object of this kind; none where none was named."""
        return tuple(dict.fromkeys(on_kind(one, kind) for one in self.asked))

    @property
    def rights(self) -> tuple[Right, ...]:
        """Every right that was named, whatever the kind of objects."""
        return tuple(dict.fromkeys(right for one in self.asked for right in one))

    @property
    def rights_in_a_tree(self) -> Sequence[Right]:
        """The rights that are asked about in a tree."""
        return self.rights or BASIC

    @property
    def may_be_missing(self) -> bool:
        """Whether a path that is not there can be asked about."""
        return CREATE in self.rights

    @property
    def names_somebody(self) -> bool:
        """Whether users, groups or anyone else are asked about, and not all of them."""
        return bool(self.uids or self.gids or self.anyone_else)

    def leaves_out(self, principal: Principal) -> bool:
        """Whether only that is meant which ``principal`` has no right on."""
        return principal.identity in self.but_not

    def shows(self, principal: Principal) -> bool:
        """Whether the answer for ``principal`` is asked for."""
        if principal.kind == "process" or not (self.names_somebody or self.processes):
            return True
        if principal.kind == "anyone-else":
            return self.anyone_else
        if principal.kind == "user":
            return principal.uid in self.uids
        return principal.kind == "group" and bool(principal.gids & self.gids)

    @property
    def caveats(self) -> list[Finding]:
        """Where the processes that are asked about are not what their accounts say."""
        accounts = self.host.accounts
        return [
            caveat
            for process in self.processes
            for caveat in caveats.of_process(process, difference(process, accounts), accounts)
        ]

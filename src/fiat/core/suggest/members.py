"""What is meant for a group, for members of it whom another class decides, or who would get more than is meant."""

from collections.abc import Iterator

from fiat.core.model import principals
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import EXECUTE, READ, WRITE
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.wish import Wish
from fiat.core.rules.decision import Decision, superuser
from fiat.core.suggest.entryway import entry_holding, had
from fiat.core.suggest.means import Need, outcome, single_means


def members_of(group: Principal, accounts: Accounts) -> Universe:
    """The members of a bare group, by primary group or listed; those who need no permission left out."""
    (gid,) = group.gids
    listed = dict.fromkeys((*accounts.primary_members(gid), *accounts.listed_members(gid)))
    users = (principals.user(account, accounts.gids_of(account)) for account in listed)
    return Universe(who for who in users if not superuser(who))


def for_members(need: Need, members: Universe, actor: Principal, umask: int) -> Iterator[tuple[Wish, Posture]]:
    """What makes ``need`` hold for members by entries, or owner's letters, of their own, one after the other."""
    posture = need.object.posture
    allowed = Decision(posture, members).allowed(need.want)
    wrong = members.everyone & ~allowed if need.gives else allowed
    for member in members.members(wrong):
        own = need._replace(object=need.object._replace(posture=posture), who=member)
        for means in single_means(own, members):
            after = outcome(own.object, means.wish, actor, umask)
            if means.names in (("entry",), ("owner-bits",)) and after is not None and own.met(after):
                yield means.wish, after
                posture = after
                break


def not_more(
    before: Posture, found: Object, want: int, members: Universe, actor: Principal, umask: int
) -> Iterator[tuple[Wish, Posture]]:
    """Entries of their own for members who would have more by the group's than before with ``want``."""
    posture = found.posture
    one, other = Decision(before, members), Decision(posture, members)
    more = 0
    for bit in (READ, WRITE, EXECUTE):
        if not bit & want:
            asked = bit | EXECUTE if bit == WRITE and before.directory else bit
            more |= other.allowed(asked) & ~one.allowed(asked)
    for member in members.members(more):
        wish = Wish(access=entry_holding(posture, member, had(before, member) | want))
        after = outcome(found._replace(posture=posture), wish, actor, umask)
        if after is not None:
            yield wish, after
            posture = after

"""Small worlds in memory: four users, three groups, a directory and a file in it, with any mode or list."""

import random

from fiat.core.model.accesslist import AccessList, Entry, Tag, check
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Settings
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.model.principals import Principal, user
from fiat.core.model.right import right_named
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.means import MEANS
from fiat.core.suggest.search import SearchResult, search
from fiat.host.image.host import ImageHost

UIDS, GIDS = (1, 2, 3, 4), (11, 12, 13)
Rank = tuple[bool, int, int]
"""Whether it is against others, what anyone else gains, what others gain and lose: what a way is ranked by first."""


class SmallWorld:
    """A directory ``/d``, as ``folder`` or with any mode or list, and a file ``/d/f`` in it."""

    def __init__(
        self,
        choices: random.Random,
        *,
        lists: bool,
        folder: int | None = None,
        uids: tuple[int, ...] = UIDS,
        gids: tuple[int, ...] = GIDS,
    ) -> None:
        self.choices, self.lists, self.uids, self.gids = choices, lists, uids, gids
        users = [User("root", 0, 0), *(User(f"u{uid}", uid, choices.choice(gids)) for uid in uids)]
        members = {gid: [one.name for one in users[1:] if choices.random() < 0.3] for gid in gids}
        groups = [Group(f"g{gid}", gid, tuple(members[gid])) for gid in gids]
        self.accounts = Accounts(users, groups, "the test")
        self.people = [user(one, self.accounts.gids_of(one)) for one in users]
        self.file = self._posture(Kind.FILE)
        self.folder = self._posture(Kind.DIRECTORY)
        if folder is not None:
            self.folder = self.folder._replace(mode=folder, acl=None)
        self.host = ImageHost(
            "test",
            [
                Object("/", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(Identity("t", 1)), keeps_lists=lists),
                Object("/d", self.folder, Status(Identity("t", 2)), keeps_lists=lists),
                Object("/d/f", self.file, Status(Identity("t", 3)), keeps_lists=lists),
            ],
            self.accounts,
            Settings(),
        )

    def _posture(self, kind: Kind) -> Posture:
        acl = self._list() if self.lists and self.choices.random() < 0.6 else None
        mode = self.choices.randrange(0o1000) if acl is None else acl.mode()
        return Posture(kind, mode, self.choices.choice((0, *self.uids)), self.choices.choice(self.gids), acl)

    def _list(self) -> AccessList:
        some = self.choices.randrange
        users = [Entry(Tag.NAMED_USER, some(8), uid) for uid in self.uids if self.choices.random() < 0.4]
        groups = [Entry(Tag.NAMED_GROUP, some(8), gid) for gid in self.gids if self.choices.random() < 0.4]
        mask = [Entry(Tag.MASK, self.choices.choice((0, some(8), some(8))))]
        owner, group, other = (Entry(tag, some(8)) for tag in (Tag.OWNER, Tag.OWNING_GROUP, Tag.OTHER))
        return check([owner, *users, group, *groups, *mask, other])

    def said(self) -> str:
        """The world in words."""
        people = " ".join(f"{one.name}:{sorted(one.gids)}" for one in self.people[1:])
        return "\n".join((self._said(self.folder), self._said(self.file), people))

    @staticmethod
    def _said(posture: Posture) -> str:
        acl = (
            " ".join(f"{one.tag.name}:{one.id}:{one.permissions}" for one in posture.acl.entries) if posture.acl else ""
        )
        return f"{posture.kind.value} {posture.mode:03o} owner {posture.uid} group {posture.gid} {acl}"

    def ways(
        self, who: Principal, right: str, gives: bool, by: tuple[str, ...] = (), path: str = "/d/f"
    ) -> SearchResult:
        return search(self.host, [Goal(who, right_named(right), path, gives)], Terms(by or tuple(MEANS)))


def best_of(found: SearchResult) -> Rank | None:
    """What the way costs that costs others least and is no membership; a guard may have it told later."""
    costs = [way.cost for way in found.ways if way.membership is None]
    return min(((one.against, one.anyone_else, one.others) for one in costs), default=None)

"""An account, or a group, as access sees it."""

from collections.abc import Iterable, Iterator, Sequence

from fiat.app.account import GroupAccount, Membership, OddProcess, UserAccount
from fiat.core.ask.acting import Acting
from fiat.core.ask.bygroup import ByGroup, InTree, Part
from fiat.core.model import umask
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import octal
from fiat.core.text import Fields, counted, joined, several, several_of, visible
from fiat.core.words import naming
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken

_PIDS = 4
_SHOWN = 2
"""Topmost paths that are named of each part of a tree; all of them where they are this many and one more."""


class _AccountView(PlainResult):
    """What an account and a group have in common."""

    def __init__(self, accounts: Accounts, odd: Sequence[OddProcess], trees: Sequence[InTree]) -> None:
        self.accounts = accounts
        self.odd = odd
        self.trees = trees

    def _odd_fields(self) -> list[Fields]:
        return [
            {
                "user": one.user,
                "uid": one.uid,
                "processes": list(one.pids),
                "program": one.program,
                "lacks": [self._group_fields(gid) for gid in one.lacks],
                "besides": [self._group_fields(gid) for gid in one.besides],
            }
            for one in self.odd
        ]

    def _group_fields(self, gid: int) -> Fields:
        group = self.accounts.group_numbered(gid)
        return {"gid": gid, "name": None if group is None else group.name}

    def _tree_fields(self) -> list[Fields]:
        return [
            {
                "path": tree.top,
                "entries": tree.entries,
                "owned": part_fields(tree.owned),
                "named": part_fields(tree.named),
                "reached": [{"right": one.right.name, **part_fields(one.part)} for one in tree.reached],
                "by_group": [
                    {"group": self._group_fields(one.gid), "right": one.right.name, **part_fields(one.part)}
                    for one in tree.by_group
                ],
            }
            for tree in self.trees
        ]

    def _groups(self, gids: Iterable[int]) -> str:
        return joined(naming.group(gid, self.accounts) for gid in gids)

    def _tree_blocks(self, owns: str) -> Iterator[Block]:
        for tree in self.trees:
            yield BLANK
            yield Verbatim(Span(f"Of the {counted(tree.entries, 'path')} at and under {visible(tree.top)}", "strong"))
            rows: list[Sequence[Spans]] = []
            for title, part in ((owns, tree.owned), ("named in an entry of", tree.named)):
                rows.append([title, f"{part.paths:,}" if part.paths else "none", tops(part)])
            for one in tree.reached:
                rows.append([f"{one.right.name}s", f"{one.part.paths:,}", tops(one.part)])
                rows += [self._by_group(part) for part in tree.by_group if part.right is one.right]
            yield Table(["", "paths", "the topmost"], rows)

    def _by_group(self, one: ByGroup) -> Sequence[Spans]:
        what = f"  only as one of {naming.group(one.gid, self.accounts)}"
        return [what, f"{one.part.paths:,}", tops(one.part)]


class UserAccountView(_AccountView):
    """A user as access sees them."""

    def __init__(self, found: UserAccount, accounts: Accounts) -> None:
        super().__init__(accounts, found.odd, found.trees)
        self.found = found

    def records(self) -> Iterator[Fields]:
        """The account, its groups with how it is in each, odd processes, its login, and trees."""
        found, user, login = self.found, self.found.user, self.found.login
        yield {
            "user": user.name,
            "uid": user.uid,
            "gid": user.gid,
            "comment": user.comment,
            "home": user.home,
            "shell": user.shell,
            "service": found.service,
            "same_number": list(found.same_number),
            "groups": [
                {"gid": one.gid, "name": one.group, "primary": one.primary, "listed": one.listed, "source": one.source}
                for one in found.memberships
            ],
            "processes_with_other_groups": self._odd_fields(),
            "login": {
                "known": login.known,
                "umask": octal(login.mask),
                "umask_by": login.mask_by,
                "path": list(login.path),
                "path_by": login.path_by,
                "open_ends": [one.text for one in login.open_ends],
            },
            "acting_as": None if found.acting is None else [self._way_fields(one) for one in found.acting],
            "trees": self._tree_fields(),
        }

    def _way_fields(self, one: "Acting") -> Fields:
        from fiat.render.acting import acting_fields

        return acting_fields(one, self.accounts)

    def blocks(self) -> Iterator[Block]:
        """What is stale first; then who it is, the groups, the login, and the trees."""
        found, user = self.found, self.found.user
        yield from self._stale()
        kind = "account of a service" if found.service else "account"
        yield Verbatim([Span(visible(user.name), "strong"), f"  {kind}, number {user.uid}"])
        rows = [["home", visible(user.home)], ["shell", visible(user.shell)]]
        if user.comment:
            rows.insert(0, ["comment", visible(user.comment)])
        yield Table(["", ""], [row for row in rows if row[1]])
        if found.same_number:
            names = joined(map(visible, found.same_number))
            yield Prose(f"{names} has the same number: what one of them owns, the other does.", 1, hanging="  ")
        yield BLANK
        yield Table(["group", "number", "in it"], [self._membership(one) for one in found.memberships])
        yield BLANK
        yield from self._login()
        if found.acting is not None:
            from fiat.render.acting import may_act_blocks

            yield BLANK
            yield from may_act_blocks(found.acting, self.accounts, visible(found.rules))
        yield from self._tree_blocks("owns")

    def _stale(self) -> Iterator[Block]:
        for one in self.odd:
            pids = several([str(pid) for pid in one.pids], "processes", show=_PIDS)
            what = f"{visible(one.program)}, {f'process {pids}' if len(one.pids) == 1 else pids}"
            differs = []
            if one.lacks:
                differs.append(f"not in {self._groups(one.lacks)}")
            if one.besides:
                differs.append(f"still in {self._groups(one.besides)}")
            text = f"{what}: has other groups than the account: {', '.join(differs)}"
            yield Prose(Span(text, "no"), hanging="  ")
        if self.odd:
            pid = self.odd[0].pids[0]
            asks = unbroken(f"fiat who PATH --pid {pid}")
            text = f"A process keeps the groups of its login; a new login has those of the account. {asks} asks for it."
            yield Prose(text, hanging="  ")
            yield BLANK

    def _membership(self, one: Membership) -> Sequence[Spans]:
        name = naming.group(one.gid, self.accounts) if one.group is not None else Span("no such group", "no")
        listed = f"listed in {visible(one.source)}"
        how = f"primary, and {listed}" if one.primary and one.listed else "primary" if one.primary else listed
        return [name, str(one.gid), how]

    def _login(self) -> Iterator[Block]:
        login = self.found.login
        who = "A service as this user gets" if self.found.service else "A login gets"
        yield Verbatim(f"{who}:")
        mask = f"{octal(login.mask)}  {umask.clauses(login.mask)}"
        rows: list[Sequence[Spans]] = [["umask", mask, visible(login.mask_by)]]
        if login.known:
            rows.append(["search path", unbroken(visible(":".join(login.path))), visible(login.path_by)])
            yield Table(["", "", "by"], rows[:1])
            yield Prose(f"search path  {unbroken(visible(':'.join(login.path)))}  by {visible(login.path_by)}", 1, "  ")
        else:
            yield Table(["", "", "by"], rows)
        for one in login.open_ends:
            yield Prose(f"Not evaluated: {visible(one.text)}.", 1, hanging="  ")


class GroupAccountView(_AccountView):
    """A group as access sees it."""

    def __init__(self, found: GroupAccount, accounts: Accounts) -> None:
        super().__init__(accounts, found.odd, found.trees)
        self.found = found

    def records(self) -> Iterator[Fields]:
        """The group, its members with how they are in it, odd processes, and trees."""
        found = self.found
        yield {
            "group": found.group.name,
            "gid": found.group.gid,
            "same_number": list(found.same_number),
            "members": [
                {"user": one.user, "primary": one.primary, "listed": one.listed, "source": one.source}
                for one in found.memberships
            ],
            "unknown_members": list(found.unknown),
            "processes_with_other_groups": self._odd_fields(),
            "trees": self._tree_fields(),
        }

    def blocks(self) -> Iterator[Block]:
        """What is stale first; then the members, and the trees."""
        found = self.found
        for one in self.odd:
            pids = several([str(pid) for pid in one.pids], "processes", show=_PIDS)
            what = f"{visible(one.program)}, {f'process {pids}' if len(one.pids) == 1 else pids}"
            who = naming.user(one.uid, self.accounts)
            yield Prose(Span(f"{what} of {who}: runs in this group, and {who} is not in it", "no"), hanging="  ")
        if self.odd:
            yield BLANK
        title = f"  group number {found.group.gid}, {counted(len(found.memberships), 'member')}"
        yield Verbatim([Span(visible(found.group.name), "strong"), title])
        if found.same_number:
            names = joined(map(visible, found.same_number))
            yield Prose(f"{names} has the same number: the kernel tells them not apart.", 1, hanging="  ")
        if found.memberships:
            rows = [[visible(one.user), self._how(one)] for one in found.memberships]
            yield Table(["member", "in it"], rows)
        if found.unknown:
            yield Prose(f"lists names without account: {joined(map(visible, found.unknown))}", 1, hanging="  ")
        yield from self._tree_blocks("owns")

    def _how(self, one: Membership) -> str:
        listed = f"listed in {visible(one.source)}"
        return f"primary, and {listed}" if one.primary and one.listed else "primary" if one.primary else listed


def part_fields(part: Part) -> Fields:
    """The machine output of a part of a tree."""
    return {"paths": part.paths, "topmost": list(part.topmost), "more": part.more}


def tops(part: Part) -> str:
    """The topmost paths of a part, and how many more there are."""
    whole = len(part.topmost) + part.more
    shown = list(part.topmost[: whole if whole <= _SHOWN + 1 else _SHOWN])
    return several_of([unbroken(visible(path)) for path in shown], whole) if whole else ""

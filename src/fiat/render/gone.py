"""What an account would leave behind, were it gone."""

from collections.abc import Iterator, Sequence

from fiat.app.gone import Left
from fiat.core.model.accounts import Accounts
from fiat.core.text import Fields, counted, joined, several, visible
from fiat.core.words import naming
from fiat.render.account import UserAccountView, part_fields, tops
from fiat.render.changes import effects_blocks, effects_fields
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken

_NAMED = 4


class GoneView(PlainResult):
    """What is left ownerless, unnamed and without anybody, and what is started as the account."""

    def __init__(self, found: Left, accounts: Accounts) -> None:
        self.found = found
        self.accounts = accounts

    def records(self) -> Iterator[Fields]:
        """The account as ``fiat show --user`` has it, with what is left behind besides."""
        found = self.found
        (record,) = UserAccountView(found.account, self.accounts).records()
        started = found.started
        yield record | {
            "emptied": [{"gid": one.gid, "name": one.group} for one in found.emptied],
            "started": None
            if started is None
            else [{"path": one.path, "by": one.by, "run": one.run} for one in started],
            "processes": list(found.processes),
            "own_group": found.own_group,
            "without_own_group": [effects_fields(one) for one in found.effects],
            "trees": [
                {
                    "path": tree.top,
                    "entries": tree.entries,
                    "ownerless": part_fields(tree.owned),
                    "entries_for_nobody": part_fields(tree.named),
                    "loses": [{"right": one.right.name, **part_fields(one.part)} for one in tree.reached],
                }
                for tree in found.account.trees
            ],
        }

    def blocks(self) -> Iterator[Block]:
        """On the host first, which is found nowhere else; then in each tree."""
        user = self.found.account.user
        name = visible(user.name)
        yield Verbatim(Span(f"If {name} were gone, whose number is {user.uid}:", "strong"))
        yield Table(["", ""], list(self._on_host()))
        for tree in self.found.account.trees:
            yield BLANK
            yield Verbatim(Span(f"Of the {counted(tree.entries, 'path')} at and under {visible(tree.top)}", "strong"))
            rows: list[Sequence[Spans]] = []
            for title, part in (("without an owner", tree.owned), ("with an entry for nobody", tree.named)):
                rows.append([title, f"{part.paths:,}" if part.paths else "none", tops(part)])
            rows += [
                [f"{name} {one.right.name}s no more", f"{one.part.paths:,}", tops(one.part)] for one in tree.reached
            ]
            yield Table(["", "paths", "the topmost"], rows)
        for effects in self.found.effects:
            yield BLANK
            yield Verbatim(f"If its own group {visible(self.found.own_group or '')} goes with it:")
            yield from effects_blocks(effects, self.accounts, paths=False)
        if any(tree.owned.paths or tree.named.paths for tree in self.found.account.trees):
            yield BLANK
            again = f"Whoever is given number {user.uid} next gets what was {name}'s. To see it all:"
            yield Prose(again, hanging="  ")
            top = visible(self.found.account.trees[0].top)
            yield Verbatim(unbroken(f"fiat show {top} --below --owned-by {user.uid}"), 1)

    def _on_host(self) -> Iterator[Sequence[Spans]]:
        found, account = self.found, self.found.account
        groups = joined(naming.group(one.gid, self.accounts) for one in account.memberships)
        yield ["leaves the groups", groups]
        if found.emptied:
            named = joined(naming.group(one.gid, self.accounts) for one in found.emptied)
            yield ["nobody is in then", Span(named, "no")]
        if account.same_number:
            yield ["stays with the number", joined(map(visible, account.same_number))]
        if found.started is None:
            yield ["started as the account", "not known: it was not looked at"]
        else:
            by = list(dict.fromkeys(visible(one.by) for one in found.started))
            yield ["started as the account", several(by, "ways", _NAMED) if by else "nothing"]
        if found.processes:
            yield ["running now", several([str(pid) for pid in found.processes], "processes", _NAMED)]
        home = account.user.home
        if home:
            yield ["home", visible(home)]

"""Who the people of a container are on the host."""

from collections.abc import Iterable, Iterator

from fiat.core.model.accounts import Accounts
from fiat.core.model.principals import Principal
from fiat.core.text import Fields, counted, visible
from fiat.render.model import BLANK, Block, Prose, Table


def fields_of(who: Principal, accounts: Accounts) -> Fields:
    """The number of a user or a group there, and who has it here; nothing where no container is asked about."""
    view = accounts.view
    if view is None:
        return {}
    if who.kind == "group":
        (gid,) = who.gids
        return {"inside": view.there(gid, users=False)}
    if who.uid is None:
        return {}
    return {"inside": view.there(who.uid, users=True), "here": [one.name for one in accounts.same_people(who.uid)]}


def blocks_of(people: Iterable[Principal], accounts: Accounts) -> Iterator[Block]:
    """Those who have the number of somebody else here, and how many have that of nobody."""
    view = accounts.view
    if view is None:
        return
    rows, alone = [], 0
    for who in people:
        if who.kind != "user" or who.uid is None:
            continue
        there, same = view.there(who.uid, users=True), [visible(one.name) for one in accounts.same_people(who.uid)]
        name = visible(who.name) if who.name is not None else "no account"
        if same == [name] and there == who.uid:
            continue
        if same:
            rows.append([f"{name} ({there})", str(who.uid), ", ".join(same)])
        else:
            alone += 1
    if rows:
        yield BLANK
        yield Table(["there", "number here", "who is the same here"], rows)
    if alone:
        yield BLANK
        has = "has" if alone == 1 else "have"
        yield Prose(f"{counted(alone, 'user')} there {has} a number that no account of this host has", 1, hanging="  ")

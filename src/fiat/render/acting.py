"""Acting as others: what that gives, in words and in fields."""

from collections.abc import Iterator, Sequence

from fiat.core.ask.acting import Acting, ActingAnswer
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Kind
from fiat.core.rules.elevation import Grant
from fiat.core.text import Fields, counted, joined, several, visible
from fiat.core.words import naming
from fiat.core.words.naming import several_users
from fiat.render import words
from fiat.render.model import BLANK, Block, Prose, Span, Spans, Table, Verbatim, unbroken

_COMMANDS = 2
"""So many commands are named in a row."""


def grant_fields(grant: Grant, accounts: Accounts) -> Fields:
    """A grant in machine output."""
    return {
        "account": grant.account.name,
        "group": None if grant.group is None else naming.group_or_number(grant.group, accounts),
        "commands": "any" if grant.any_command else list(grant.commands),
        "but_not": list(grant.but_not),
        "password": grant.password,
        "whose": grant.whose,
        "surely": grant.surely,
        "rule": grant.rule.text,
    }


def acting_fields(one: Acting, accounts: Accounts) -> Fields:
    """A way to act as somebody: the last grant, and the accounts that are acted as before that."""
    return {**grant_fields(one.grants[-1], accounts), "via": [grant.account.name for grant in one.grants[:-1]]}


def account_words(grant: Grant, accounts: Accounts) -> str:
    """``root``, or ``tidefeed, in group press``."""
    name = visible(grant.account.name)
    return name if grant.group is None else f"{name}, in group {naming.group_or_number(grant.group, accounts)}"


def commands_words(grant: Grant) -> str:
    """``any command``, or which."""
    if grant.any_command:
        but = f" but {several(map(visible, grant.but_not), 'commands', _COMMANDS)}" if grant.but_not else ""
        return f"any command{but}"
    named = [unbroken(visible(command)) for command in grant.commands]
    return f"only {several(named, 'commands', _COMMANDS)}"


_WHOSE = {"own": "their password", "target": "the account's password", "root": "root's password"}


def password_words(grant: Grant) -> str:
    """``with their password``, ``without a password``."""
    if grant.password is None:
        return "with a password, or without"
    if not grant.password:
        return "without a password"
    return f"with {_WHOSE.get(grant.whose, 'a password')}"


def way_words(one: Acting, accounts: Accounts) -> str:
    """``root``, or ``tidefeed, and from there root``."""
    return ", and from there ".join(account_words(grant, accounts) for grant in one.grants)


def acting_blocks(found: ActingAnswer, accounts: Accounts, show: int) -> Iterator[Block]:
    """Who has more by acting as whom, the ways that give all of an account first; equal ways in one row."""
    answer = found.answer
    kind = answer.end.posture.kind if answer.end else Kind.FILE
    alike: dict[tuple[str, str, str, str, bool], list[int]] = {}
    for place, ways in found.acting.items():
        had: set[object] = set()
        for one in ways:
            more = [right for right in found.more(place, one) if right not in had]
            if not more:
                continue
            if one.wholly:
                had |= set(more)
            rights = joined(words.right_heading(right, kind) for right in more)
            last = one.grants[-1]
            key = way_words(one, accounts), commands_words(last), password_words(one.grants[0]), rights, one.wholly
            alike.setdefault(key, []).append(place)
    yield BLANK
    source = visible(found.matcher.elevations.source)
    if not alike:
        yield Prose(f"Acting as others gives nobody more here, by the rules in {source}.", hanging="  ")
        return
    yield Verbatim(f"By acting as others, as the rules in {source} let them:")
    rows: list[Sequence[Spans]] = []
    principals = answer.universe.principals
    for (account, commands, password, rights, wholly), places in sorted(alike.items(), key=lambda one: not one[0][4]):
        who = several_users((principals[place] for place in places), accounts, show, "users")
        gives = Span(rights, "yes") if wholly else f"{rights}, if the command does"
        rows.append([who, account, f"{commands}, {password}", gives])
    yield Table(["who", "acting as", "by", "has here then"], rows, flexible=(2, 0))


def may_act_blocks(ways: Sequence[Acting], accounts: Accounts, source: str) -> Iterator[Block]:
    """As whom somebody may act, a row for each account."""
    if not ways:
        yield Prose(f"May act as nobody else, by the rules in {source}.", hanging="  ")
        return
    yield Verbatim(f"May act as {counted(len(ways), 'other account')}, by the rules in {source}:")
    rows = [[way_words(one, accounts), commands_words(one.grants[-1]), password_words(one.grants[0])] for one in ways]
    yield Table(["account", "commands", ""], rows, flexible=(1,))


def step_words(grant: Grant, accounts: Accounts) -> str:
    """A grant as a step of a way."""
    sure = "" if grant.surely else ", if words in the rules that are not evaluated mean it so"
    return f"acts as {account_words(grant, accounts)}: {commands_words(grant)}, {password_words(grant)}{sure}"

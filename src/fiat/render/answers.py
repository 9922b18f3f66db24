"""How the answer of ``who`` about one path looks, in text and as machine output."""

import itertools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from fiat.core.ask import why as explain
from fiat.core.ask.effects import Shift
from fiat.core.ask.who import Answer
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters, octal, permission_letters
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal
from fiat.core.rules.access import RIGHTS, Step
from fiat.core.text import visible
from fiat.core.words import naming
from fiat.render import terminal, words
from fiat.render.effects import print_shifts, told

Shows = Callable[[Principal], bool]
"""Whether the answer for a principal is asked for."""

_NAMES_IN_A_ROW = 8


def rights_of(answer: Answer, place: int) -> dict[str, bool | None]:
    """The four rights of an object, and those asked for, of the principal at ``place``."""
    return {right: answer.has(place, right) for right in dict.fromkeys((*RIGHTS, *answer.rights))}


# --- machine output ------------------------------------------------------------


def fields(answer: Answer, shows: Shows) -> dict[str, Any]:
    """The machine output for one path."""
    users, groups, processes, anyone_else = [], [], [], None
    for place, who in enumerate(answer.universe.principals):
        if who.kind == "anyone-else":
            anyone_else = rights_of(answer, place)
        elif not shows(who):
            continue
        elif who.kind == "user":
            users.append({"name": who.name, "uid": who.uid, **rights_of(answer, place), **_because(answer, place)})
        elif who.kind == "process":
            about = {"pid": who.pid, "name": who.name, "uid": who.uid, "gids": sorted(who.gids)}
            processes.append({**about, **rights_of(answer, place), **_because(answer, place)})
        else:
            groups.append(_group_fields(answer, place, who))
    return {
        "path": answer.route.asked,
        "kind": answer.end.posture.kind.value if answer.end else None,
        "users": users,
        "groups": groups,
        "processes": processes,
        "anyone_else": anyone_else,
    }


def _group_fields(answer: Answer, place: int, who: Principal) -> dict[str, Any]:
    (gid,) = who.gids
    members = answer.members(gid)
    return {
        "name": who.name,
        "gid": gid,
        "members": members.bit_count(),
        "alone": rights_of(answer, place),
        "members_who": {right: (allowed & members).bit_count() for right, allowed in answer.allowed.items()},
    }


def _because(answer: Answer, place: int) -> dict[str, Any]:
    """The rule that decided each right, and where, if that was not the path itself."""
    rules, blockers = {}, {}
    for right in answer.rights:
        deciding = answer.verdict(place, right).deciding
        rules[right] = deciding.rule
        if not deciding.allowed and (answer.end is None or deciding.path != answer.end.path):
            blockers[right] = deciding.path
    return {"because": rules, "blocker": blockers}


# --- text ------------------------------------------------------------------------


def print_answer(answer: Answer, shows: Shows, *, everyone: bool, because: bool) -> None:
    """The path, a table of users, a table of groups, and where people stop."""
    show = 10**9 if everyone else _NAMES_IN_A_ROW
    print(terminal.paint(visible(answer.route.asked), "strong"))
    if answer.end is None:
        print(f"{terminal.INDENT}there is nothing of this name")
    else:
        if answer.route.links:
            print(f"{terminal.INDENT}leads to {visible(answer.end.path)}")
        terminal.say(_headline(answer.end, answer.accounts), terminal.INDENT)
    kind = answer.end.posture.kind if answer.end else Kind.FILE
    header = [words.right_heading(right, kind) for right in answer.rights]
    if because:
        print()
        print(terminal.table(["users", "right", "because"], _because_rows(answer, shows, show, header), flexible=0))
    else:
        rows = _user_rows(answer, shows, show)
        if rows:
            print()
            print(terminal.table([*header, "users"], rows))
    rows = _group_rows(answer, shows, show)
    if rows:
        print()
        print(terminal.table([*header, "by this group alone (of its members)"], rows))
    _print_what_stops_superusers(answer, shows)
    _print_stops(answer, shows, show)


def print_supposed(gains: Sequence[Shift], losses: Sequence[Shift]) -> None:
    """What a supposed membership changes."""
    print()
    print("Against today:")
    print_shifts("Gains", told(gains))
    print_shifts("Loses", told(losses))


def _headline(end: Object, accounts: Accounts) -> str:
    posture = end.posture
    lists = f", access list of {words.counted(len(posture.acl.entries), 'entry', 'entries')}" if posture.acl else ""
    return (
        f"{octal(posture.mode)}  {letters(posture.mode)}  {words.KIND[posture.kind]} of "
        f"{words.user_name(posture.uid, accounts)}, group {words.group_name(posture.gid, accounts)}{lists}"
    )


def _cells(answer: Answer, place: int) -> tuple[str, ...]:
    return tuple("yes" if answer.has(place, right) else "no" for right in answer.rights)


def _reason(answer: Answer, step: Step) -> str:
    """The rule and its entry, or what else decided; where, if that was on the way."""
    if step.reason is None:
        text = explain.RULE_WORDS.get(step.rule, step.rule)
    else:
        text = naming.entry(step.reason.share.entry, answer.accounts)
        if step.reason.share.permissions != step.reason.share.entry.permissions:
            text += f" masked {permission_letters(step.reason.share.permissions)}"
        if step.reason.capability:
            (power,) = capabilities.names(step.reason.capability)
            text = f"CAP_{power.upper()}"
        text = f"{step.rule.replace('-', ' ')}, {text}"
    away = not step.allowed and answer.end is not None and step.path != answer.end.path
    return f"{text} at {visible(step.path)}" if away else text


def _painted(cells: Sequence[str]) -> list[str]:
    """Each cell in the colour of the yes or no that it begins with."""
    painted = []
    for cell in cells:
        first, space, rest = cell.partition(" ")
        painted.append(terminal.paint(first, first) + space + rest)
    return painted


def _kinds(answer: Answer, shows: Shows) -> Iterator[tuple[int, str, str]]:
    """Place, kind of row and name of everyone but groups: superusers first, then users, then those apart."""
    found: dict[str, list[tuple[int, str, str]]] = {"superuser": [], "users": [], "apart": []}
    for place, who in enumerate(answer.universe.principals):
        if who.kind == "group" or not shows(who):
            continue
        if who.kind == "user":
            row = "superuser" if who.holds(capabilities.DAC_OVERRIDE) else "users"
            found[row].append((place, row, _name(who)))
        else:
            found["apart"].append((place, f"apart {place}", words.principal(who)))
    return itertools.chain(*found.values())


def _together(
    answer: Answer, shows: Shows, show: int, told: Callable[[int], tuple[str, ...]]
) -> list[tuple[tuple[str, ...], str]]:
    """Everyone that ``told`` says the same of in one line: what it says, and who they are; most rights first."""
    same: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for place, row, name in _kinds(answer, shows):
        same.setdefault((row, told(place)), []).append(name)
    lines = []
    for (row, cells), names in same.items():
        named = words.several(names, "users" if row == "users" else "", show)
        lines.append((row, cells, f"superuser {named}" if row == "superuser" else named))
    order = ["superuser", "users"]
    lines.sort(key=lambda line: (order.index(line[0]) if line[0] in order else 2, -_yeses(line[1])))
    return [(cells, named) for _, cells, named in lines]


def _yeses(cells: tuple[str, ...]) -> int:
    return sum(cell.startswith("yes") for cell in cells)


def _user_rows(answer: Answer, shows: Shows, show: int) -> list[list[str]]:
    """One row for each distinct answer; superusers, processes and anyone else apart."""
    lines = _together(answer, shows, show, lambda place: _cells(answer, place))
    return [[*_painted(cells), named] for cells, named in lines]


def _because_rows(answer: Answer, shows: Shows, show: int, header: Sequence[str]) -> list[list[str]]:
    """For each distinct answer its people, and a row for the rights that have one reason."""

    def told(place: int) -> tuple[str, ...]:
        return tuple(
            f"{'yes' if answer.has(place, right) else 'no':<3} {_reason(answer, answer.verdict(place, right).deciding)}"
            for right in answer.rights
        )

    rows = []
    for cells, named in _together(answer, shows, show, told):
        reasons: dict[str, list[str]] = {}
        for heading, cell in zip(header, cells, strict=True):
            reasons.setdefault(cell, []).append(heading)
        for number, (reason, headings) in enumerate(reasons.items()):
            rows.append(["" if number else named, "; ".join(headings), *_painted([reason])])
    return rows


def _group_rows(answer: Answer, shows: Shows, show: int) -> list[list[str]]:
    """Each group that matters in a row of its own, the others together."""
    rows = []
    same: dict[tuple[str, ...], list[str]] = {}
    principals = answer.universe.principals
    anyone = next(_cells(answer, place) for place, who in enumerate(principals) if who.kind == "anyone-else")
    owner = answer.end.posture.gid if answer.end else None
    for place, who in enumerate(principals):
        if who.kind != "group" or not shows(who):
            continue
        (gid,) = who.gids
        cells = _cells(answer, place)
        if gid == owner or cells != anyone:
            rows.append([*_member_cells(answer, gid, cells), _group_name(answer, who)])
        else:
            same.setdefault(cells, []).append(_name(who))
    rows += [[*_painted(cells), words.several(names, "groups", show)] for cells, names in same.items()]
    return rows


def _member_cells(answer: Answer, gid: int, cells: tuple[str, ...]) -> list[str]:
    """What the group alone gives, and how many of its members have the right by whatever rule."""
    members = answer.members(gid)
    if not members:
        return _painted(cells)
    return _painted(
        [
            f"{cell:<3} {(allowed & members).bit_count()} of {members.bit_count()}"
            for cell, allowed in zip(cells, answer.allowed.values(), strict=True)
        ]
    )


def _print_what_stops_superusers(answer: Answer, shows: Shows) -> None:
    """What says no even to those who hold CAP_DAC_OVERRIDE: flags and mounts.

    That a file which nobody may execute is not executed by root either is no news.
    """
    lines: dict[str, None] = {}
    for place, who in enumerate(answer.universe.principals):
        if not who.holds(capabilities.DAC_OVERRIDE) or not shows(who):
            continue
        for right in answer.rights:
            deciding = answer.verdict(place, right).deciding
            if not deciding.allowed and deciding.reason is None:
                phrase = words.right_phrase(right, answer.end.posture.kind if answer.end else None)
                lines[f"Not even {_name(who)} may {phrase} it: {explain.rule_words(deciding)}"] = None
    if lines:
        print()
    for line in lines:
        terminal.say(line, terminal.INDENT, hanging="  ")


def _print_stops(answer: Answer, shows: Shows, show: int) -> None:
    for object_, path, stopped in answer.stops():
        people = [_name(who) for who in answer.universe.members(stopped) if who.kind == "user" and shows(who)]
        if people:
            mode = f" ({octal(object_.posture.mode)} {letters(object_.posture.mode)})" if object_ else ""
            named = words.several(people, "users", show)
            print()
            terminal.say(f"Stopped on the way, at {visible(path)}{mode}: {named}", terminal.INDENT, hanging="  ")


def _group_name(answer: Answer, who: Principal) -> str:
    (gid,) = who.gids
    return _name(who) if answer.members(gid) else f"{_name(who)}, which nobody is in"


def _name(who: Principal) -> str:
    if who.name is not None:
        return visible(who.name)
    return f"uid {who.uid}" if who.kind == "user" else f"gid {next(iter(who.gids))}"

"""Say which users and groups can really read, write, execute or traverse each path,
the whole route from / included."""

import argparse
from collections.abc import Iterator
from typing import Any

from fiat.cli import terminal, words
from fiat.cli.hosts import arrive, open_host
from fiat.cli.parser import add_common
from fiat.cli.report import Report
from fiat.core import capabilities, caveats, principals
from fiat.core.access import RIGHTS, Access, applies
from fiat.core.accounts import Accounts
from fiat.core.host import Host
from fiat.core.mode import letters, octal
from fiat.core.posture import Object
from fiat.core.principals import Principal, Universe, places
from fiat.core.route import Route
from fiat.core.visible import visible

_NAMES_IN_A_ROW = 8


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat who``."""
    parser.add_argument("paths", nargs="+", metavar="PATH", help="a path; symlinks are followed, as the kernel does")
    parser.add_argument("--all", action="store_true", help="name everyone, however many there are")
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """Answer for each path."""
    report = Report("who", args.format)
    host = open_host(args)
    for route in arrive(host, args.paths, report):
        answer = Answer(host, route)
        if report.as_text:
            if report.answered:
                print()
            _print(answer, show=10**9 if args.all else _NAMES_IN_A_ROW)
        if report.as_text:
            report.count()
        elif report.format == "csv":
            for row in answer.rows():
                report.add_row(row)
        else:
            report.add(answer.fields())
        report.caveat(caveats.of_route(route))
    if report.answered:
        report.caveat(caveats.of_host(host.settings))
    return report.finish()


def universe_for(accounts: Accounts, routes: list[Route]) -> Universe:
    """Everyone in the database, and every number that owns or is named on the routes."""
    uids: set[int] = set()
    gids: set[int] = set()
    for route in routes:
        for object_ in (*(stage.object for stage in route.stages), *([route.end] if route.end else [])):
            uids.add(object_.posture.uid)
            gids.add(object_.posture.gid)
            if object_.posture.acl is not None:
                named_uids, named_gids = object_.posture.acl.named()
                uids |= named_uids
                gids |= named_gids
    return principals.of_accounts(accounts, uids, gids)


class Answer:
    """Who has which right at the end of one route."""

    def __init__(self, host: Host, route: Route) -> None:
        assert route.end is not None
        self.accounts = host.accounts
        self.route = route
        self.end = route.end
        self.universe = universe_for(host.accounts, [route])
        self.access = Access(self.universe, host.settings)
        self.allowed = {
            right: self.access.allowed(route, right) for right in RIGHTS if applies(right, self.end.posture.kind)
        }

    def has(self, place: int, right: str) -> bool | None:
        """Whether the principal at ``place`` has ``right``; None where it does not apply."""
        allowed = self.allowed.get(right)
        return None if allowed is None else bool(allowed >> place & 1)

    def rights(self, place: int) -> dict[str, bool | None]:
        """All the rights of the principal at ``place``."""
        return {right: self.has(place, right) for right in RIGHTS}

    def members(self, gid: int) -> int:
        """The set of users in the group ``gid``."""
        users = 0
        for place in places(self.universe.in_group(gid)):
            if self.universe.principals[place].kind == "user":
                users |= 1 << place
        return users

    def fields(self) -> dict[str, Any]:
        """The machine output for this path."""
        users, groups, anyone_else = [], [], {}
        for place, who in enumerate(self.universe.principals):
            if who.kind == "user":
                users.append({"name": who.name, "uid": who.uid, **self.rights(place), **self._because(place)})
            elif who.kind == "group":
                (gid,) = who.gids
                members = self.members(gid)
                can = {right: (allowed & members).bit_count() for right, allowed in self.allowed.items()}
                groups.append(
                    {
                        "name": who.name,
                        "gid": gid,
                        "members": members.bit_count(),
                        "alone": self.rights(place),
                        "members_who": can,
                    }
                )
            else:
                anyone_else = self.rights(place)
        return {
            "path": self.route.asked,
            "kind": self.end.posture.kind.value,
            "users": users,
            "groups": groups,
            "anyone_else": anyone_else,
        }

    def rows(self) -> Iterator[dict[str, Any]]:
        """A flat row for each principal; ``members`` is empty for users."""
        for place, who in enumerate(self.universe.principals):
            gid = next(iter(who.gids)) if who.kind == "group" else None
            yield {
                "path": self.route.asked,
                "who": who.kind,
                "name": who.name,
                "number": who.uid if gid is None else gid,
                **self.rights(place),
                "members": None if gid is None else self.members(gid).bit_count(),
            }

    def _because(self, place: int) -> dict[str, Any]:
        """The rule that decided each right, and where, if that was not the path itself."""
        rules, blockers = {}, {}
        for right in self.allowed:
            deciding = self.access.verdict(self.route, right, place).deciding
            rules[right] = deciding.rule
            if not deciding.allowed and deciding.path != self.end.path:
                blockers[right] = deciding.path
        return {"because": rules, "blocker": blockers}


# --- text ------------------------------------------------------------------


def _print(answer: Answer, show: int) -> None:
    end = answer.end
    print(terminal.paint(visible(answer.route.asked), "strong"))
    if answer.route.links:
        print(f"{terminal.INDENT}leads to {visible(end.path)}")
    terminal.say(_headline(end, answer.accounts), terminal.INDENT)
    print()
    rights = list(answer.allowed)
    header = [words.right_heading(right, end.posture.kind) for right in rights]
    rows = _user_rows(answer, show)
    print(terminal.table([*header, "users"], rows, flexible=-1))
    print()
    rows = _group_rows(answer, show)
    print(terminal.table([*header, "by this group alone, and how many members can"], rows, flexible=-1))
    for line in _stops(answer, show):
        print()
        terminal.say(line, terminal.INDENT, hanging="  ")


def _headline(end: Object, accounts: Accounts) -> str:
    posture = end.posture
    lists = f", access list of {words.counted(len(posture.acl.entries), 'entry', 'entries')}" if posture.acl else ""
    return (
        f"{octal(posture.mode)}  {letters(posture.mode)}  {words.KIND[posture.kind]} of "
        f"{words.user_name(posture.uid, accounts)}, group {words.group_name(posture.gid, accounts)}{lists}"
    )


def _cells(answer: Answer, place: int) -> tuple[str, ...]:
    return tuple("yes" if answer.has(place, right) else "no" for right in answer.allowed)


def _painted(cells: tuple[str, ...]) -> list[str]:
    return [terminal.paint(cell, cell) for cell in cells]


def _user_rows(answer: Answer, show: int) -> list[list[str]]:
    """One row for each distinct answer, most rights first; superusers and anyone else apart."""
    ordinary: dict[tuple[str, ...], list[str]] = {}
    powerful: dict[tuple[str, ...], list[str]] = {}
    last: list[list[str]] = []
    for place, who in enumerate(answer.universe.principals):
        cells = _cells(answer, place)
        if who.kind == "user":
            rows = powerful if who.holds(capabilities.DAC_OVERRIDE) else ordinary
            rows.setdefault(cells, []).append(_name(who))
        elif who.kind == "anyone-else":
            last = [[*_painted(cells), "anyone else"]]
    ordered = sorted(ordinary.items(), key=lambda row: row[0].count("yes"), reverse=True)
    return [
        *([*_painted(cells), f"superuser {words.several(names, '', show)}"] for cells, names in powerful.items()),
        *([*_painted(cells), words.several(names, "users", show)] for cells, names in ordered),
        *last,
    ]


def _group_rows(answer: Answer, show: int) -> list[list[str]]:
    """Each group that matters in a row of its own, the others together."""
    rows = []
    same: dict[tuple[str, ...], list[str]] = {}
    anyone = _cells(answer, len(answer.universe.principals) - 1)
    for place, who in enumerate(answer.universe.principals):
        if who.kind != "group":
            continue
        (gid,) = who.gids
        cells = _cells(answer, place)
        named = gid == answer.end.posture.gid or cells != anyone
        if named:
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
    return [
        f"{painted}{' ' * (4 - len(cell))}{(allowed & members).bit_count()} of {members.bit_count()}"
        for painted, cell, allowed in zip(_painted(cells), cells, answer.allowed.values(), strict=True)
    ]


def _stops(answer: Answer, show: int) -> list[str]:
    """Where on the route someone stops, and who."""
    lines = []
    arriving = answer.universe.everyone
    for check in answer.access.stage_checks(answer.route):
        stopped = arriving & ~check.passers
        arriving &= check.passers
        if stopped:
            users = [_name(who) for who in answer.universe.members(stopped) if who.kind == "user"]
            lines.append(
                f"Stopped on the way, at {visible(check.path)}{_mode_of(check.object)}: "
                f"{words.several(users, 'users', show) or 'nobody with an account'}"
            )
    return lines


def _mode_of(object_: Object | None) -> str:
    return f" ({octal(object_.posture.mode)} {letters(object_.posture.mode)})" if object_ else ""


def _group_name(answer: Answer, who: Principal) -> str:
    (gid,) = who.gids
    return _name(who) if answer.members(gid) else f"{_name(who)}, which nobody is in"


def _name(who: Principal) -> str:
    if who.name is not None:
        return visible(who.name)
    return f"uid {who.uid}" if who.kind == "user" else f"gid {next(iter(who.gids))}"

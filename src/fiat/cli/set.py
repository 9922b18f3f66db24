"""Change the mode of paths, and show before and after side by side, with who
gains and who loses which right - on the path, and under it where a directory
on the route changed.

MODE is octal (640, 2750) or clauses (u+x, g=u, go-w,+X). One to three octal
digits set the nine permission bits, and a directory's special bits stay; four
digits set all twelve."""

import argparse
import errno
from collections.abc import Iterator
from typing import Any

from fiat.cli import terminal, words
from fiat.cli.hosts import failure, open_host
from fiat.cli.parser import add_common
from fiat.cli.report import Report
from fiat.cli.who import universe_for
from fiat.core import caveats, naming, plan
from fiat.core.access import Access
from fiat.core.accounts import Accounts
from fiat.core.edit import Edit, change_mode
from fiat.core.errors import NotationError, PathError
from fiat.core.host import Host, Node
from fiat.core.mode import ModeChange, letters, octal, parse_change, permission_letters
from fiat.core.plan import Plan, Shift
from fiat.core.posture import Kind, Posture
from fiat.core.principals import Principal
from fiat.core.record import posture_fields
from fiat.core.route import Route, open_end
from fiat.core.visible import visible


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat set``."""
    parser.add_argument(
        "paths", nargs="+", metavar="PATH", help="what to change; a symlink is followed, and it is said"
    )
    parser.add_argument("--mode", required=True, metavar="MODE", help="the mode: octal, or clauses such as g+w,o=")
    parser.add_argument("--preview", action="store_true", help="show what would happen, and change nothing")
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Plan, show, and unless it is a preview, apply."""
    change = parse_change(args.mode)
    if args.snapshot is not None and not args.preview:
        raise NotationError("--from", "a snapshot cannot be changed; add --preview to see what the change would do")
    report = Report("set", args.format)
    host = open_host(args)
    targets = list(_targets(host, args.paths, report))
    try:
        planned = _plan(host, targets, change)
        applied = False
        if not args.preview:
            applied = _apply(planned, targets, report)
        _describe(planned, targets, host, report, preview=args.preview, applied=applied)
        return report.finish()
    finally:
        for target in targets:
            target.node.close()


class Target:
    """One object to change: the route to it, and the object itself held open."""

    def __init__(self, asked: str, route: Route, node: Node) -> None:
        self.asked = asked
        self.route = route
        self.node = node


def _targets(host: Host, paths: list[str], report: Report) -> Iterator[Target]:
    """Each object once, under whichever name comes first."""
    seen: set[tuple[int, int]] = set()
    for path in paths:
        route, node = open_end(host, path)
        if route.end is None or node is None:
            report.problem(failure(route) if path else PathError("", errno.ENOENT))
        elif route.end.status.inode in seen:
            node.close()
        else:
            seen.add(route.end.status.inode)
            yield Target(path, route, node)


def _plan(host: Host, targets: list[Target], change: ModeChange) -> Plan:
    actor, umask = host.actor(), host.settings.umask
    edits = [change_mode(target.route.end, change, actor, umask) for target in targets if target.route.end is not None]
    access = Access(universe_for(host.accounts, [target.route for target in targets]), host.settings)
    return plan.make(host, edits, access)


def _apply(planned: Plan, targets: list[Target], report: Report) -> bool:
    """Write each change through its open handle; whether all of them were written as planned."""
    complete = True
    for edit, target in zip(planned.edits, targets, strict=True):
        error = None
        if edit.changes:
            error = _apply_one(edit, target.node)
        elif edit.errno:
            error = PathError(edit.object.path, edit.errno, "change the mode of")
        if error is not None:
            complete = False
            report.problem(error)
    return complete


def _apply_one(edit: Edit, node: Node) -> PathError | None:
    """Compare with what the plan saw, change, read back."""
    path = edit.object.path
    try:
        if node.look().posture != edit.object.posture:
            return PathError(path, errno.EBUSY, "change the mode of", "it was changed meanwhile and is left alone")
        node.change_mode(edit.requested)
        if node.look().posture != edit.after:
            return PathError(path, errno.EIO, "confirm the change of", "the kernel made something else of it")
    except OSError as error:
        return PathError(path, error.errno or errno.EIO, "change the mode of")
    return None


def _describe(
    planned: Plan, targets: list[Target], host: Host, report: Report, *, preview: bool, applied: bool
) -> None:
    report.caveat(caveats.of_host(host.settings))
    for target in targets:
        report.caveat(caveats.of_route(target.route))
    for trouble in planned.troubles:
        report.problem(PathError(trouble.path, trouble.errno, "count who gains and loses under"))
    if not report.as_text:
        for edit in planned.edits:
            report.add(_edit_fields(edit, host.accounts))
        report.beside = {
            "gains": [_shift_fields(shift) for shift in planned.gains],
            "losses": [_shift_fields(shift) for shift in planned.losses],
            "guards": [],
            "applied": applied,
            "history": None,
        }
    else:
        report.answered = len(planned.edits)
        _print(planned, targets, host.accounts, preview=preview)


def _edit_fields(edit: Edit, accounts: Accounts) -> dict[str, Any]:
    return {
        "path": edit.object.path,
        "before": posture_fields(edit.object.posture, accounts),
        "after": posture_fields(edit.after, accounts),
        "notes": [note._asdict() for note in edit.notes],
    }


def _shift_fields(shift: Shift) -> dict[str, Any]:
    return {"who": words.who_word(shift.principal), "right": shift.right, "paths": shift.paths}


# --- text ------------------------------------------------------------------


def _print(planned: Plan, targets: list[Target], accounts: Accounts, *, preview: bool) -> None:
    changes = planned.changes
    for edit, target in zip(planned.edits, targets, strict=True):
        if target.route.links:
            print(f"{visible(target.asked)} leads to {visible(edit.object.path)}, which is what changes")
        if preview and edit.errno:
            print(f"cannot change {visible(edit.object.path)}: {PathError('', edit.errno).args[0].rpartition(': ')[2]}")
    same = [edit for edit in planned.edits if not edit.changes and not edit.errno]
    if same:
        paths = words.several([visible(edit.object.path) for edit in same], "paths")
        print(f"Already so, nothing to change: {paths}")
    if not changes:
        return
    if preview:
        print(f"Preview: {words.counted(len(changes), 'path')} would change. Nothing is written.")
    else:
        print(f"{words.counted(len(changes), 'path')} changed.")
    print()
    rows = [row for edit in changes for row in _rows(edit, accounts)]
    print(terminal.table(["", "", "before", "after"], rows, flexible=0))
    notes = dict.fromkeys(note.text for edit in planned.edits for note in edit.notes)
    for text in notes:
        terminal.say("-  " + text, terminal.INDENT, hanging="   ")
    print()
    for title, shifts in (("Gains", planned.gains), ("Loses", planned.losses)):
        _print_shifts(title, shifts)


def _rows(edit: Edit, accounts: Accounts) -> list[list[str]]:
    """The path with its mode, then each entry whose letters differ."""
    before, after = edit.object.posture, edit.after
    rows = [[visible(edit.object.path), "mode", _mode_words(before), terminal.paint(_mode_words(after), "changed")]]
    old, new = _entries(before, accounts), _entries(after, accounts)
    rows += [
        ["", name, old.get(name, "none"), terminal.paint(value, "changed")]
        for name, value in new.items()
        if old.get(name) != value
    ]
    return rows


def _mode_words(posture: Posture) -> str:
    return f"{octal(posture.mode)}  {letters(posture.mode)}"


def _entries(posture: Posture, accounts: Accounts) -> dict[str, str]:
    """What each class gets, in words, by who it is."""
    mode = posture.mode
    group = "mask" if posture.acl is not None and posture.acl.mask is not None else "group"
    name = words.group_name(posture.gid, accounts) if group == "group" else ""
    return {
        f"owner {words.user_name(posture.uid, accounts)}": _class_words(mode >> 6 & 7, posture.kind),
        f"{group} {name}".strip(): _class_words(mode >> 3 & 7, posture.kind),
        "other": _class_words(mode & 7, posture.kind),
    }


def _class_words(value: int, kind: Kind) -> str:
    return f"{permission_letters(value)}  {words.permissions(value, kind)}"


def _print_shifts(title: str, shifts: tuple[Shift, ...]) -> None:
    """Those who gain, or lose, the same share a line: the rights first, then who, users first."""
    rights: dict[Principal, list[str]] = {}
    for shift in shifts:
        where = f" on {words.counted(shift.paths, 'path')}" if shift.paths > 1 else ""
        rights.setdefault(shift.principal, []).append(shift.right + where)
    together: dict[str, list[Principal]] = {}
    for principal, given in rights.items():
        together.setdefault(naming.joined(given), []).append(principal)
    if not together:
        print(f"{title}  nobody")
    for what, principals in together.items():
        users = [words.principal(who) for who in principals if who.kind == "user"]
        groups = [visible(words.who_word(who)[6:]) for who in principals if who.kind == "group"]
        parts = [words.several(users, "users")] if users else []
        if groups:
            parts.append(f"whoever is in {words.several(groups, 'groups', show=4)}")
        if any(who.kind == "anyone-else" for who in principals):
            parts.append("anyone else")
        terminal.say(f"{title}  {what}: {'; '.join(parts)}", hanging="       ")

"""Change mode, ownership and access lists of paths or of trees: before and after are
shown side by side, with who gains and who loses which right - on the paths, and
under them where a directory on the route changed.

MODE is octal (640, 2750) or clauses (u+x, g=u, go-w,+X). One to three octal
digits set the nine permission bits, and a directory's special bits stay; four
digits set all twelve. ENTRY is an access entry such as user:auditor:r-x, or
group:press:rX, which gives x only to directories and to what can be executed
already. Several options make one plan.

Every change is written to the history first; fiat undo puts it back. What is
dangerous is refused (exit status 4, nothing changed) until --accept names the guard:"""

import argparse
import errno
import os
import sys
from collections.abc import Iterator
from typing import Any

from fiat.cli.options import carrying
from fiat.cli.options.carrying import Result, add_history, open_history
from fiat.cli.options.hosts import failure, open_host
from fiat.cli.options.wishes import add_wishes, wish_of
from fiat.cli.parser import add_common, add_selection, selection
from fiat.cli.progress import Progress
from fiat.cli.status import Status
from fiat.core.ask import caveats
from fiat.core.change import plan
from fiat.core.change.apply import entries_of
from fiat.core.change.guards import GUARDS, Guard
from fiat.core.change.history import Beginning
from fiat.core.change.plan import Plan, Target
from fiat.core.errors import HistoryError, NotationError, PathError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.record import posture_fields
from fiat.core.text import visible
from fiat.core.tree.route import open_end
from fiat.core.tree.survey import Survey, alone
from fiat.core.words.selection import Selection
from fiat.render import changes, terminal, words
from fiat.render.effects import print_shifts, shift_fields, told
from fiat.render.report import Report

EXAMPLES = (
    ("see a change before it is made", "fiat set /srv/skerry/observatory --mode o+x --preview"),
    ("let one user in", "fiat set /srv/skerry/observatory --entry user:surveyor:--x --preview"),
    (
        "a whole tree, files and directories apart",
        "fiat set /srv/skerry/series --below --file-mode 640 --dir-mode 2750 --preview",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat set``."""
    parser.description = f"{parser.description}\n" + "\n".join(
        f"  {name:<15}  {about}" for name, about in GUARDS.items()
    )
    parser.add_argument(
        "paths", nargs="+", metavar="PATH", help="what to change; a symlink is followed, and it is said"
    )
    add_wishes(parser)
    far = parser.add_argument_group("how far")
    far.add_argument("--below", action="store_true", help="PATH and all under it; symlinks there are not followed")
    far.add_argument("--contents", action="store_true", help="all under PATH, not PATH itself")
    far.add_argument("--link-itself", action="store_true", help="of a symlink change the link, not what it leads to")
    add_selection(far)
    care = parser.add_argument_group("care")
    care.add_argument("--preview", action="store_true", help="show what would happen, and change nothing")
    care.add_argument(
        "--accept", action="append", default=[], choices=GUARDS, metavar="GUARD", help="do it although GUARD objects"
    )
    care.add_argument("--stop", action="store_true", help="stop at the first path that cannot be changed")
    add_history(parser, without=True)
    add_common(parser)


def prepare(arguments: list[str]) -> list[str]:
    """The arguments with each mode or mask that begins with a dash tied to its option: it is none itself."""
    found: list[str] = []
    for word in arguments:
        rights = word == "---" or (word.startswith("-") and not word.startswith("--"))
        if rights and found and found[-1] in _TAKE_RIGHTS:
            found[-1] += f"={word}"
        else:
            found.append(word)
    return found


_TAKE_RIGHTS = ("--mode", "--file-mode", "--dir-mode", "--mask", "--default-mask")


def run(args: argparse.Namespace) -> int:
    """Plan, show, and unless it is a preview, apply."""
    report = Report("set", args.format)
    host = open_host(args)
    wish = wish_of(args, host)
    if args.snapshot is not None and not args.preview:
        raise NotationError("--from", "a snapshot cannot be changed; add --preview to see what the change would do")
    chosen = selection(args, host.accounts)
    with Progress(report.as_text) as progress:
        targets = list(_targets(host, args, chosen, report, progress))
        made = plan.make(host, targets, wish, progress.tell)
    guards = [guard for guard in made.guards if guard.name not in args.accept]
    _caveats(made, targets, host, report)
    result = None
    if not args.preview and not guards:
        try:
            result = _apply(made, host, args, report)
        except HistoryError as error:
            report.complaint(HistoryError(f"{error}; nothing was changed, and --no-history changes without it"))
            return Status.GUARDED
    _Showing(args, made, targets, host.accounts, report, guards, result).show()
    return report.finish(Status.GUARDED if guards and not args.preview else Status.DONE)


# --- what is meant -------------------------------------------------------------


def _targets(
    host: Host, args: argparse.Namespace, chosen: Selection, report: Report, progress: Progress
) -> Iterator[Target]:
    with_tree = args.below or args.contents
    for path in args.paths:
        if not path:  # not the current directory: a variable of a script that was never set
            report.problem(PathError(path, errno.ENOENT))
            continue
        route, node = open_end(host, path, follow=not args.link_itself)
        if route.end is None or node is None:
            report.problem(failure(route))
            continue
        try:
            if with_tree:
                survey = node.survey(across_mounts=args.across_mounts, progress=progress.tell)
            else:
                survey = alone(route.end._replace(status=route.end.status._replace(birth=node.now().birth)))
        finally:
            node.close()
        if not survey.complete:
            raise KeyboardInterrupt
        taken = survey.chosen(chosen, host.accounts)
        if args.contents:
            taken[0] = False
        yield Target(path, route, survey, taken, with_tree)


def _caveats(made: Plan, targets: list[Target], host: Host, report: Report) -> None:
    report.caveat(caveats.of_host(host.settings))
    for target in targets:
        report.caveat(caveats.of_route(target.route))
        report.caveat(caveats.of_mounts_left_out(target.survey.skipped))
        _troubles(target.survey, report)
    report.caveat(caveats.of_mounts_not_counted(made.skipped))
    for trouble in made.troubles:
        report.problem(PathError(trouble.path, trouble.errno, "count who gains and loses under"))


def _troubles(survey: Survey, report: Report) -> None:
    for trouble in survey.troubles:
        hint = "what is under it is left alone" if trouble.errno == errno.EACCES else ""
        report.problem(PathError(trouble.path, trouble.errno, hint=hint))


# --- doing it ---------------------------------------------------------------------


def _apply(made: Plan, host: Host, args: argparse.Namespace, report: Report) -> Result:
    """Write each change through its handle; what the plan knows to be refused is a problem as well."""
    for item in made.refused():
        report.problem(PathError(item.path, item.change.errno, "change"))
        if args.stop:
            break
    items = [] if args.stop and report.problems else made.to_write()
    if not items:
        return Result(None, "", 0, 0, 0, 0)
    actor = host.accounts.user_numbered(os.geteuid())
    beginning = Beginning(
        actor.name if actor else None,
        ("fiat", *(sys.argv[1:] if sys.argv else ())),
        None,
        told(made.gains),
        told(made.losses),
    )
    from fiat.engine import changing as together

    history = None if args.no_history else open_history(args)
    return carrying.carry(
        lambda stopping: together.carry_out(host, items, stopping),
        list(entries_of(items)),
        beginning,
        history,
        report,
        stop_at_first=args.stop,
    )


# --- saying it ----------------------------------------------------------------------


class _Showing:
    """Says what was planned, and what of it was done."""

    def __init__(
        self,
        args: argparse.Namespace,
        made: Plan,
        targets: list[Target],
        accounts: Accounts,
        report: Report,
        guards: list[Guard],
        result: Result | None,
    ) -> None:
        self.args = args
        self.made = made
        self.targets = targets
        self.accounts = accounts
        self.report = report
        self.guards = guards
        self.preview: bool = args.preview
        self.result = result
        self.counts = made.counts()
        self.examples = made.examples()
        self.changing = sum(
            count for count, noted in zip(self.counts, made.changes, strict=True) if noted.change.changes
        )

    def show(self) -> None:
        """Print it in the format asked for."""
        if self.report.as_text:
            self.report.answered = sum(self.counts)
            self._print()
            if self.guards:
                print()
            for guard in self.guards:
                self._say_guard(guard)
            return
        self._fields()
        for guard in self.guards:
            if not self.preview:
                self.report.refused(guard)

    # machine output

    def _fields(self) -> None:
        known: dict[int, dict[str, Any]] = {}
        for item in self.made.items():
            rest = known.get(id(item.noted))
            if rest is None:
                rest = known[id(item.noted)] = {
                    "before": posture_fields(item.change.before, self.accounts),
                    "after": posture_fields(item.change.after, self.accounts),
                    "notes": [note._asdict() for note in item.noted.notes],
                }
            self.report.add({"path": item.path, **rest})
        self.report.beside = {
            "gains": [shift_fields(shift) for shift in self.made.gains],
            "losses": [shift_fields(shift) for shift in self.made.losses],
            "guards": [guard._asdict() for guard in self.made.guards],
            "applied": self.result is not None and self.result.complete and not self.report.problems,
            "changed": 0 if self.result is None else self.result.changed,
            "history": None if self.result is None else self.result.fields(),
        }

    # text

    def _print(self) -> None:
        for target in self.targets:
            if target.route.links:
                end = visible(target.survey.top.path)
                print(f"{visible(target.asked)} leads to {end}, which is what changes")
        refused = [(number, noted.change.errno) for number, noted in enumerate(self.made.changes) if noted.change.errno]
        if self.result is None:
            for number, code in refused:
                count, example = self.counts[number], visible(self.examples[number])
                what = example if count == 1 else f"{words.counted(count, 'path')}, such as {example}"
                print(f"Cannot be changed: {what} ({os.strerror(code)})")
        so = self._what_is_so()
        if not self.changing:
            if so:
                print(f"Already so, nothing to change: {so}")
            elif not self.counts and self.targets:
                print("Nothing here is meant: no path is what the options choose.")
            return
        print(terminal.paint(self._headline(), "strong"))
        if so:
            print(f"{terminal.INDENT}already so: {so}")
        print()
        changes.print_changes(
            (
                changes.Changed(noted.change.before, noted.change.after, self.examples[number], count)
                for number, (noted, count) in enumerate(zip(self.made.changes, self.counts, strict=True))
                if count and noted.change.changes
            ),
            self.accounts,
        )
        for text in dict.fromkeys(note.text for noted in self.made.changes for note in noted.notes):
            terminal.say("-  " + text, terminal.INDENT, hanging="   ")
        print()
        if self.result is not None and not self.result.complete:
            print("Gains and losses are those of the whole plan, of which a part was not written:")
        for title, shifts in (("Gains", self.made.gains), ("Loses", self.made.losses)):
            print_shifts(title, told(shifts))
        if self.result is not None:
            carrying.print_ending(self.result, self.args)

    def _headline(self) -> str:
        if self.result is not None:
            return f"{words.of_all(self.result.changed, self.changing, 'path')} changed."
        paths = words.counted(self.changing, "path")
        if self.preview:
            return f"Preview: {paths} would change. Nothing is written."
        return f"Refused: nothing is written. {paths} would change."

    def _what_is_so(self) -> str:
        """What is meant and is so already: the paths, or how many there are in trees."""
        same = [
            number
            for number, noted in enumerate(self.made.changes)
            if not noted.change.changes and not noted.change.errno and self.counts[number]
        ]
        count = sum(self.counts[number] for number in same)
        if not count or any(target.with_tree for target in self.targets):
            return words.counted(count, "path") if count else ""
        paths = [visible(item.path) for item in self.made.items() if not item.change.changes and not item.change.errno]
        return words.several(paths, "paths")

    def _say_guard(self, guard: Guard) -> None:
        where = visible(guard.path)
        if guard.paths > 1:
            where = f"{words.counted(guard.paths, 'path')}, such as {where}"
        if self.preview:
            terminal.say(
                f"Guard {guard.name} would refuse this. {where}: {guard.text}. --accept {guard.name} does it.",
                hanging="  ",
            )
        else:
            self.report.refused(guard)

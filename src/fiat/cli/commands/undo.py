"""Put back what a run of fiat set changed: mode, owner, group, both lists, and the
special bits and file capabilities that the kernel cleared.

Without N, the latest run that was not put back yet; fiat history lists them. A path
that someone else changed since, or that is another file now, is left alone and
named; the rest is put back. An undo is a run of its own, and can be undone."""

import argparse
import os
import sys
from collections import Counter
from collections.abc import Iterator
from typing import Any, NamedTuple

from fiat.cli.commands.history import command_words, latest_to_undo, run_number
from fiat.cli.options import carrying
from fiat.cli.options.carrying import Result, add_history, open_history
from fiat.cli.options.hosts import open_host
from fiat.cli.parser import add_common
from fiat.cli.status import Status
from fiat.core.change.apply import differs, put_back, way_back
from fiat.core.change.history import Beginning, Entry, Fate, History, Run, State
from fiat.core.errors import HistoryError, NotationError, PathError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.posture import Posture
from fiat.core.model.record import posture_fields
from fiat.core.rules.changing import Change
from fiat.core.tree.handles import Handles
from fiat.render import changes, terminal, words
from fiat.render.effects import print_shifts
from fiat.render.report import Report

EXAMPLES = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat undo``."""
    parser.add_argument("run", nargs="?", metavar="N", help="the run to put back")
    parser.add_argument("--preview", action="store_true", help="show what would be put back, and change nothing")
    add_history(parser)
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Put one run back."""
    if args.snapshot is not None:
        raise NotationError("--from", "a snapshot was never changed, so there is nothing to undo in it")
    report = Report("undo", args.format)
    host = open_host(args)
    history = open_history(args)
    undone = latest_to_undo(history) if args.run is None else history.run(run_number(args.run))
    _check(undone)
    # in the other order: a directory is given back its owner before what is in it is come to
    entries = _with_leftovers(history, undone)
    finds = list(_find(host, entries, report, preview=args.preview))
    found = [find for find in finds if find.change is not None and find.change.changes]
    result = None
    if not args.preview:
        try:
            result = _put_back(host, history, undone, finds, report)
        except HistoryError as error:
            report.complaint(HistoryError(f"{error}; nothing was changed"))
            return Status.GUARDED
    if report.as_text:
        report.answered = len(entries)
        _print(undone, found, host.accounts, result, args)
    else:
        _fields(undone, found, host.accounts, report, result)
    return report.finish()


def _check(undone: Run) -> None:
    if undone.state is State.UNDONE:
        raise HistoryError(
            f"run {undone.number} was put back by run {undone.undone_by}; fiat undo {undone.undone_by} redoes it"
        )
    if undone.state is State.RUNNING:
        raise HistoryError(f"run {undone.number} is still going on; wait until it has ended, or stop it")


class _Find(NamedTuple):
    """An object to be put back; ``change`` is what that will do, None where it cannot be told before."""

    entry: Entry
    change: Change | None


def _with_leftovers(history: History, undone: Run) -> list[Entry]:
    """The entries of the run, from the last to the first; what an undo that failed in part left counts as its own."""
    left: dict[str, tuple[Posture, ...]] = {}
    for other in history.runs():
        if other.undoes == undone.number:
            for entry in history.entries(other.number):
                left[entry.path] = (*left.get(entry.path, ()), entry.before, entry.after, *entry.between)
    return [
        entry._replace(place=place, between=(*entry.between, *left.get(entry.path, ())))
        for place, entry in enumerate(history.entries(undone.number, backwards=True))
    ]


def _find(host: Host, entries: list[Entry], report: Report, *, preview: bool) -> Iterator[_Find]:
    """What is to be put back; what cannot be is a problem where nothing is to be written."""
    handles = Handles(host)
    actor = host.actor()
    try:
        for entry in entries:
            try:
                node = handles.open(entry.path)
                try:
                    now = node.now()
                    problem = differs(entry, now)
                    change = way_back(node, entry, now.posture, actor) if problem is None else None
                finally:
                    node.close()
            except OSError as error:
                problem, change = PathError(entry.path, error.errno or 0, "put back"), None
            if problem is not None and preview:
                report.problem(problem)
            yield _Find(entry, change)
    finally:
        handles.close()


def _put_back(host: Host, history: History, undone: Run, finds: list[_Find], report: Report) -> Result:
    actor = host.accounts.user_numbered(os.geteuid())
    beginning = Beginning(
        actor.name if actor else None, ("fiat", *sys.argv[1:]), undone.number, undone.losses, undone.gains
    )
    turned = []
    for entry, change in finds:
        before, after = (change.before, change.after) if change else (entry.after, entry.before)
        between = change.between if change else (*entry.between, entry.after)
        turned.append(entry._replace(before=before, after=after, between=between, fate=Fate.PLANNED))
    entries = [find.entry for find in finds]
    return carrying.carry(lambda stopping: put_back(host, entries, stopping), turned, beginning, history, report)


def _fields(undone: Run, found: list[_Find], accounts: Accounts, report: Report, result: Result | None) -> None:
    for entry, change in found:
        assert change is not None
        report.add(
            {
                "path": entry.path,
                "before": posture_fields(change.before, accounts),
                "after": posture_fields(change.after, accounts),
                "notes": [],
            }
        )
    told: dict[str, Any] = {
        "undoes": undone.number,
        "gains": [shift._asdict() for shift in undone.losses],
        "losses": [shift._asdict() for shift in undone.gains],
        "guards": [],
        "applied": result is not None and result.complete,
        "changed": 0 if result is None else result.changed,
        "history": None if result is None else result.fields(),
    }
    report.beside = told


def _print(
    undone: Run, found: list[_Find], accounts: Accounts, result: Result | None, args: argparse.Namespace
) -> None:
    if result is None:
        headline = f"Preview: {words.counted(len(found), 'path')} would be put back. Nothing is written."
    else:
        whole = result.changed + result.failed + result.left
        headline = f"{words.of_all(result.changed, whole, 'path')} put back."
    print(terminal.paint(headline, "strong"))
    terminal.say(f"what run {undone.number} changed: {command_words(undone)}", terminal.INDENT, hanging="  ")
    if result is not None and result.already:
        print(f"{terminal.INDENT}{words.counted(result.already, 'path')} had not been changed, or is back already")
    print()
    kinds: Counter[tuple[Posture, Posture]] = Counter()
    examples: dict[tuple[Posture, Posture], str] = {}
    for entry, change in found:
        assert change is not None
        key = change.before, change.after
        kinds[key] += 1
        examples.setdefault(key, entry.path)
    changes.print_changes((changes.Changed(*key, examples[key], count) for key, count in kinds.items()), accounts)
    if found:
        print()
        if result is not None and not result.complete:
            print("Gains and losses are those of the whole run, of which a part was not put back:")
        for title, shifts in (("Gains", undone.losses), ("Loses", undone.gains)):
            print_shifts(title, shifts)
    if result is not None:
        carrying.print_ending(result, args, "makes the change again")

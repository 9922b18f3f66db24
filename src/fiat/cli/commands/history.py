"""What fiat set and fiat undo have changed: each run with when, who, the command, how
many paths, and what has become of it; or one run in detail.

A run is running, done, partial (some paths failed, or it was stopped), or undone
(put back since). fiat undo N puts run N back."""

import argparse
import time
from collections import Counter
from typing import Any

from fiat.cli.options.carrying import add_history, history_option, open_history
from fiat.cli.options.hosts import open_host
from fiat.cli.parser import add_common
from fiat.core.change.history import Entry, Fate, History, Run, State
from fiat.core.errors import HistoryError, NotationError
from fiat.core.model.accounts import Accounts
from fiat.core.model.record import posture_fields
from fiat.core.suggest.advice import shell_word
from fiat.core.text import quoted, visible
from fiat.render import changes, terminal, words
from fiat.render.report import Report

EXAMPLES = ()

_FATES = {
    Fate.PLANNED: "changed",
    Fate.CHANGED: "changed",
    Fate.FAILED: "failed",
    Fate.ALREADY: "already",
    Fate.LEFT: "left",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat history``."""
    parser.add_argument("run", nargs="?", metavar="N", help="one run in detail")
    parser.add_argument("--last", type=_count_asked, metavar="COUNT", help="only the latest COUNT runs")
    add_history(parser)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """List the runs, or tell of one."""
    report = Report("history", args.format)
    history = open_history(args)
    if args.run is not None:
        _tell(history, history.run(run_number(args.run)), open_host(args).accounts, report, args.history)
        return report.finish()
    runs = history.runs()[: args.last]
    if report.format == "csv":
        for one in runs:
            report.add_row({name: value for name, value in _fields(one).items() if name not in ("gains", "losses")})
    elif report.format == "json":
        for one in runs:
            report.add(_fields(one))
        report.beside["file"] = history.place
    elif runs:
        print(terminal.table(["run", "when", "who", "state", "paths", "command"], [_row(one) for one in runs]))
        latest = next((one for one in runs if one.state in (State.DONE, State.PARTIAL) and one.undoes is None), None)
        print()
        if latest is not None:
            where = history_option(args.history)
            more = f"fiat history {latest.number}{where} tells of it"
            terminal.say(f"fiat undo {latest.number}{where} puts run {latest.number} back; {more}.")
    else:
        print(f"Nothing has been changed yet, by the history {visible(history.place)}.")
    return report.finish()


def _count_asked(word: str) -> int:
    if not (word.isascii() and word.isdecimal() and len(word) < 10 and int(word)):
        raise argparse.ArgumentTypeError(f"{quoted(word)} is no count of runs; write a number from 1 up")
    return int(word)


def run_number(word: str) -> int:
    """The number of a run as written."""
    if not word.isdecimal() or not word.isascii() or len(word) > 15:
        raise NotationError(word, f"{quoted(word)} is no number of a run; fiat history lists them")
    return int(word)


def _row(one: Run) -> list[str]:
    return [str(one.number), _when(one.started), _who(one), _state(one), _count(one), command_words(one)]


def _count(one: Run) -> str:
    """How many paths: of those meant, how many changed, where that is not all of them."""
    if one.ended is None or one.changed == one.paths:
        return f"{one.paths:,}"
    return f"{one.changed:,} of {one.paths:,}"


def _when(seconds: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(seconds))


def _who(one: Run) -> str:
    return visible(one.user) if one.user is not None else f"uid {one.uid}"


def _state(one: Run) -> str:
    words_of = {State.PARTIAL: "partial" if one.ended is not None else "partial, was killed"}
    text = words_of.get(one.state, one.state.value)
    return f"{text} by {one.undone_by}" if one.undone_by is not None else text


def command_words(one: Run) -> str:
    """The command line, as a shell reads it."""
    return " ".join(map(shell_word, one.command))


def _fields(one: Run) -> dict[str, Any]:
    return {
        "run": one.number,
        "started": one.started,
        "ended": one.ended,
        "uid": one.uid,
        "user": one.user,
        "command": list(one.command),
        "folder": one.folder,
        "state": one.state.value,
        "paths": one.paths,
        "changed": one.changed,
        "undoes": one.undoes,
        "undone_by": one.undone_by,
        "gains": [shift._asdict() for shift in one.gains],
        "losses": [shift._asdict() for shift in one.losses],
    }


# --- one run ---------------------------------------------------------------------------


def _tell(history: History, one: Run, accounts: Accounts, report: Report, where: str | None) -> None:
    entries = history.entries(one.number)
    if report.format == "text":
        _print(one, list(entries), accounts, where)
        report.count()
        return
    for entry in entries:
        before, after = posture_fields(entry.before, accounts), posture_fields(entry.after, accounts)
        if report.format == "json":
            report.add({"path": entry.path, "fate": _fate(entry, one), "before": before, "after": after})
            continue
        row = {"path": entry.path, "fate": _fate(entry, one)}
        for when, posture in (("before", before), ("after", after)):
            row |= {f"{name}_{when}": _cell(posture[name]) for name in ("mode", "owner", "group", "acl", "default")}
        report.add_row(row)
    report.beside["run"] = _fields(one)


def _cell(value: Any) -> Any:
    """An owner or a group by its number."""
    return next(iter(value.values())) if isinstance(value, dict) else value


def _fate(entry: Entry, one: Run) -> str:
    if entry.fate is Fate.PLANNED and one.ended is None:
        return "planned"  # it may have been come to, or not: the path itself tells
    return _FATES[entry.fate]


def _print(one: Run, entries: list[Entry], accounts: Accounts, where: str | None) -> None:
    print(terminal.paint(f"Run {one.number}, {_state(one)}", "strong"))
    rows = [
        ["when", _when(one.started)],
        ["who", _who(one)],
        ["in", visible(one.folder)],
        ["command", command_words(one)],
        ["paths", _count(one)],
    ]
    if one.undoes is not None:
        rows.append(["puts back", f"run {one.undoes}"])
    print(terminal.table(["", ""], rows))
    print()
    kinds: Counter[tuple[Any, Any]] = Counter()
    examples: dict[tuple[Any, Any], str] = {}
    for entry in reversed(entries):  # what was changed last is above the rest
        key = entry.before, entry.after
        kinds[key] += 1
        examples.setdefault(key, entry.path)
    changes.print_changes(
        (changes.Changed(*key, examples[key], count) for key, count in kinds.items()),
        accounts,
    )
    failed = [entry for entry in entries if entry.fate is Fate.FAILED]
    if failed:
        print(f"Failed: {words.several([visible(entry.path) for entry in failed], 'paths')}")
    if one.state in (State.DONE, State.PARTIAL):
        print()
        print(f"fiat undo {one.number}{history_option(where)} puts it back.")


def latest_to_undo(history: History) -> Run:
    """The latest run that changed something, is no undo itself, and was not put back yet."""
    for one in history.runs():
        if one.undoes is None and one.state in (State.DONE, State.PARTIAL):
            return one
    raise HistoryError("nothing is left to undo; fiat history lists what was done")

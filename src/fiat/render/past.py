"""The history, and one run of it."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from fiat.core.change.history import Damage, ObjectFate, Run, RunEntry, RunState
from fiat.core.model.accounts import Accounts
from fiat.core.model.record import PostureRecord
from fiat.core.text import Fields, counted, joined, several, visible
from fiat.render.changes import change_blocks, kept_fields
from fiat.render.ending import history_option
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Table, Verbatim, unbroken
from fiat.render.objects import iso_time
from fiat.render.runwords import (
    changed_objects,
    command_words,
    count_of,
    day_and_second,
    run_row,
    shortened_command,
    state_words,
    what_was,
    who_in_full,
)
from fiat.render.shownchange import ShownChange

_FATES = {
    ObjectFate.PLANNED: "changed",
    ObjectFate.CHANGED: "changed",
    ObjectFate.FAILED: "failed",
    ObjectFate.ALREADY: "already",
    ObjectFate.LEFT: "left",
    ObjectFate.ASTRAY: "astray",
}


def run_fields(run: Run) -> Fields:
    """The machine output of one run."""
    return {
        "run": run.number,
        "started": run.started,
        "ended": run.ended,
        "uid": run.uid,
        "user": run.user,
        "behind": None if run.behind is None else run.behind._asdict(),
        "command": list(run.command),
        "folder": run.folder,
        "state": run.state.value,
        "paths": run.paths,
        "changed": run.changed,
        "undoes": run.undoes,
        "undoes_also": list(run.undoes_also),
        "undoes_in_part": list(run.undoes_in_part),
        "undone_by": run.undone_by,
        "undone_in_part_by": list(run.undone_in_part_by),
        "gains": [kept_fields(shift) for shift in run.gains],
        "losses": [kept_fields(shift) for shift in run.losses],
    }


class RunsView(PlainResult):
    """Runs, the latest first, as text the latest last; ``every`` are all of which one may be put back by these."""

    def __init__(
        self, runs: list[Run], damage: list[Damage], place: str, history: str | None, every: Sequence[Run] = ()
    ) -> None:
        self.runs = runs
        self.known = {run.number: run for run in (*runs, *every)}
        self.damage = damage
        self.place = place
        self.history = history

    def records(self) -> Iterator[Fields]:
        """One record for each run, the latest first."""
        return map(run_fields, self.runs)

    def rows(self) -> Iterator[Fields]:
        """Each run, without who gained and who lost; times as spreadsheets read them."""
        for run in self.runs:
            fields = {name: value for name, value in run_fields(run).items() if name not in ("gains", "losses")}
            ended = None if run.ended is None else int(run.ended * 10**9)
            behind = run.behind
            fields["behind"] = None if behind is None else behind.name or behind.uid
            yield fields | {"started": iso_time(int(run.started * 10**9)), "ended": iso_time(ended)}

    def envelope(self) -> Fields:
        """Where the history is, and which runs in it are damaged."""
        return {"file": self.place, "damaged": [damage_fields(one) for one in self.damage]}

    def blocks(self) -> Iterator[Block]:
        """A row for each run, and how the latest is put back."""
        yield from damage_blocks(self.damage, self.history)
        if self.damage and self.runs:
            yield BLANK
        if not self.runs and self.known:
            yield Prose(f"None of the {counted(len(self.known), 'run')} in the history is meant.")
        elif not self.runs and not self.damage:
            yield _nothing_yet(self.place)
        if not self.runs:
            return
        rows = [run_row(run) for run in reversed(self.runs)]
        yield Table(["run", "when", "who", "state", "paths", "command"], rows, shorten=shortened_command)
        claimed = sorted({run.behind.said_by for run in self.runs if run.behind is not None and run.behind.said_by})
        if claimed:
            yield Prose(f"? is what {joined(claimed)} said: the kernel knew no login there.")
        latest = next(
            (one for one in self.runs if one.state in (RunState.DONE, RunState.PARTIAL) and not one.is_undo), None
        )
        if latest is not None:
            yield BLANK
            where, number = history_option(self.history), latest.number
            undo, show = (unbroken(f"fiat {word} {number}{where}") for word in ("undo", "history"))
            text = f"{undo} puts run {number} back; {show} shows it."
            yield Prose(text)


def _nothing_yet(place: str) -> Block:
    return Verbatim(f"Nothing has been changed yet, by the history {visible(place)}.")


def damage_fields(one: Damage) -> Fields:
    """The machine output of what is wrong; the number is null where it is the file as a whole."""
    return {"run": one.number, "text": one.text}


def damage_blocks(damage: list[Damage], history: str | None) -> Iterator[Block]:
    """A line for each run that is left out, and how to find out more."""
    for one in damage:
        yield Verbatim(Span(f"Run {one.number} is damaged and left out: {visible(one.text)}.", "strong"))
    if damage:
        yield Prose(f"The others can be used. fiat history{history_option(history)} --verify reads all of it.")


class VerifyView(PlainResult):
    """Whether a history is as it was written."""

    def __init__(self, runs: list[Run], damage: list[Damage], place: str) -> None:
        self.runs = runs
        self.damage = damage
        self.place = place

    def records(self) -> Iterator[Fields]:
        """One record for each thing in the history that is wrong."""
        return map(damage_fields, self.damage)

    def rows(self) -> Iterator[Fields]:
        """What is wrong, as in the records: these are flat."""
        return self.records()

    def envelope(self) -> Fields:
        """Where the history is, and how many runs of it are whole."""
        damaged = {one.number for one in self.damage}
        return {"file": self.place, "whole": sum(run.number not in damaged for run in self.runs)}

    def blocks(self) -> Iterator[Block]:
        """What is wrong, or that nothing is."""
        whole = self.envelope()["whole"]
        if not self.runs and not self.damage:
            yield _nothing_yet(self.place)
            return
        if not self.damage:
            yield Verbatim(f"{counted(whole, 'run')}, all as written, in {visible(self.place)}.")
            return
        yield Verbatim(Span(f"Damaged: {visible(self.place)}", "strong"))
        for one in self.damage:
            what = "the file" if one.number is None else f"run {one.number}"
            yield Prose(f"{what}: {visible(one.text)}", 1, hanging="  ")
        yield BLANK
        if whole:
            yield Prose(f"{counted(whole, 'run')} as written, which can be shown and put back; a damaged one cannot.")
        if any(one.number is None for one in self.damage):
            yield Prose("Keep a copy of the file; --history OTHER begins another one for what comes next.")


class RunView(PlainResult):
    """One run in detail; ``every`` are all that it may have put back."""

    def __init__(
        self, run: Run, entries: Iterable[RunEntry], accounts: Accounts, history: str | None, every: Sequence[Run] = ()
    ) -> None:
        self.run = run
        self.known = {one.number: one for one in every}
        self.entries = entries
        self.accounts = accounts
        self.history = history

    def records(self) -> Iterator[Fields]:
        """Each object of the run, before and after."""
        record = PostureRecord(self.accounts)
        for entry in self.entries:
            before, after = record.write(entry.before), record.write(entry.after)
            found = None if entry.found is None else record.write(entry.found)
            yield {"path": entry.path, "fate": self._fate(entry), "before": before, "after": after, "found": found}

    def rows(self) -> Iterator[Fields]:
        """The objects of the run as flat rows: owners and groups by number."""
        for fields in self.records():
            row = {"path": fields["path"], "fate": fields["fate"]}
            for when in ("before", "after"):
                names = ("mode", "owner", "group", "acl", "default")
                row |= {f"{name}_{when}": _flat(fields[when][name]) for name in names}
            yield row

    def envelope(self) -> Fields:
        """The run itself, beside its objects."""
        return {"run": run_fields(self.run)}

    def shown_change(self) -> ShownChange:
        """What the run changed, for a picture."""
        run = self.run
        pairs = ((entry.before, entry.after, entry.path) for entry in self.entries)
        return ShownChange(
            f"What run {run.number} changed: {counted(run.changed, 'path')}",
            (command_words(run), f"{day_and_second(run.started)}, {who_in_full(run)}"),
            tuple(changed_objects(pairs)),
            tuple(run.gains),
            tuple(run.losses),
            self.accounts,
            None,
        )

    def blocks(self) -> Iterator[Block]:
        """What is known of the run, and what it changed."""
        run, entries = self.run, list(self.entries)
        yield Verbatim(Span(f"Run {run.number}, {state_words(run)}", "strong"))
        rows = [
            ["when", day_and_second(run.started)],
            ["who", who_in_full(run)],
            ["in", visible(run.folder)],
            ["command", command_words(run)],
            ["paths", count_of(run)],
        ]
        rows += [["puts back", what_was(number, self.known)] for number in run.all_undone]
        rows += [["puts back a part of", what_was(number, self.known)] for number in run.undoes_in_part]
        yield Table(["", ""], rows)
        yield BLANK
        # what was changed last is above the rest
        yield from change_blocks(changed_objects((e.before, e.after, e.path) for e in reversed(entries)), self.accounts)
        failed = [entry for entry in entries if entry.fate is ObjectFate.FAILED]
        if failed:
            yield Verbatim(f"Failed: {several([visible(entry.path) for entry in failed], 'paths')}")
        yield from self._astray(entries)
        if run.state in (RunState.DONE, RunState.PARTIAL):
            yield BLANK
            yield Verbatim(f"fiat undo {run.number}{history_option(self.history)} puts it back.")

    def _astray(self, entries: list[RunEntry]) -> Iterator[Block]:
        """What was found otherwise than planned when it was read back, and as what."""
        pairs = [(e.before, e.found, e.path) for e in entries if e.fate is ObjectFate.ASTRAY and e.found is not None]
        if pairs:
            yield BLANK
            yield Verbatim("Found otherwise than planned when read back, and as is shown here:")
            yield from change_blocks(changed_objects(pairs), self.accounts)
        unseen = [visible(e.path) for e in entries if e.fate is ObjectFate.ASTRAY and e.found is None]
        if unseen:
            yield Verbatim(f"Could not be read back: {several(unseen, 'paths')}")

    def _fate(self, entry: RunEntry) -> str:
        if entry.fate is ObjectFate.PLANNED and self.run.ended is None:
            return "planned"  # it may have been changed, or not: the path itself says
        return _FATES[entry.fate]


def _flat(value: Any) -> Any:
    """An owner or a group by its number, anything else as it is."""
    if isinstance(value, dict):
        return next(iter(value.values()))
    return value

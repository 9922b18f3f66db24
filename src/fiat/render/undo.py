"""Putting runs back: what that does, or has done."""

from collections.abc import Iterator

from fiat.app.undo import Undoing
from fiat.core.model.record import PostureRecord
from fiat.core.text import Fields, counted, of_all, several, visible
from fiat.render.changes import change_blocks, kept_fields, shift_blocks
from fiat.render.ending import ending, history_fields, history_option
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Verbatim
from fiat.render.runwords import changed_objects, of_day, words_here
from fiat.render.shownchange import ShownChange

_RUNS = 6
"""So many runs are named each."""


class UndoView(PlainResult):
    """What putting back a run would do, or has done."""

    def __init__(self, found: Undoing, history: str | None) -> None:
        self.found = found
        self.accounts = found.host.accounts
        self.history = history

    def records(self) -> Iterator[Fields]:
        """Each object that is put back."""
        record = PostureRecord(self.accounts)
        for find in self.found.changing:
            assert find.change is not None
            before, after = record.write(find.change.before), record.write(find.change.after)
            yield {"path": find.entry.path, "before": before, "after": after, "notes": []}

    def envelope(self) -> Fields:
        """Who gains and who loses: the other way round than in the run."""
        undone, result = self.found.undone, self.found.result
        return {
            "undoes": undone.number,
            "undoes_also": [run.number for run in self.found.earlier],
            "in_part": [run.number for run in self.found.in_part],
            "overwritten": [find.entry.path for find in self.found.overwritten],
            "passed_over": [run.number for run in self.found.passed_over],
            "damaged": list(self.found.damaged),
            "gains": [kept_fields(shift) for shift in self.found.gains],
            "losses": [kept_fields(shift) for shift in self.found.losses],
            "guards": [],
            "applied": result is not None and result.complete,
            "changed": 0 if result is None else result.changed,
            "history": None if result is None else history_fields(result),
        }

    def shown_change(self) -> ShownChange:
        """What is put back, for a picture."""
        runs = [f"run {run.number}: {words_here(run)}" for run in self.found.runs[:2]]
        changing = self.found.changing
        pairs = ((find.change.before, find.change.after, find.entry.path) for find in changing if find.change)
        return ShownChange(
            f"What putting back run {self.found.undone.number} would change: {counted(len(changing), 'path')}",
            tuple(runs),
            tuple(changed_objects(pairs)),
            tuple(self.found.gains),
            tuple(self.found.losses),
            self.accounts,
            None,
        )

    def blocks(self) -> Iterator[Block]:
        """What is put back, and who gains and who loses."""
        undone, result, changing = self.found.undone, self.found.result, self.found.changing
        yield from self._what_is_meant()
        partly = sum(find.problem is not None for find in changing)
        for number in self.found.damaged:
            text = f"Passed over: run {number}, which is damaged; fiat history{history_option(self.history)} --verify"
            yield Prose(f"{text} says how.")
        for run in self.found.passed_over:
            text = f"Passed over: run {run.number}, of which nothing can be put back any more; fiat undo {run.number}"
            yield Prose(f"{text}{history_option(self.history)} says why.")
        if self.found.nothing and not any(find.problem is not None for find in self.found.finds):
            before = f"Nothing to put back: everything is as it was before run {undone.number}"
            yield Verbatim(Span(f"{before}. Nothing is written, and no run is made of it.", "strong"))
            return
        if result is None:
            some = f", {partly:,} of them in part" if partly else ""
            headline = f"Preview: {counted(len(changing), 'path')} would be put back{some}. Nothing is written."
        else:
            whole = result.changed + result.failed + result.left
            some = f", and {partly:,} in part" if partly else ""
            headline = f"{of_all(result.changed, whole, 'path')} put back{some}."
        yield Verbatim(Span(headline, "strong"))
        if self.found.others:
            runs = several([f"run {run.number}" for run in reversed(self.found.others)], "runs")
            yield Prose(f"Of others, and left as they are: {runs}; --by everyone takes them too.")
        if self.found.overwritten:
            paths = several([visible(find.entry.path) for find in self.found.overwritten], "paths", show=3)
            does = "would be overwritten" if result is None else "was overwritten"
            yield Prose(f"what others have changed since {does} too: {paths}", 1, hanging="  ")
        if result is not None and result.already:
            yield Verbatim(f"{counted(result.already, 'path')} not changed by it, or back already", 1)
        yield BLANK
        pairs = ((find.change.before, find.change.after, find.entry.path) for find in changing if find.change)
        yield from change_blocks(changed_objects(pairs), self.accounts)
        if changing:
            yield BLANK
            if self.found.earlier or self.found.in_part:
                if not (self.found.gains or self.found.losses):
                    yield Verbatim("Nobody gains and nobody loses, or there is too much to work it out.")
                    return
            elif result is not None and not result.complete:
                yield Verbatim("Gains and losses are those of the whole run, of which a part was not put back:")
            elif result is None and any(find.problem is not None for find in self.found.finds):
                yield Verbatim("Gains and losses are those of the whole run, of which a part would not be put back:")
            for title, shifts in (("Gains", self.found.gains), ("Loses", self.found.losses)):
                yield from shift_blocks(title, shifts, self.accounts, None)
        if result is not None:
            yield from ending(result, self.history, "makes the change again")

    def _what_is_meant(self) -> Iterator[Block]:
        """Which runs are put back, the latest first: a number alone is easily taken for another."""
        for run in self.found.runs[:_RUNS]:
            part = "a part of run" if run in self.found.in_part else "run"
            text = f"{part} {run.number}, of {of_day(run.started)}, {words_here(run)}"
            text += f", {counted(run.changed, 'path')}"
            yield Prose(text[0].upper() + text[1:], hanging="  ")
        if len(self.found.runs) > _RUNS:
            yield Verbatim(f"and {counted(len(self.found.runs) - _RUNS, 'earlier run')}", 1)

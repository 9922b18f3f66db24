"""The history, one run of it, and undoing."""

import time
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from fiat.app.undo import Undoing
from fiat.core.change.history import Actor, Damage, ObjectFate, Run, RunEntry, RunState
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Posture
from fiat.core.model.record import PostureRecord
from fiat.core.text import FEW, Fields, counted, joined, of_all, several, shell_word, visible
from fiat.render.changes import Changed, change_blocks, kept_fields, shift_blocks
from fiat.render.ending import ending, history_fields, history_option
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken
from fiat.render.objects import iso_time
from fiat.render.text import cells

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
        rows = [_row(run) for run in reversed(self.runs)]
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

    def blocks(self) -> Iterator[Block]:
        """What is known of the run, and what it changed."""
        run, entries = self.run, list(self.entries)
        yield Verbatim(Span(f"Run {run.number}, {_state(run)}", "strong"))
        rows = [
            ["when", _when(run.started)],
            ["who", _who_in_full(run)],
            ["in", visible(run.folder)],
            ["command", command_words(run)],
            ["paths", _count(run)],
        ]
        rows += [["puts back", _what_was(number, self.known)] for number in run.all_undone]
        rows += [["puts back a part of", _what_was(number, self.known)] for number in run.undoes_in_part]
        yield Table(["", ""], rows)
        yield BLANK
        # what was changed last is above the rest
        yield from change_blocks(_changed((e.before, e.after, e.path) for e in reversed(entries)), self.accounts)
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
            yield from change_blocks(_changed(pairs), self.accounts)
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


def _changed(found: Iterable[tuple[Posture, Posture, str]]) -> Iterator[Changed]:
    """Each distinct change with how many there are, and the first path."""
    # of most that are alike, the postures are the very same: these are told apart first
    kinds: dict[tuple[int, int], list[Any]] = {}
    for before, after, path in found:
        kind = kinds.get((id(before), id(after)))
        if kind is None:
            kinds[id(before), id(after)] = [before, after, [path], 1]
        else:
            kind[3] += 1
            if kind[3] <= FEW:
                kind[2].append(path)
    counts: Counter[tuple[Posture, Posture]] = Counter()
    paths: dict[tuple[Posture, Posture], list[str]] = {}
    for before, after, some, count in kinds.values():
        counts[before, after] += count
        paths.setdefault((before, after), []).extend(some)
    return (
        Changed(*key, paths[key][0], count, every=tuple(paths[key]) if count <= FEW else ())
        for key, count in counts.items()
    )


def _row(run: Run) -> list[Spans]:
    words = " ".join(map(shell_word, _without_history(run.command[1:])))
    undone = [*run.all_undone, *run.undoes_in_part]
    if undone and run.command[2:3] != (str(undone[0]),):
        what = "run" if len(undone) == 1 else "runs"
        words += f" (of {what} {joined(map(str, sorted(undone)))})"
    return [str(run.number), _day_and_time(run.started), _who(run), _state(run), _count(run), words]


def _without_history(command: Sequence[str]) -> list[str]:
    """The words without those that say which history it is: the one that is listed."""
    found: list[str] = []
    for place, word in enumerate(command):
        if word != "--history" and command[place - 1 : place] != ("--history",) and not word.startswith("--history="):
            found.append(word)
    return found


_CUT = "…"


def shortened_command(words: str, room: int) -> str:
    """A command line in ``room`` cells: paths lose what is in their middle, the longest first, and then the end."""
    parts = words.split(" ")
    while cells(" ".join(parts)) > room:
        longest = max(range(len(parts)), key=lambda place: cells(parts[place]) if "/" in parts[place] else 0)
        over = cells(" ".join(parts)) - room
        shorter = _without_middle(parts[longest], max(cells(parts[longest]) - over, _SHORTEST))
        if "/" not in parts[longest] or shorter == parts[longest]:
            break
        parts[longest] = shorter
    found = " ".join(parts)
    while found and cells(found) > room:
        found = found.removesuffix(_CUT)[:-1].rstrip() + _CUT
    return found


_SHORTEST = 12
"""Cells that are left of a path in the middle of a line."""


def _without_middle(path: str, room: int) -> str:
    """A path with ``…`` for some of its middle, in ``room`` cells where that can be; more is kept of its end."""
    if cells(path) <= room:
        return path
    whole = path.replace(_CUT, "")
    begin, end = max((room - 1) // 3, 1), max(room - 1 - (room - 1) // 3, 1)
    while end > 1 and cells(whole[:begin] + _CUT + whole[-end:]) > room:
        end -= 1
    return whole[:begin] + _CUT + whole[-end:]


def _what_was(number: int, known: Mapping[int, Run]) -> str:
    """A run by its number and its command, where it can be read."""
    run = known.get(number)
    return f"run {number}" if run is None else f"run {number}: {command_words(run)}"


def _count(run: Run) -> str:
    """How many paths: of those meant, how many changed, where that is not all of them."""
    if run.ended is None or run.changed == run.paths:
        return f"{run.paths:,}"
    return f"{run.changed:,} of {run.paths:,}"


def _when(seconds: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(seconds))


def _of_day(seconds: float) -> str:
    """A time for a person: today without the day."""
    return _day_and_time(seconds).removeprefix("today ")


def _day_and_time(seconds: float) -> str:
    """A time for a person: the year only where it is another one."""
    when, now = time.localtime(seconds), time.localtime()
    form = "today %H:%M" if when[:3] == now[:3] else "%d %b %H:%M" if when[0] == now[0] else "%Y-%m-%d %H:%M"
    return time.strftime(form, when)


def _who(run: Run) -> str:
    """Who had logged in, where that is known, and as whom it was run."""
    user = visible(run.user) if run.user is not None else f"uid {run.uid}"
    behind = run.behind
    if behind is None or behind.is_same(Actor(run.uid, run.user)):
        return user
    return f"{_called(behind)}{'?' if behind.said_by else ''} as {user}"


def _who_in_full(run: Run) -> str:
    user = visible(run.user) if run.user is not None else f"uid {run.uid}"
    behind = run.behind
    if behind is None:
        return user
    by = f"as {behind.said_by} claims" if behind.said_by else "by the login that the kernel has"
    return f"{user}; behind it {_called(behind)}, {by}"


def _called(actor: Actor) -> str:
    return visible(actor.name) if actor.name is not None else f"uid {actor.uid}"


def _state(run: Run) -> str:
    killed = {RunState.PARTIAL: "partial" if run.ended is not None else "partial, was killed"}
    text = killed.get(run.state, run.state.value)
    if run.undone_by is not None:
        return f"{text} by {joined(map(str, sorted((run.undone_by, *run.undone_in_part_by))))}"
    if run.undone_in_part_by:
        return f"part undone by {joined(map(str, sorted(run.undone_in_part_by)))}"
    return text


def command_words(run: Run) -> str:
    """The command line, as a shell reads it."""
    return " ".join(unbroken(shell_word(word)) for word in run.command)


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
        yield from change_blocks(_changed(pairs), self.accounts)
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
            text = f"{part} {run.number}, of {_of_day(run.started)}, {command_words(run)}"
            text += f", {counted(run.changed, 'path')}"
            yield Prose(text[0].upper() + text[1:], hanging="  ")
        if len(self.found.runs) > _RUNS:
            yield Verbatim(f"and {counted(len(self.found.runs) - _RUNS, 'earlier run')}", 1)

"""What runs of the history are called: when, who, by which command, and what has become of them."""

import time
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from fiat.core.change.history import Actor, Run, RunBeginning, RunState
from fiat.core.model.posture import Posture
from fiat.core.text import FEW, joined, shell_word, visible
from fiat.render.changes import Changed
from fiat.render.model import Spans, unbroken
from fiat.render.text import cells


def changed_objects(found: Iterable[tuple[Posture, Posture, str]]) -> Iterator[Changed]:
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


def run_row(run: Run) -> list[Spans]:
    """A row of the list of runs."""
    words = " ".join(map(shell_word, _without_history(run.command[1:])))
    undone = [*run.all_undone, *run.undoes_in_part]
    if undone and run.command[2:3] != (str(undone[0]),):
        what = "run" if len(undone) == 1 else "runs"
        words += f" (of {what} {joined(map(str, sorted(undone)))})"
    return [str(run.number), _day_and_time(run.started), who_ran(run), state_words(run), count_of(run), words]


def words_here(run: Run) -> str:
    """The command line, without which history it is where that is plain."""
    return " ".join(["fiat", *(unbroken(shell_word(word)) for word in _without_history(run.command[1:]))])


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


def what_was(number: int, known: Mapping[int, Run]) -> str:
    """A run by its number and its command, where it can be read."""
    run = known.get(number)
    return f"run {number}" if run is None else f"run {number}: {command_words(run)}"


def count_of(run: Run) -> str:
    """How many paths: of those meant, how many changed, where that is not all of them."""
    if run.ended is None or run.changed == run.paths:
        return f"{run.paths:,}"
    return f"{run.changed:,} of {run.paths:,}"


def day_and_second(seconds: float) -> str:
    """A time in full: ``2026-11-02 21:40:00``."""
    return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(seconds))


def of_day(seconds: float) -> str:
    """A time for a person: today without the day."""
    return _day_and_time(seconds).removeprefix("today ")


def _day_and_time(seconds: float) -> str:
    """A time for a person: the year only where it is another one."""
    when, now = time.localtime(seconds), time.localtime()
    form = "today %H:%M" if when[:3] == now[:3] else "%d %b %H:%M" if when[0] == now[0] else "%Y-%m-%d %H:%M"
    return time.strftime(form, when)


def who_ran(run: Run) -> str:
    """Who had logged in, where that is known, and as whom it was run."""
    user = visible(run.user) if run.user is not None else f"uid {run.uid}"
    behind = run.behind
    if behind is None or behind.is_same(Actor(run.uid, run.user)):
        return user
    return f"{_called(behind)}{'?' if behind.said_by else ''} as {user}"


def who_in_full(run: Run | RunBeginning) -> str:
    """Who ran it, who is behind that, and how that is known."""
    user = visible(run.user) if run.user is not None else f"uid {run.uid}"
    behind = run.behind
    if behind is None:
        return user
    by = f"as {behind.said_by} claims" if behind.said_by else "by the login that the kernel has"
    return f"{user}; behind it {_called(behind)}, {by}"


def _called(actor: Actor) -> str:
    return visible(actor.name) if actor.name is not None else f"uid {actor.uid}"


def state_words(run: Run) -> str:
    """What has become of it, and by which runs."""
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

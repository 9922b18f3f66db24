"""Putting back what a run of the history has changed."""

import errno
import os
import posixpath
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from itertools import repeat
from typing import Any, NamedTuple

from fiat.core.change import steps
from fiat.core.change.history import History, ObjectFate, Run, RunEntry, RunState
from fiat.core.change.privilege import Digests, may_come_back
from fiat.core.change.rewriting import (
    LeftObject,
    Outcome,
    Stopping,
    TriedObjects,
    failed,
    outcome_of,
    rewrite,
    same_posture,
)
from fiat.core.change.steps import Change
from fiat.core.change.together import Attempt, Came, Tried, Trying, left_after, together_on, try_all
from fiat.core.errors import OtherNow, PathError, RunDamaged, RunError
from fiat.core.model import mode
from fiat.core.model.columns import made_of
from fiat.core.model.glance import Glance
from fiat.core.model.host import Host, Node
from fiat.core.model.mode import special_names
from fiat.core.model.posture import Identity, Kind, Placement, Posture
from fiat.core.model.principals import Principal
from fiat.core.rules.privilege import is_privileged, without_privilege
from fiat.core.text import joined
from fiat.core.tree.walk import Handles


class UndoTerms(NamedTuple):
    """What is put back all the same: what others have ``changed`` since, and ``privilege``, whatever the contents."""

    changed: bool = False
    privilege: bool = False


NOTHING = UndoTerms()


class UndoObject(NamedTuple):
    """An object to be put back.

    ``change`` is what that will do, None where it cannot be told before;
    ``problem`` why it cannot be put back. Where it was changed since, ``changed`` is what it is now; without a
    ``problem`` that is to be overwritten.
    """

    entry: RunEntry
    change: Change | None
    problem: PathError | None = None
    changed: Posture | None = None


def runs_to_undo(history: History, runs: Sequence[Run] | None = None) -> list[Run]:
    """The runs that changed something, are no undo themselves, and were not put back yet; the latest first.

    ``runs`` are all those of the history, where they were read already.
    """
    every = as_they_stand(history, runs)
    return [run for run in every if not run.is_undo and run.state in (RunState.DONE, RunState.PARTIAL)]


def as_they_stand(history: History, runs: Sequence[Run] | None = None) -> list[Run]:
    """All runs, the latest first: of each what has been put back by undos that were for a part of it, or that put
    back a part of what they were for. One of which nothing is left is undone.

    ``runs`` are all those of the history, where they were read already.
    """
    every = history.runs() if runs is None else list(runs)
    in_part: set[int] = set()
    for other in every:
        if other.is_undo and other.ended is not None:
            in_part.update(other.undoes_in_part, other.all_undone if other.state is RunState.PARTIAL else ())
    for place, run in enumerate(every):
        if run.number in in_part and run.state is not RunState.RUNNING:
            with suppress(RunDamaged):
                every[place] = _put_back_in_part(history, run, every)
    return every


def _put_back_in_part(history: History, run: Run, every: Sequence[Run]) -> Run:
    touched = {_key(entry) for entry in history.entries(run.number) if run.ended is None or entry.fate in _TOUCHED}
    gone = _put_back_by(history, run, every)
    by = sorted({gone[key] for key in touched & gone.keys()}, reverse=True)
    if touched and touched <= gone.keys():
        return run._replace(state=RunState.UNDONE, undone_by=by[0], undone_in_part_by=tuple(by[1:]))
    whole = run.ended is not None and run.changed == run.paths
    state = RunState.DONE if whole else RunState.PARTIAL
    return run._replace(state=state, undone_by=None, undone_in_part_by=tuple(by))


def _key(entry: RunEntry) -> tuple[str, int]:
    return entry.path, entry.identity.inode


def _put_back_by(history: History, run: Run, every: Sequence[Run]) -> dict[tuple[str, int], int]:
    """The objects that undos of ``run`` have put back, and that were not changed again by an undo of those; of each
    the number of the latest such undo."""
    found: dict[tuple[str, int], int] = {}
    for other in every:  # the latest first
        if run.number not in (*other.all_undone, *other.undoes_in_part) or other.ended is None:
            continue
        with suppress(RunDamaged):
            entries = history.entries(other.number)
            again = _put_back_by(history, other, every).keys()
            touched = {_key(entry) for entry in entries if entry.fate in _TOUCHED}
            if other.state is RunState.UNDONE or (touched and touched <= again):
                continue  # what was back already when it was tried does not count then either
            for key in {_key(entry) for entry in entries if entry.fate in _REACHED} - again:
                found.setdefault(key, other.number)
    return found


def check(run: Run) -> None:
    """Raise :class:`RunError` where ``run``, as it stands, cannot be put back now."""
    if run.state is RunState.UNDONE:
        by = joined(map(str, sorted((run.undone_by or 0, *run.undone_in_part_by))))
        runs = "runs" if run.undone_in_part_by else "run"
        raise RunError(f"run {run.number} was put back by {runs} {by}; fiat undo {run.undone_by} redoes it")
    if run.state is RunState.RUNNING:
        raise RunError(f"run {run.number} is still going on; wait until it has ended, or stop it")


def entries_to_undo(history: History, run: Run, runs: Sequence[Run] | None = None) -> list[RunEntry]:
    """The entries of ``run``, from the last to the first: a directory is given back its owner before what is in it.

    ``runs`` are all those of the history, where they were read already.

    What the run did not touch is none of them, where it told its end, nor is what an undo of a part of it has put
    back. What an undo that failed in part left behind counts as the run's own.
    """
    every = history.runs() if runs is None else runs
    entries = [one for one in reversed(history.entries(run.number)) if run.ended is None or one.fate in _TOUCHED]
    left: dict[str, tuple[Posture, ...]] = {}
    undos = [other for other in every if run.number in (*other.all_undone, *other.undoes_in_part)]
    if undos:
        gone = _put_back_by(history, run, every)
        entries = [one for one in entries if _key(one) not in gone]
    for other in undos:
        with suppress(RunDamaged):  # then what it left is named as somebody else's
            for entry in history.entries(other.number):
                left[entry.path] = (*left.get(entry.path, ()), entry.before, entry.after, *entry.between)
    for place, entry in enumerate(entries):
        if entry.path in left:
            entries[place] = entry._replace(between=(*entry.between, *left[entry.path]))
    return entries


def entries_of_several(history: History, runs: Sequence[Run]) -> list[RunEntry]:
    """The entries of several runs, the latest first, as if they were one: each object is to be what it was before the
    first of them, and may be found as any of them left it.
    """
    found: dict[tuple[str, int], RunEntry] = {}
    every = history.runs()
    for run in runs:
        for entry in entries_to_undo(history, run, every):
            key = entry.path, entry.identity.inode
            later = found.get(key)
            if later is None or not later.identity.same_as(entry.identity):
                found[key] = entry
            else:
                between = (*later.between, later.before, entry.after, *entry.between)
                found[key] = later._replace(
                    before=entry.before, between=tuple(dict.fromkeys(between)), digest=entry.digest
                )
    return list(found.values())


def with_later_runs(history: History, undone: Sequence[Run], finds: list[UndoObject]) -> list[UndoObject]:
    """The finds, with the run that is to be undone first where a later one of this history changed an object since."""
    changed = {find.entry.path: place for place, find in enumerate(finds) if find.changed is not None and find.problem}
    numbers = {run.number for run in undone}
    later = [
        run
        for run in history.runs()
        if run.number > min(numbers) and run.number not in numbers and run.state in (RunState.DONE, RunState.PARTIAL)
    ]
    for run in later if changed else ():  # the latest first
        with suppress(RunDamaged):
            for entry in history.entries(run.number):
                if run.ended is not None and entry.fate not in _TOUCHED:
                    continue
                place = changed.get(entry.path, -1)
                now = finds[place].changed if place >= 0 else None
                if now is not None and entry.identity.same_as(finds[place].entry.identity) and entry.after == now:
                    hint = f"run {run.number} changed it since: fiat undo {run.number} comes first"
                    problem = OtherNow(entry.path, "put back", hint)
                    finds[place] = finds[place]._replace(problem=problem, changed=None)
                    del changed[entry.path]
    return finds


_TOUCHED = frozenset({ObjectFate.PLANNED, ObjectFate.CHANGED, ObjectFate.ASTRAY})
_REACHED = frozenset({ObjectFate.PLANNED, ObjectFate.CHANGED, ObjectFate.ALREADY})
"""Of a run that has ended: what is as it was to be."""


def find(
    host: Host, entries: Iterable[RunEntry], despite: UndoTerms = NOTHING, *, at_once: bool = False
) -> Iterator[UndoObject]:
    """What putting back will do to each object, as it is found now.

    Set-id bits and capabilities come back only on contents that nobody else could have written since. What is in
    a directory that is opened again first, and may not be looked at until then, is taken to be as the run left it.
    """
    looking = _Looking(host, despite, at_once=at_once)
    try:
        yield from looking.all(list(entries))
    finally:
        looking.handles.close()


class _Looking:
    """Looks at what a run changed, to find what putting it back will do."""

    def __init__(self, host: Host, despite: UndoTerms, *, at_once: bool) -> None:
        self.handles = Handles(host)
        self._despite = despite
        self._ways = _Ways(host.actor(), despite)
        self._at_once = at_once
        self._comparisons: dict[tuple[int, int], Change | None] = {}

    def all(self, entries: Sequence[RunEntry]) -> Iterator[UndoObject]:
        """What putting back will do to each."""
        place, count = 0, len(entries)
        trying = Trying(
            together_on(self.handles.host),
            lambda places: self._attempts(entries[places.start : places.stop]),
            at_once=self._at_once,
        )
        opened: set[str] = set()
        told = 0

        def is_opened_before(path: str, at: int) -> bool:
            nonlocal told
            opened.update(one.path for one in entries[told:at] if one.before.kind is Kind.DIRECTORY)
            told = at
            return _is_under(path, opened)

        while place < count:
            found = trying.next(range(place, count))
            some = entries[place : place + len(found.sites)]
            ways = self._ways.as_left(some, found.sites)
            for at, tried in sorted(found.ended.items()):
                opened_before = partial(is_opened_before, some[at].path, place + at)
                ways[at] = self._one(some[at], tried, opened_before)
            yield from ways
            place += len(found.sites)

    def _attempts(self, entries: Sequence[RunEntry]) -> list[Attempt | None]:
        """How entries are compared with what the run left; None where more is to be looked at."""
        known = self._comparisons
        paths, identities, befores, afters, *_ = zip(*entries, strict=True)
        same = list(zip(map(id, afters), map(id, befores), strict=True))  # of most entries these are the very same
        for key, entry in {key: entry for key, entry in zip(same, entries, strict=True) if key not in known}.items():
            known[key] = None if self._ways.takes_a_look(entry) else Change(entry.after, entry.after)
        return _ready(paths, identities, map(known.__getitem__, same), repeat(True))

    def _one(self, entry: RunEntry, tried: Tried, opened_before: Callable[[], bool]) -> UndoObject:
        """What putting back will do to one that is looked at by itself; whether a directory above it is opened
        before."""
        try:
            node = tried.node
            if tried.came is Came.NOT_OPENED:
                raise OSError(tried.errno, os.strerror(tried.errno))
            if node is None:
                node = self.handles.open(entry.path)
        except OSError as error:
            if error.errno == errno.EACCES and opened_before():
                return self._ways.find(entry.after, entry)
            return UndoObject(entry, None, failed(entry.path, error, "put back"))
        ways = self._ways
        try:
            changed = None
            now, site = entry.after, node.matches(entry.after, entry.identity)
            if site is None:
                found = node.glance()
                problem = differs(entry, found)
                if problem is not None and not (self._despite.changed and found.identity.same_as(entry.identity)):
                    return UndoObject(entry, None, problem, found.posture)
                now, site = found.posture, found.site
                changed = found.posture if problem is not None else None
            return ways.find(now, entry, site, ways.goal(node, now, entry))._replace(changed=changed)
        except OSError as error:
            return UndoObject(entry, None, failed(entry.path, error, "put back"))
        finally:
            node.close()


def put_back(
    host: Host,
    finds: Sequence[UndoObject],
    stopping: Stopping,
    places: range | None = None,
    despite: UndoTerms = NOTHING,
    *,
    at_once: bool = False,
) -> Iterator[TriedObjects]:
    """Put what was found at ``places``, by default all, back from whatever state the run left it in.

    It is done one after the other, or several ``at_once`` where a host can.
    """
    handles = Handles(host)
    ways = _Ways(host.actor(), despite)

    def change(place: int) -> Outcome | None:
        return _put_one_back(handles, ways, finds[place], place)

    known: dict[tuple[int, int], tuple[Change | None, bool]] = {}

    def attempts(several: range) -> list[Attempt | None]:
        entries, changes, problems, _ = zip(*finds[several.start : several.stop], strict=True)
        paths, identities, befores, *_ = zip(*entries, strict=True)
        same = list(zip(map(id, changes), map(id, befores), strict=True))  # of most objects these are the very same
        new = {one: row for one, *row in zip(same, changes, befores, strict=True) if one not in known}
        for key, (taken, before) in new.items():
            simple = taken is not None and not taken.errno and not is_privileged(taken.after)
            known[key] = (taken, same_posture(taken.before, before)) if simple and taken is not None else (None, False)
        taken_of_each, compared_only = zip(*map(known.__getitem__, same), strict=True)
        found = _ready(paths, identities, taken_of_each, compared_only)
        for place in [place for place, problem in enumerate(problems) if problem is not None]:
            found[place] = None
        return found

    def after_attempt(place: int, tried: Tried) -> Outcome | None:
        return _after(ways, finds[place], place, tried)

    try:
        every = range(len(finds)) if places is None else places
        yield from try_all(host, every, attempts, change, after_attempt, stopping, at_once=at_once)
    finally:
        handles.close()


def _ready(
    paths: Iterable[str], identities: Iterable[Identity], changes: Iterable[Change | None], alone: Iterable[bool]
) -> list[Attempt | None]:
    """Attempts, whatever number of names there are; None where there is no change."""
    found: list[Any] = list(zip(paths, identities, changes, repeat(0), alone, strict=False))
    for place in [place for place, one in enumerate(found) if one[2] is None]:
        found[place] = None
    return found


def _put_one_back(handles: Handles, ways: "_Ways", find: UndoObject, place: int) -> Outcome | None:
    try:
        node = handles.open(find.entry.path)
    except (OSError, MemoryError) as error:
        return outcome_of(place, LeftObject(failed(find.entry.path, error, "put back")))
    return _put_held_back(node, ways, find, place)


def _after(ways: "_Ways", find: UndoObject, place: int, tried: Tried) -> Outcome | None:
    """Go on where an attempt to put one back has ended."""
    node, path = tried.node, find.entry.path
    if node is None:
        return outcome_of(place, LeftObject(failed(path, OSError(tried.errno, ""), "put back")))
    if tried.came is Came.OTHERWISE:
        return _put_held_back(node, ways, find, place)
    try:
        assert find.change is not None
        return outcome_of(place, left_after(node, find.change, ways.actor, tried))
    except (OSError, MemoryError) as error:
        return outcome_of(place, LeftObject(failed(path, error, "put back")))
    finally:
        node.close()


def _put_held_back(node: Node, ways: "_Ways", find: UndoObject, place: int) -> Outcome | None:
    """Put back one that is held, and let go of it."""
    entry, change, problem, changed = find
    over = changed is not None and problem is None
    try:
        if change is None or problem is not None or not node.matches(change.before, entry.identity):
            found = node.glance()
            differs_now = differs(entry, found)
            if changed is not None and over and same_posture(found.posture, changed):
                differs_now = None  # it is to be overwritten as it was shown
            if differs_now is not None:  # what was known of it before may say more
                same = problem is not None and problem.errno == differs_now.errno
                return outcome_of(place, LeftObject(problem if same else differs_now))
            _, change, problem, _ = ways.find(found.posture, entry, found.site, ways.goal(node, found.posture, entry))
        elif is_privileged(change.after):  # what it holds may have been changed since it was found
            goal = ways.goal(node, change.before, entry)
            if goal != change.after:
                _, change, problem, _ = ways.find(change.before, entry, node.glance().site, goal)
        assert change is not None
        if same_posture(change.before, entry.before):
            return Outcome(place, already=True)
        left = LeftObject(problem) if change.errno else rewrite(node, change, ways.actor)
        return outcome_of(place, left if left.error is not None else LeftObject(problem))
    except (OSError, MemoryError) as error:
        return outcome_of(place, LeftObject(failed(entry.path, error, "put back")))
    finally:
        node.close()


def differs(entry: RunEntry, found: Glance) -> PathError | None:
    """Why what is ``found`` at the path of ``entry`` is not what the run left there; None if it is."""
    if found.identity != entry.identity and not found.identity.same_as(entry.identity):
        return OtherNow(entry.path, "put back", "another object is there now, and is left alone")
    now = found.posture
    if now == entry.after or any(same_posture(now, one) for one in (entry.after, entry.before, *entry.between)):
        return None
    if entry.found is not None and same_posture(found.posture, entry.found):
        hint = "someone else changed it while the run did, and it is left alone as it is now"
    else:
        hint = "it was changed since by someone else, and is left alone"
    was = f"; it was {mode.octal(entry.before.mode)}, owner {entry.before.uid}, group {entry.before.gid}"
    return OtherNow(entry.path, "put back", hint + was)


def _is_under(path: str, directories: set[str]) -> bool:
    while path != "/":
        path = posixpath.dirname(path)
        if path in directories:
            return True
    return False


_NOWHERE = Placement(None, None)


class _Ways:
    """What putting back does to an object, worked out once for all that are alike."""

    def __init__(self, actor: Principal, despite: UndoTerms) -> None:
        self.actor = actor
        self._despite = despite
        self._digests = Digests()
        self._goals: dict[Posture, Posture] = {}
        self._known: dict[tuple[object, ...], Change] = {}
        self._met: dict[tuple[int, ...], tuple[Change, bool, object]] = {}

    def takes_a_look(self, entry: RunEntry) -> bool:
        """Whether what an object becomes, that is as the run left it, hangs on more than its posture."""
        return not self._despite.privilege and is_privileged(entry.before)

    def goal(self, node: Node, now: Posture, entry: RunEntry) -> Posture:
        """What an object that has the posture ``now`` is to become: what it was, perhaps without its privilege."""
        before = entry.before
        if self._despite.privilege or not is_privileged(before) or same_posture(now, before):
            return before
        since = (entry.after, *entry.between, *([] if entry.found is None else [entry.found]))
        if may_come_back(now, before, since, entry.digest, lambda: self._digests.of(node)):
            return before
        return self._goals.setdefault(before, without_privilege(before))

    def as_left(self, entries: Sequence[RunEntry], sites: Sequence[Placement | None]) -> list[UndoObject]:
        """What will be done to objects that are as the run left them, as most are; of those without a site nothing."""
        _, _, befores, afters, betweens, *_ = zip(*entries, strict=True)
        same = list(zip(*(map(id, column) for column in (afters, befores, sites, betweens)), strict=True))
        new = {key: place for place, key in enumerate(same) if key not in self._met and sites[place] is not None}
        for place in new.values():
            self._find_as_left(entries[place], sites[place])
        met = list(map(self._met.get, same))
        whole = [None if one is None or not one[1] else one[0] for one in met]
        found = list(made_of(UndoObject, entries, whole, repeat(None), repeat(None)))
        for place in [place for place, change in enumerate(whole) if change is None]:
            if sites[place] is not None:
                found[place] = self._find_as_left(entries[place], sites[place])
        return found

    def _find_as_left(self, entry: RunEntry, site: Placement | None) -> UndoObject:
        return self.find(entry.after, entry, _NOWHERE if site is None else site, entry.before)

    def find(
        self, now: Posture, entry: RunEntry, site: Placement = _NOWHERE, goal: Posture | None = None
    ) -> UndoObject:
        """What will be done to an object that has the posture ``now`` so that it has the posture ``goal``, by default
        that before; its site, where that could be found out."""
        goal = entry.before if goal is None else goal
        same = id(now), id(goal), id(site), id(entry.between)  # of most objects these are the very same
        met = self._met.get(same)
        if met is None:
            through = steps.through_flags(goal, now, entry.between)
            key = now, goal, site, through
            change = self._known.get(key)
            if change is None:
                taken = steps.steps_towards(now, goal, self.actor, through=through)
                change = self._known[key] = steps.change(now, taken, self.actor, *site)
            whole = not change.errno and same_posture(change.after, goal)
            # with the key, which holds what is the same: another must not come to be where one was
            met = self._met[same] = change, whole, (key, entry.between)
        change, whole, _ = met
        if whole and goal is not entry.before:
            return UndoObject(entry, change, _without_privilege(entry))
        return UndoObject(entry, change, None if whole else _left_undone(entry, change))


def _without_privilege(entry: RunEntry) -> PathError:
    """That its set-id bits or capabilities are left off."""
    lost = list(special_names(entry.before.mode & 0o6000))
    if entry.before.capabilities is not None:
        lost.append("file capabilities")
    hint = "others could have written to it since; look at what it holds, then undo the same with --accept privilege"
    return PathError(entry.path, errno.EPERM, f"give {joined(lost)} back to", hint)


def _left_undone(entry: RunEntry, change: Change) -> PathError:
    """Why the change does not put back all of it."""
    if change.errno:
        return PathError(entry.path, change.errno, "put back")
    return PathError(entry.path, errno.EPERM, "put back all of", "the kernel leaves out what only root may set")

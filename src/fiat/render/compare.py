"""What differs between two states: who got in and who lost what, by which change; then the changes."""

from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.app.compare import LIVE, ComparedState
from fiat.core.ask.effects import TOPMOST, Counted, KeptShift, kept
from fiat.core.ask.pathsbehind import topmost_paths
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Mount, Posture
from fiat.core.model.record import MOUNT, PostureRecord
from fiat.core.state.comparison import Cell, Compared, Comparison, MountChange, other_flags_differ
from fiat.core.state.matching import AccountChange
from fiat.core.text import FEW, Fields, counted, joined, several, shell_word, visible
from fiat.core.tree.survey import Survey
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords
from fiat.render.changes import Changed, change_blocks, differences, effects_fields, paths_of, shift_blocks, unlisted_in
from fiat.render.model import BLANK, UNBROKEN, Block, Part, PlainResult, Prose, Verbatim, unbroken
from fiat.render.shownchange import ShownChange

_MOST = 12
"""Rows of a kind before the rest is only counted."""


class ComparisonView(PlainResult):
    """The whole comparison; with ``gains_only`` of it just who gained what."""

    def __init__(
        self,
        found: Comparison,
        before: ComparedState,
        after: ComparedState,
        paths: Sequence[str] = (),
        *,
        gains_only: bool = False,
        with_paths: bool = False,
    ) -> None:
        self.found = found
        self.before, self.after = before, after
        self.paths = paths
        self.gains_only = gains_only
        self.with_paths = with_paths
        self._order = {naming.word_for(who): place for place, who in enumerate(found.universe.principals)}
        self.accounts = after.host.accounts

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """One for each path that is not as it was: those that are matched, what is gone, what is new."""
        for tree in self.found.trees:
            yield from self._records(tree)

    def _records(self, tree: Compared) -> Iterator[Fields]:
        then, now = PostureRecord(self.before.host.accounts), PostureRecord(self.accounts)
        one, other, matching = tree.pair.before.survey, tree.pair.after.survey, tree.matching

        def fields(path: str, change: str, before: Posture | None, after: Posture | None, **more: object) -> Fields:
            return {
                "path": path,
                "change": change,
                "before": None if before is None else then.write(before),
                "after": None if after is None else now.write(after),
                "was": None,
                **more,
            }

        some = np.flatnonzero(tree.changed | matching.first_moved | matching.replaced)
        paths = zip(some.tolist(), _paths(one, matching.before[some]), _paths(other, matching.after[some]), strict=True)
        for number, was, path in paths:
            change = "moved" if was != path else "replaced" if matching.replaced[number] else "changed"
            before, after = (
                survey.profiles[int(survey.profile[place])]
                for survey, place in ((one, matching.before[number]), (other, matching.after[number]))
            )
            more: Fields = {"was": was, "perhaps": not bool(matching.sure[number])} if was != path else {}
            if other_flags_differ(before, after):
                more["other_flags"] = {"before": before.other_flags, "after": after.other_flags}
            yield fields(path, change, before.posture, after.posture, **more)
        for place, path in one.paths_of(matching.gone.tolist()):
            yield fields(path, "gone", one.profiles[int(one.profile[place])].posture, None)
        for place, path in other.paths_of(matching.new.tolist()):
            yield fields(path, "new", None, other.profiles[int(other.profile[place])].posture)

    def envelope(self) -> Fields:
        """Who gained and lost what, with the causes; accounts and mounts."""
        found = self.found
        return {
            "compared": [
                {"state": state.word, "path": state.path, "host": state.host.name, "taken": state.taken}
                for state in (self.before, self.after)
            ],
            **effects_fields(found.effects, losses=not self.gains_only),
            "causes": [self._cell_fields(cell) for cell in self._cells()],
            "accounts": [_account_fields(change) for change in found.accounts],
            "mounts": [
                {"point": one.point, "before": _mount_fields(one.before), "after": _mount_fields(one.after)}
                for one in found.mounts
            ],
            "not_compared": sum(tree.matching.not_compared for tree in found.trees),
            "at_least": found.effects.at_least,
        }

    def shown_change(self) -> ShownChange:
        """What differs, for a picture."""
        found = self.found
        called = (_called(self.before).replace(UNBROKEN, " "), _called(self.after).replace(UNBROKEN, " "))
        return ShownChange(
            f"What changed in {joined(visible(tree.pair.after.survey.top.path) for tree in found.trees)}",
            (f"from {called[0]} to {called[1]}", self._summary()),
            tuple(changed for tree in found.trees for changed in changed_kinds(tree)),
            kept(found.effects.gains),
            () if self.gains_only else kept(found.effects.losses),
            self.accounts,
            unlisted_in(found.universe),
        )

    def _cells(self) -> list[Cell]:
        """Those that are told, the most people on the most paths first."""
        told = [cell for cell in self.found.cells if cell.gained or not self.gains_only]
        return sorted(told, key=lambda cell: (not cell.gained, -cell.bits.bit_count() * cell.paths, cell.first))

    def _cell_fields(self, cell: Cell) -> Fields:
        cause, record = cell.cause, PostureRecord(self.accounts)
        return {
            "gained": cell.gained,
            "who": [naming.word_for(who) for who in self.found.universe.members(cell.bits)],
            "rights": {right.name: paths for right, paths in cell.rights.items()},
            "first": cell.first,
            "cause": {
                "kind": cause.kind,
                "path": cause.path,
                "before": None if cause.before is None else record.write(cause.before.posture),
                "after": None if cause.after is None else record.write(cause.after.posture),
                "changed_alike": cell.alike,
            },
        }

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Each cause, each kind of change; or each path that is not as it was."""
        if not text:
            yield from map(Part, self.records())
            return
        cells = self._cells()
        for title, gained in (("Gains", True), ("Loses", False)):
            by_cause = self._by_cause([cell for cell in cells if cell.gained is gained])
            for cause, some in by_cause.items():
                people = PeopleWords(self.found.universe, self.accounts, self.found.universe.everyone)
                exactly = tuple(people.exactly(cell.bits) for cell in some)
                yield Part(None, tuple(self._of_cause(title, cause, some)), exactly=exactly)
        if not self.gains_only:
            sections = (self._accounts(), self._mounts(), *map(self._tree, self.found.trees))
            for rank, section in enumerate(sections, 1):
                if blocks := tuple(section):
                    yield Part(None, blocks[1:] if blocks[0] == BLANK else blocks, rank=rank)
        if not self.found.differs:
            yield Part(None, (Verbatim("Nothing differs."),))

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """In words: who first, then what."""
        found = self.found
        yield Prose(self._headline(), hanging="  ")
        cells = self._cells()
        if not found.differs:
            seen = all(not view.survey.troubles for tree in found.trees for view in (tree.pair.before, tree.pair.after))
            yield Verbatim(f"Nothing differs{'' if seen else ' in what could be looked at'}.")
            return
        yield Prose(self._summary(), hanging="  ")
        yield from self._effects("Gains", [cell for cell in cells if cell.gained])
        if self.gains_only:
            yield from self._what_next("--only-gained")
            return
        yield from self._effects("Loses", [cell for cell in cells if not cell.gained])
        yield from self._accounts()
        yield from self._mounts()
        for tree in found.trees:
            yield from self._tree(tree)
        left = sum(tree.matching.not_compared for tree in found.trees)
        if left:
            yield Prose(f"{counted(left, 'object')} not compared: one side was not read there.", hanging="  ")
        yield from self._what_next("")

    def _what_next(self, option: str) -> Iterator[Block]:
        """The command that shows what putting it back would do, where there is something to be put back."""
        if self.before.path is None or not any(bool(tree.changed.any()) for tree in self.found.trees):
            return
        words = ["fiat", "restore", self.before.path if self.before.at else self.before.word, *self.paths]
        words += [option] if option else []
        words += ["--from", self.after.word] if self.after.path is not None else []
        command = " ".join(map(shell_word, [*words, "--preview"]))
        yield BLANK
        yield Verbatim("What putting it back would do, and to whom:")
        yield Verbatim(unbroken(command), 1)

    def _headline(self) -> str:
        tops = [unbroken(visible(tree.pair.after.survey.top.path)) for tree in self.found.trees]
        return f"{joined(tops)}, from {_called(self.before)} to {_called(self.after)}"

    def _summary(self) -> str:
        """How much differs, in one line."""
        trees = self.found.trees
        counts = {
            "changed": sum(int(tree.changed.sum()) for tree in trees),
            "moved": sum(int(tree.matching.first_moved.sum()) for tree in trees),
            "replaced": sum(int((tree.matching.replaced & ~tree.matching.first_moved).sum()) for tree in trees),
            "gone": sum(len(tree.matching.gone) for tree in trees),
            "new": sum(len(tree.matching.new) for tree in trees),
        }
        of = counted(sum(len(tree.pair.before.survey) for tree in trees), "object")
        told = [f"{count:,} {what}" for what, count in counts.items() if count]
        if self.found.accounts:
            told.append(counted(len(self.found.accounts), "change of accounts", "changes of accounts"))
        if self.found.mounts:
            told.append(counted(len(self.found.mounts), "mount"))
        return f"{', '.join(told) or 'nothing changed there'}; {of} before."

    def _effects(self, title: str, cells: Sequence[Cell]) -> Iterator[Block]:
        """Who gained, or lost, what; under each cause, which are told in the order of how much they did."""
        if not cells:
            yield Verbatim(f"{title}  nobody")
            return
        by_cause = self._by_cause(cells)
        for cause, some in list(by_cause.items())[:_MOST]:
            yield from self._of_cause(title, cause, some)
        left = [cell for some in list(by_cause.values())[_MOST:] for cell in some]
        if left:
            causes = counted(len(by_cause) - _MOST, "more cause")
            paths = counted(sum(cell.paths for cell in left), "path")
            yield Prose(f"{title}  by {causes}, on {paths}; --json names all of them", hanging="       ")

    def _by_cause(self, cells: Iterable[Cell]) -> dict[str, list[Cell]]:
        found: dict[str, list[Cell]] = {}
        for cell in cells:
            found.setdefault(self._cause(cell), []).append(cell)
        return found

    def _of_cause(self, title: str, cause: str, cells: Sequence[Cell]) -> Iterator[Block]:
        """Who gained, or lost, what by one cause."""
        yield from shift_blocks(title, list(self._shifts(cells)), self.accounts, unlisted_in(self.found.universe))
        first = cells[0].first
        named = first == cells[0].cause.path and cells[0].cause.kind != "membership"  # the cause has it already
        where = "" if named else f"; the first path {unbroken(visible(first))}"
        yield Prose(f"by {cause}{'' if self.with_paths else where}", 4, hanging="  ")
        if self.with_paths:
            yield from paths_of(topmost_paths([where for cell in cells for where in cell.where], TOPMOST), 1)

    def _shifts(self, cells: Iterable[Cell]) -> Iterator[KeptShift]:
        """For each of those who gained, or lost, by one cause: each right on how many paths."""
        gathered = Counted()
        for cell in cells:
            for right, paths in cell.rights.items():
                if right.with_right is None or cell.rights.get(right.with_right, 0) < paths:
                    gathered.add({right: cell.bits}, paths)
        by_person = sorted(kept(gathered.shifts(self.found.universe)), key=lambda shift: self._order[shift.who])
        return iter(by_person)

    def _cause(self, cell: Cell) -> str:
        cause = cell.cause
        where = unbroken(visible(cause.path))
        if cause.kind == "posture" and cause.before is not None and cause.after is not None:
            told = "; ".join(_short(cause.before.posture, cause.after.posture, self.accounts))
            others = f", and {cell.alike - 1:,} more changed so" if cell.alike > 1 else ""
            return f"{where}: {told}{others}"
        if cause.kind == "membership":
            names = {who.name for who in self.found.universe.members(cell.bits)}
            changes = [_account_words(one) for one in self.found.accounts if one.kind == "user" and one.name in names]
            return f"memberships: {several(changes, show=3)}" if changes else "memberships"
        if cause.kind == "mount" and cause.before is not None and cause.after is not None:
            return f"the mount {_mount_words(cause.before.mount, cause.after.mount)}"
        if cause.kind == "moved":
            return f"being elsewhere now: {where} {'stood' if cell.gained else 'stands'} in the way"
        return _CAUSES[cause.kind].format(where)

    def _accounts(self) -> Iterator[Block]:
        changes = self.found.accounts
        if not changes:
            return
        yield BLANK
        yield Verbatim("Accounts")
        for change in changes[:_MOST]:
            yield Prose(_account_words(change), 1, hanging="  ")
        if len(changes) > _MOST:
            yield Verbatim(f"and {counted(len(changes) - _MOST, 'more change')}", 1)

    def _mounts(self) -> Iterator[Block]:
        if self.found.mounts:
            yield BLANK
            yield Verbatim("Mounts")
            for change in self.found.mounts:
                yield Prose(_mount_change_words(change), 1, hanging="  ")

    def _tree(self, tree: Compared) -> Iterator[Block]:
        one, other, matching = tree.pair.before.survey, tree.pair.after.survey, tree.matching
        changed = list(changed_kinds(tree))
        if changed:
            yield BLANK
            yield Verbatim(f"Changed: {counted(int(tree.changed.sum()), 'object')}")
            yield from change_blocks(changed, self.accounts)
        moved, replaced = matching.first_moved, matching.replaced & ~matching.first_moved
        if moved.any():
            yield BLANK
            yield Verbatim(f"Moved: {counted(int(moved.sum()), 'object')}")
            shown = slice(_MOST)
            paths = _paths(one, matching.before[moved][shown]), _paths(other, matching.after[moved][shown])
            for was, path, sure in zip(*paths, matching.sure[moved][shown].tolist(), strict=True):
                text = f"{unbroken(visible(path))}, which {'was' if sure else 'perhaps was'} {unbroken(visible(was))}"
                yield Prose(text, 1, hanging="  ")
            yield from _and_more(int(moved.sum()))
        if replaced.any():
            yield from named_entries("Replaced by another of the same name", other, matching.after[replaced])
        yield from named_entries("Gone", one, matching.gone)
        note = ""
        if tree.new_to_anyone:
            rights = joined(f"{right.name} {count:,}" for right, count in tree.new_to_anyone.items())
            note = f"; anyone else may {rights} of them"
        yield from named_entries("New", other, matching.new, note)


_CAUSES = {
    "replaced": "{}: another object is there now",
    "program": "{}: it is another program, or is run with another",
    "way": "{}: something else is walked there now",
    "other": "other changes: too many differ for each to be looked into",
    "posture": "{}",
    "mount": "the mount of {}",
}


def _called(state: ComparedState) -> str:
    if state.word == LIVE:
        return "now"
    taken = state.taken or "no known time"
    return f"{taken.replace('T', ' ').removesuffix('Z')} ({unbroken(visible(state.path or state.word))})"


def _short(before: Posture, after: Posture, accounts: Accounts) -> Iterator[str]:
    """What differs, in codes: of a mode the octal form, which stands for what the classes get."""
    listed = before.acl is not None or after.acl is not None
    for what, one, other in differences(before, after, accounts):
        if what == "mode":
            yield f"mode {' '.join(one.split())} → {' '.join(other.split())}"
        elif what.startswith("for ") and not listed:
            continue
        else:
            yield f"{what} {one.split('  ')[0]} → {other.split('  ')[0]}"


def _paths(survey: Survey, some: NDArray[np.int64]) -> list[str]:
    known = dict(survey.paths_of(sorted(some.tolist())))
    return [known[place] for place in some.tolist()]


def changed_kinds(tree: Compared) -> Iterator[Changed]:
    """Each distinct change, with an example and how many there are."""
    one, other, matching = tree.pair.before.survey, tree.pair.after.survey, tree.matching
    counts: dict[tuple[int, int], list[int]] = {}
    first: dict[tuple[int, int], list[int]] = {}
    for number in np.flatnonzero(tree.changed).tolist():
        after = int(matching.after[number])
        key = int(one.profile[matching.before[number]]), int(other.profile[after])
        known = counts.setdefault(key, [after, 0])
        known[1] += 1
        if known[1] <= FEW:
            first.setdefault(key, []).append(after)
    for (before, after), (example, count) in counts.items():
        had, has = one.profiles[before], other.profiles[after]
        flags = (had.other_flags or (), has.other_flags or ()) if other_flags_differ(had, has) else None
        every = tuple(map(other.path, first[before, after])) if count <= FEW else ()
        yield Changed(had.posture, has.posture, other.path(example), count, flags, every)


def named_entries(title: str, survey: Survey, some: NDArray[np.int64], note: str = "") -> Iterator[Block]:
    """The topmost of these entries, with how many are in each."""
    if not len(some):
        return
    among = np.zeros(len(survey), np.bool_)
    among[some] = True
    tops = some[~(among[np.maximum(survey.parent[some], 0)] & (survey.parent[some] >= 0))]
    yield BLANK
    yield Prose(f"{title}: {counted(len(some), 'object')}{note}", hanging="  ")
    for place, path in survey.paths_of(tops[:_MOST].tolist()):
        inside = int(among[place + 1 : survey.end[place]].sum())
        yield Verbatim(f"{visible(path)}{f'  and {inside:,} in it' if inside else ''}", 1)
    yield from _and_more(len(tops))


def _and_more(count: int) -> Iterator[Block]:
    if count > _MOST:
        yield Verbatim(f"and {count - _MOST:,} more; --json names all of them", 1)


def _account_fields(change: AccountChange) -> Fields:
    return {change.kind: change.name, "change": change.change, "was": change.was, "now": change.now}


def _account_words(change: AccountChange) -> str:
    name, was, now = visible(change.name), visible(change.was or ""), visible(change.now or "")
    told = {
        "new": f"{change.kind} {name} is new (number {now})",
        "gone": f"{change.kind} {name} is gone (number {was})",
        "renamed": f"{change.kind} {was} is called {name} now",
        "number": f"{change.kind} {name} has number {now}, and had {was}",
        "joined": f"{name} is in {now} now",
        "left": f"{name} is not in {was} any more",
        "primary-group": f"{name} has {now} as primary group, and had {was}",
    }
    return told[change.change]


def _mount_fields(mount: Mount | None) -> Fields | None:
    return None if mount is None else MOUNT.write(mount)


def _mount_change_words(change: MountChange) -> str:
    point = unbroken(visible(change.point))
    if change.before is None:
        return f"{point} is mounted now ({', '.join(change.after.options) if change.after else ''})"
    if change.after is None:
        return f"{point} is not mounted any more"
    return _mount_words(change.before, change.after)


def _mount_words(before: Mount | None, after: Mount | None) -> str:
    """``/mnt/vault: was ro,noexec, is rw``: the options that differ."""
    if before is None or after is None:
        return "that is not known on one side"
    had, has = ({*one.options, *one.filesystem_options} for one in (before, after))
    was, now = (", ".join(sorted(some)) or "without" for some in (had - has, has - had))
    kind = f"; {before.type} is {after.type} now" if before.type != after.type else ""
    return f"{unbroken(visible(after.point))}: {was} → {now}{kind}"

"""What was planned, and what of it was done."""

from collections.abc import Iterator, Sequence

from fiat.app.change import Planned
from fiat.app.running import RunResult
from fiat.core.ask.effects import kept
from fiat.core.model.finding import Finding
from fiat.core.model.record import PostureRecord
from fiat.core.text import Fields, counted, of_all, several, visible
from fiat.render.changes import Behind, Changed, change_blocks, effects_fields, shift_blocks, unlisted_in
from fiat.render.ending import ending, history_fields
from fiat.render.findings import finding_fields, guard_fields, objections
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Verbatim
from fiat.render.shownchange import ShownChange

_MOST, _FEW = 12, 3
"""Kinds of change that are shown before the rest is only counted; and where the plan is refused."""


class PlanView(PlainResult):
    """A plan: a preview, one that was refused by ``guards``, or one that was carried out, with the ``result``.

    ``failed`` tells that some paths failed; ``history`` is the option that
    names the history.
    """

    def __init__(
        self,
        found: Planned,
        *,
        preview: bool,
        guards: Sequence[Finding],
        result: RunResult | None,
        failed: bool,
        history: str | None,
        paths: bool = False,
    ) -> None:
        self.made = found.plan
        self.targets = found.targets
        self.accounts = found.host.accounts
        self.preview = preview
        self.guards = guards
        self.result = result
        self.failed = failed
        self.history = history
        self.paths = paths
        self.counts = found.plan.counts()
        self.examples = found.plan.examples()
        self.changing = sum(
            count for count, planned in zip(self.counts, found.plan.changes, strict=True) if planned.change.changes
        )

    @property
    def meant(self) -> int:
        """How many objects were meant."""
        return sum(self.counts)

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """Each object that is meant, before and after."""
        record = PostureRecord(self.accounts)
        known: dict[int, Fields] = {}
        for part in self.made.parts:
            for number, path in self.made.numbered(part):
                rest = known.get(number)
                if rest is None:
                    planned = self.made.changes[number]
                    rest = known[number] = {
                        "before": record.write(planned.change.before),
                        "after": record.write(planned.change.after),
                        "notes": [finding_fields(note) for note in planned.notes],
                    }
                yield {"path": path, **rest}

    def rows(self) -> Iterator[Fields]:
        """The changes in flat rows, with modes that keep their zero, and names."""
        for fields in self.records():
            before, after = fields["before"], fields["after"]
            row = {"path": fields["path"], "kind": before["kind"], "changes": before != after}
            for name, value in (
                ("mode", _as_is),
                ("owner", _name),
                ("group", _name),
                ("acl", _as_is),
                ("default", _as_is),
            ):
                row |= {f"{name}_before": value(before[name]), f"{name}_after": value(after[name])}
            yield row | {"notes": [note["code"] for note in fields["notes"]]}

    def envelope(self) -> Fields:
        """Who gains and who loses, what guards objected, and whether it was done."""
        result = self.result
        return {
            **effects_fields(self.made.effects),
            "guards": [guard_fields(guard) for guard in self.made.guards],
            "notes": [finding_fields(note) for note in self.made.notes],
            "applied": result is not None and result.complete and not self.failed,
            "changed": 0 if result is None else result.changed,
            "history": None if result is None else history_fields(result),
        }

    def shown_change(self) -> ShownChange:
        """The plan, for a picture."""
        guards = [f"Would be refused by guard {guard.code}: {guard.text}" for guard in self.guards]
        return ShownChange(
            f"What this would change: {counted(self.changing, 'path')}",
            tuple(guards[:2]),
            tuple(self._changed()),
            kept(self.made.gains),
            kept(self.made.losses),
            self.accounts,
            self._unlisted(),
        )

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """What changes, before and after; what is to be known; who gains and who loses."""
        yield from self._before_all()
        if self.changing:
            yield from self._changes()

    def _before_all(self) -> Iterator[Block]:
        for target in self.targets:
            if target.route.links:
                end = visible(target.survey.top.path)
                yield Verbatim(f"{visible(target.asked)} leads to {end}, which is what changes")
        so = self._what_is_so()
        if not self.changing:
            if so:
                yield Verbatim(f"Already so, nothing to change: {so}")
            elif not self.counts and self.targets:
                yield Verbatim("Nothing here is meant: no path is what the options choose.")
            return
        yield Verbatim(Span(self._headline(), "strong"))
        if so:
            yield Verbatim(f"already so: {so}", 1)
        if self.preview:
            yield from objections(self.guards, "Would be refused by guard")
        yield BLANK

    def _changed(self) -> Iterator[Changed]:
        changes, few = self.made.changes, self.made.paths_of_few()
        for number, (planned, count) in enumerate(zip(changes, self.counts, strict=True)):
            if count and planned.change.changes:
                change, every = planned.change, tuple(few.get(number, ()))
                yield Changed(change.before, change.after, self.examples[number], count, every=every)

    def _changes(self) -> Iterator[Block]:
        yield from change_blocks(self._changed(), self.accounts, _FEW if self.short else _MOST)
        if not self.short:
            yield from self._notes()
        yield BLANK
        if self.result is not None and not self.result.complete:
            yield Verbatim("Gains and losses are those of the whole plan, of which a part was not written:")
        unlisted = self._unlisted()
        for title, shifts in (("Gains", self.made.gains), ("Loses", self.made.losses)):
            yield from shift_blocks(title, kept(shifts), self.accounts, unlisted, self._behind(title))
        if self.result is not None:
            yield from ending(self.result, self.history)

    def _behind(self, title: str) -> Behind | None:
        effects = self.made.effects
        if not self.paths or effects is None:
            return None
        return (effects.paths_gained if title == "Gains" else effects.paths_lost).of

    def _notes(self) -> Iterator[Block]:
        """What is to be known besides, each kind once."""
        by_code: dict[str, dict[str, None]] = {}
        for note in (*self.made.notes, *(note for planned in self.made.changes for note in planned.notes)):
            by_code.setdefault(note.code, {})[note.text] = None
        for texts in by_code.values():
            first, *others = texts
            more = f" (and {len(others):,} more like it)" if others else ""
            yield Prose(f"-  {first}{more}", 1, hanging="   ")

    def _unlisted(self) -> set[str]:
        """Users without an account whom a change may be about."""
        uids = {uid for planned in self.made.changes for one in planned.change[:2] for uid in one.owners()[0]}
        found = {f"uid:{uid}" for uid in uids if self.accounts.user_numbered(uid) is None}
        return found if self.made.effects is None else found | unlisted_in(self.made.effects.universe)

    @property
    def short(self) -> bool:
        """Whether little of the plan is shown, for it is refused."""
        return bool(self.guards) and not self.preview

    def _headline(self) -> str:
        if self.result is not None:
            return f"{of_all(self.result.changed, self.changing, 'path')} changed."
        paths = counted(self.changing, "path")
        if self.preview:
            return f"Preview: {paths} would change. Nothing is written."
        return f"Refused: nothing is written. {paths} would change."

    def _what_is_so(self) -> str:
        """What is meant and is so already: the paths, or how many there are in trees."""
        same = [
            number
            for number, planned in enumerate(self.made.changes)
            if not planned.change.changes and not planned.change.errno and self.counts[number]
        ]
        count = sum(self.counts[number] for number in same)
        if not count or any(target.with_tree for target in self.targets):
            return counted(count, "path") if count else ""
        paths = [visible(item.path) for item in self.made.items() if not item.change.changes and not item.change.errno]
        return several(paths, "paths")


def _name(value: Fields) -> object:
    """The name of an owner or a group, or its number."""
    number = next(iter(value.values()))
    return number if value["name"] is None else value["name"]


def _as_is(value: object) -> object:
    return value

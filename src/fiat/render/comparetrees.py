"""Two directories, compared by the names under them."""

from collections.abc import Iterator

import numpy as np

from fiat.core.ask.effects import kept
from fiat.core.model.accounts import Accounts
from fiat.core.model.record import PostureRecord
from fiat.core.state.comparison import NameComparison
from fiat.core.text import Fields, counted, visible
from fiat.render.changes import change_blocks, effects_blocks, effects_fields, unlisted_in
from fiat.render.compare import changed_kinds, named_entries
from fiat.render.model import BLANK, Block, PlainResult, Prose, Verbatim, unbroken
from fiat.render.shownchange import ShownChange


class TreesView(PlainResult):
    """What differs from the first to the second, and who can more or less there; with ``gains_only`` just who more."""

    def __init__(
        self, found: NameComparison, accounts: Accounts, *, gains_only: bool = False, with_paths: bool = False
    ) -> None:
        self.found = found
        self.accounts = accounts
        self.gains_only = gains_only
        self.with_paths = with_paths
        pair = found.compared.pair
        self.one, self.other = pair.before.survey, pair.after.survey

    def records(self) -> Iterator[Fields]:
        """One for each name that differs: ``before`` in the first tree, ``after`` in the second."""
        record, compared = PostureRecord(self.accounts), self.found.compared
        matching = compared.matching
        some = np.flatnonzero(compared.changed)
        befores, afters = matching.before[some].tolist(), matching.after[some].tolist()
        was = dict(self.one.paths_of(sorted(befores)))
        now = dict(self.other.paths_of(sorted(afters)))
        for before, after in zip(befores, afters, strict=True):
            had = self.one.profiles[int(self.one.profile[before])].posture
            has = self.other.profiles[int(self.other.profile[after])].posture
            yield {
                "path": now[after],
                "change": "changed",
                "before": record.write(had),
                "after": record.write(has),
                "was": was[before],
            }
        for place, path in self.one.paths_of(matching.gone.tolist()):
            posture = record.write(self.one.profiles[int(self.one.profile[place])].posture)
            yield {"path": path, "change": "gone", "before": posture, "after": None, "was": None}
        for place, path in self.other.paths_of(matching.new.tolist()):
            posture = record.write(self.other.profiles[int(self.other.profile[place])].posture)
            yield {"path": path, "change": "new", "before": None, "after": posture, "was": None}

    def envelope(self) -> Fields:
        """The two trees, and who can more and less in the second."""
        return {
            "compared": [{"state": "live", "path": survey.top.path} for survey in (self.one, self.other)],
            **effects_fields(self.found.effects, losses=not self.gains_only),
        }

    def shown_change(self) -> ShownChange:
        """What differs, for a picture."""
        found = self.found
        tops = [visible(survey.top.path) for survey in (self.one, self.other)]
        return ShownChange(
            f"{tops[1]} beside {tops[0]}, name by name",
            ("before is in the first, after in the second",),
            tuple(changed_kinds(found.compared)),
            kept(found.effects.gains),
            () if self.gains_only else kept(found.effects.losses),
            self.accounts,
            unlisted_in(found.effects.universe),
        )

    def blocks(self) -> Iterator[Block]:
        """Who can more and less first; then what differs, and what is in one of them alone."""
        compared, matching = self.found.compared, self.found.compared.matching
        tops = [unbroken(visible(survey.top.path)) for survey in (self.one, self.other)]
        yield Prose(f"{tops[1]} beside {tops[0]}, name by name", hanging="  ")
        if not self.found.differs:
            yield Verbatim("Nothing differs.")
            return
        same = len(matching.before) - int(compared.changed.sum())
        counts = f"{int(compared.changed.sum()):,} differ, {same:,} have one posture"
        alone = f"{len(matching.gone):,} only in {tops[0]}, {len(matching.new):,} only in {tops[1]}"
        yield Prose(f"{counts}; {alone}", hanging="  ")
        yield Verbatim("Of what both have, in the second:")
        losses = not self.gains_only
        yield from effects_blocks(self.found.effects, self.accounts, paths=self.with_paths, losses=losses)
        if self.gains_only:
            return
        changed = list(changed_kinds(compared))
        if changed:
            yield BLANK
            yield Verbatim(f"Of one name, and not alike: {counted(int(compared.changed.sum()), 'object')}")
            yield from change_blocks(changed, self.accounts, sides=("in the first", "in the second"))
        yield from named_entries(f"Only in {tops[0]}", self.one, matching.gone)
        yield from named_entries(f"Only in {tops[1]}", self.other, matching.new)
        if matching.not_compared:
            left = counted(matching.not_compared, "object")
            yield Prose(f"{left} not compared: the other side was not read there.", hanging="  ")

"""A plan that puts an earlier state back, with what it leaves alone."""

from collections.abc import Iterator, Sequence

from fiat.core.state.restoring import LeftObjects
from fiat.core.text import Fields, counted, visible
from fiat.render.model import BLANK, Block, OutputLines, PlainResult, Prose, Verbatim, unbroken
from fiat.render.plan import PlanView

_NAMED = 3

_WHY = {
    "other-filesystem": ("on another file system now, and left alone", ""),
    "replaced": ("replaced by another object of the same name, and left alone", ""),
    "perhaps-moved": ("perhaps moved, which nothing proves, and left alone", ""),
    "gone": ("gone", ""),
    "new": ("new, and left alone", ""),
    "not-only": (
        "left alone: nothing gives back what was lost there, and nothing else",
        "left alone: nothing takes away what was gained there, and nothing else",
    ),
    "opens-more": (
        "left alone: others would get there by now who did not then; fiat let gives it to whom it is meant for",
        "",
    ),
    "privilege": (
        "put back without setuid, setgid and capabilities, for others could have written to it since; look at what it "
        "holds, then --accept privilege",
        "",
    ),
    "other-flags": ("other in flags alone that have no say in access, which are not put back", ""),
}
"""Why objects are left alone, in words; of the second form where only gains are taken away."""


class RestoreView(PlainResult):
    """The plan as any plan is shown; then what is left alone, and why."""

    def __init__(
        self, plan: PlanView, left: Sequence[LeftObjects], *, only_gained: bool, in_part: bool = False
    ) -> None:
        self.plan = plan
        self.left = left
        self.only_gained = only_gained
        self.in_part = in_part

    def records(self) -> Iterator[Fields]:
        """The records of the plan that puts the state back."""
        return self.plan.records()

    def rows(self) -> Iterator[Fields]:
        """The rows of the plan that puts the state back."""
        return self.plan.rows()

    def written(self, format: str) -> OutputLines | None:
        """As that of the plan."""
        return self.plan.written(format)

    def envelope(self) -> Fields:
        """What stands beside the plan, and the paths that are left alone, by why."""
        found: dict[str, list[str]] = {}
        for one in self.left:
            paths = found.setdefault(one.why, [])
            paths += [path for _, path in one.survey.paths_of(one.places.tolist())]
        return {**self.plan.envelope(), "left_alone": found}

    def blocks(self) -> Iterator[Block]:
        """The plan, and a line for each reason."""
        if self.plan.meant:
            yield from self.plan.blocks()
        else:
            part = " in what could be looked at" if self.in_part else ""
            yield Verbatim(f"Nothing to put back{part}: what is the same object is as it was.")
        if self.left:
            yield BLANK
        for one in self.left:
            first = [path for _, path in one.survey.paths_of(one.places[:_NAMED].tolist())]
            names = ", ".join(unbroken(visible(path)) for path in first)
            more = f" and {len(one.places) - len(first):,} more" if len(one.places) > len(first) else ""
            words = _WHY[one.why]
            why = words[1] if self.only_gained and words[1] else words[0]
            yield Prose(f"{counted(len(one.places), 'object')} {why}: {names}{more}", hanging="  ")

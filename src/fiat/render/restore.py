"""A plan that puts an earlier state back, with what it leaves alone."""

from collections.abc import Iterator, Sequence

from fiat.core.state.restoring import LeftObjects
from fiat.core.text import Fields, counted, visible
from fiat.render.model import BLANK, Block, OutputLines, PlainResult, Prose, Verbatim, unbroken
from fiat.render.plan import PlanView
from fiat.render.shownchange import ShownChange

_NAMED = 3

_SHOWN = 20
"""Paths that are named of those that do not come to be as they were."""

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
        self,
        plan: PlanView,
        left: Sequence[LeftObjects],
        otherwise: Sequence[str] = (),
        *,
        only_gained: bool,
        only_lost: bool = False,
        in_part: bool = False,
    ) -> None:
        self.plan = plan
        self.left = left
        self.otherwise = dict.fromkeys(otherwise)
        self.only_gained = only_gained
        self.only_lost = only_lost
        self.in_part = in_part

    def records(self) -> Iterator[Fields]:
        """The records of the plan that puts the state back, each with whether it comes to be just as it was."""
        for record in self.plan.records():
            yield record | {"as_it_was": record["path"] not in self.otherwise}

    def rows(self) -> Iterator[Fields]:
        """The rows of the plan that puts the state back."""
        return self.plan.rows()

    def written(self, format: str) -> OutputLines | None:
        """None: each record has more than one of the plan."""
        return None

    def shown_change(self) -> ShownChange:
        """The plan, for a picture."""
        left = [f"{counted(sum(len(one.places) for one in self.left), 'object')} left alone"] if self.left else []
        found = self.plan.shown_change()
        return found._replace(said=(*found.said, *left))

    def envelope(self) -> Fields:
        """What stands beside the plan, and the paths that are left alone, by why."""
        found: dict[str, list[str]] = {}
        for one in self.left:
            paths = found.setdefault(one.why, [])
            paths += [path for _, path in one.survey.paths_of(one.places.tolist())]
        return {**self.plan.envelope(), "left_alone": found}

    def _how_near(self) -> Iterator[Block]:
        """Which paths come to be as they were, where only a part of what differs is put back."""
        if not (self.only_gained or self.only_lost) or not self.plan.changing:
            return
        whole = self.plan.changing - len(self.otherwise)
        closed = "only as little open as they were" if self.only_gained else "only as open as they were"
        yield BLANK
        if not self.otherwise:
            yield Verbatim(f"As it was before: {'all of it' if whole > 1 else 'it'}.")
            return
        if whole:
            yield Verbatim(f"Just as they were before: {counted(whole, 'path')}.")
        yield Verbatim(f"{closed.capitalize()}, and otherwise as they are: {counted(len(self.otherwise), 'path')}")
        paths = list(self.otherwise)
        for path in paths[:_SHOWN]:
            yield Verbatim(unbroken(visible(path)), 2)
        if len(paths) > _SHOWN:
            yield Verbatim(f"and {len(paths) - _SHOWN:,} more; --json says it of each", 2)

    def blocks(self) -> Iterator[Block]:
        """The plan, and a line for each reason."""
        if self.plan.meant:
            yield from self.plan.blocks()
            yield from self._how_near()
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

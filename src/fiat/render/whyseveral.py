"""Several rights of somebody at one path: the route is walked once, with a column for each right."""

import os
from collections.abc import Iterator, Sequence

from fiat.app.why import Why
from fiat.core.text import Fields, counted, shell_word, visible
from fiat.core.words import naming
from fiat.render import words
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken
from fiat.render.output import errno_name
from fiat.render.why import WhyView, apart_block, step_cells


class WhySeveralView(PlainResult):
    """The verdicts, the steps of all of them, and what would have to change.

    ``about`` are options that command lines need for the host that was asked; ``every`` as for one right.
    """

    def __init__(self, found: Sequence[Why], about: list[tuple[str, str]], *, every: bool = True) -> None:
        self.found = found
        self.views = [WhyView(one, about, every=every) for one in found]
        self.every = every
        self.accounts = found[0].host.accounts
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)

    def records(self) -> Iterator[Fields]:
        """The verdict for each right, as where it is asked alone."""
        for view in self.views:
            yield from view.records()

    def blocks(self) -> Iterator[Block]:
        """The answers first, each with its reason; then the route, and what to do."""
        first = self.found[0]
        name, path = naming.principal(first.asker or first.who), unbroken(visible(first.route.asked))
        answer: list[str | Span] = []
        for one in self.found:
            said = Span("yes", "yes") if one.verdict.allowed else Span(f"NO ({errno_name(one.verdict.errno)})", "no")
            said = Span("not known", "no") if one.open else said
            if one.acting is not None:
                said = Span(f"yes, as {visible(one.acting.grants[-1].account.name)}", "yes")
            answer += [f"{', ' if answer else ''}{one.right.name} ", said]
        yield Prose([*answer, f": {name} at {path}"], hanging="  ")
        for one in self.found:
            yield from self._answer(one)
        for one in self.found:
            if one.apart:
                yield apart_block()
        yield BLANK
        rights = [one.right.name for one in self.found]
        rows, left = self._rows()
        yield Table([*rights, "needs", "rule", "entry", "at"], rows, flexible=(-2,), named=True)
        if left:
            yield Verbatim(f"{counted(left, 'more step')} not reached, which would let through", 1)
        yield from self._advice()

    def _answer(self, one: Why) -> Iterator[Block]:
        verdict = one.verdict
        phrase = words.right_phrase(one.right, one.route.end.posture.kind if one.route.end else None)
        if one.open:
            text = f"  hangs on groups that could not be asked for: whether they may {phrase}"
            yield Prose([Span("?", "no"), text], 1, hanging="    ")
            return
        if verdict.allowed:
            return
        yield Prose([Span("NO", "no"), f"  may not {phrase}  ({os.strerror(verdict.errno)})"], 1, hanging="    ")
        for line in one.explained:
            yield Prose(line, 3, hanging="  ")

    def _rows(self) -> tuple[list[Sequence[Spans]], int]:
        """A row for each step that any right needs, with how it is for each of them; and how many are left out."""
        rows: list[Sequence[Spans]] = []
        marks: dict[tuple[str, ...], dict[int, Span]] = {}
        for number, one in enumerate(self.found):
            verdict = one.verdict
            for place, step in enumerate((*verdict.steps, *verdict.beyond)):
                if step.runs_for and step.allowed and step.needs != "execute" and step.path != step.runs_for:
                    continue
                reached = place < len(verdict.steps)
                yes = Span("yes", "yes") if reached else Span("-", "faint")
                no = Span("NO", "no") if reached else Span("no", "faint")
                marks.setdefault(tuple(step_cells(step, self.accounts)), {})[number] = yes if step.allowed else no
        left = 0
        # the way there before what is asked of its end
        for cells, given in sorted(marks.items(), key=lambda item: item[0][1] != "traverse"):
            if not self.every and all(mark.text == "-" for mark in given.values()):
                left += 1
                continue
            at, *rest = cells
            rows.append([*(given.get(number, "") for number in range(len(self.found))), *rest, at])
        return rows, left

    def _advice(self) -> Iterator[Block]:
        refused = [view for view in self.views if not view.found.verdict.allowed and view.found.advice]
        if not refused:
            return
        yield BLANK
        told = [list(view.advice_blocks()) for view in refused]
        if all(one == told[0] for one in told):
            yield from told[0]
            return
        first = refused[0].found
        who, path = naming.word_for(first.who), shell_word(first.route.asked)
        rights = ",".join(view.found.right.name for view in refused)
        yield Verbatim("What would have to change for all of it, the least first:")
        yield Verbatim(unbroken(f"fiat let {shell_word(who)} {rights} {path}{self.about}"), 3)

"""Which expectations hold, and of those that do not, who can what where."""

from collections.abc import Iterator, Sequence

from fiat.app.check import Checked, commands_for, contradiction_words
from fiat.core.expect.holding import Counterexample, Holding
from fiat.core.text import Fields, counted, of_all, shell_word, visible
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords
from fiat.render.model import BLANK, Block, OutputLines, Part, PlainResult, Prose, Span, Verbatim, unbroken

_SHOWN = 5
"""Counterexamples of one expectation that are shown before the rest is only counted."""

_LISTED = 1000
"""Paths of one counterexample that machine output lists."""


class CheckView(PlainResult):
    """All expectations, the broken ones first, then those of which nobody knows."""

    def __init__(
        self, checked: Checked, files: Sequence[str] = (), *, host: str = "", broken_only: bool = False
    ) -> None:
        self.checked = checked
        self.files = files
        self.host = host
        self.broken_only = broken_only
        every = [one for held in checked.found for one in held.broken]
        self._numbers = {id(one): number for number, one in enumerate(every)}

    def _because(self, one: Counterexample) -> str | None:
        return self.checked.because.get(self._numbers[id(one)])

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """One for each expectation, in the order of the files."""
        for one in self.checked.found:
            expectation = one.expectation
            yield {
                "expectation": expectation.name,
                "held": None if one.unknown else one.held,
                "state": one.state,
                "weight": expectation.weight,
                "because": expectation.because,
                "where": expectation.where,
                "paths": one.paths,
                "counterexamples": [fields for broken in one.broken for fields in self._fields(broken)],
                "mend": self._commands(one),
            }

    def _fields(self, one: Counterexample) -> Iterator[Fields]:
        """One for each who is concerned, at the first path; how many paths there are stands beside."""
        members = [naming.word_for(who) for who in one.universe.members(one.people)] if one.right else [None]
        for who in members:
            yield {
                "path": one.first,
                "paths": len(one.places),
                "listed": one.audited.paths(one.places[:_LISTED]),
                "who": who,
                "right": one.right.name if one.right else None,
                "allowed": one.allowed if one.right else None,
                "because": self._because(one),
            }

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Each expectation by itself; how many paths it is about makes no other answer of it."""
        if not text:
            yield from (Part(record, counted=("paths",)) for record in self.records())
            return
        for one in self.checked.found:
            if one.broken:
                exactly = (self._people(broken).exactly(broken.people) for broken in one.broken)
                yield Part(None, tuple(self._broken(one)), exactly=tuple(exactly))
            elif one.unknown:
                yield Part(None, tuple(self._unknown(one)), rank=1)
            elif not self.broken_only:
                yield Part(None, (_held(one),), rank=2)

    def written(self, format: str) -> OutputLines | None:
        """For build servers and for monitoring, all at once."""
        if format not in ("junit", "openmetrics"):
            return None
        from fiat.render import monitoring

        found = self.checked.found
        return OutputLines([monitoring.junit(found) if format == "junit" else monitoring.openmetrics(found)])

    def envelope(self) -> Fields:
        """How many hold, and what contradicts what."""
        return {
            "held": sum(one.held for one in self.checked.found),
            "broken": len(self.checked.broken),
            "unknown": len(self.checked.unknown),
            "contradictions": [
                {"expectations": [one.one.name, one.other.name], "path": one.path, "text": one.text}
                for one in self.checked.contradictions
            ],
        }

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """The broken ones with counterexamples; then those that hold."""
        found, broken, unknown = self.checked.found, self.checked.broken, self.checked.unknown
        not_known = f"{len(unknown):,} not known to hold"
        if broken:
            more = f", {not_known}" if unknown else ""
            yield Verbatim(f"{of_all(len(broken), len(found), 'expectation')} broken{more}")
        elif unknown:
            yield Verbatim(f"Of {counted(len(found), 'expectation')} none is broken, and {not_known}")
        else:
            yield Verbatim(f"All {counted(len(found), 'expectation')} hold")
        for one in broken:
            yield BLANK
            yield from self._broken(one)
        for one in unknown:
            yield BLANK
            yield from self._unknown(one)
        if broken and not self.checked.contradictions:
            command = " ".join(["fiat check", *map(shell_word, self.files), "--mend"]) + self.host
            yield BLANK
            yield Verbatim(f"One plan for all of it: {unbroken(command)}")
        held = [] if self.broken_only else [one for one in found if one.held]
        if held:
            yield BLANK
        yield from map(_held, held)
        for contradiction in self.checked.contradictions:
            yield BLANK
            yield Prose(contradiction_words(contradiction), hanging="  ")

    def _unknown(self, one: Holding) -> Iterator[Block]:
        yield Prose(["unknown  ", Span(visible(one.expectation.name), "strong")], hanging="         ")
        for error in one.unread[:_SHOWN]:
            yield Prose(str(error), 4, hanging="  ")
        if len(one.unread) > _SHOWN:
            yield Verbatim(f"and {len(one.unread) - _SHOWN:,} more", 4)

    def _broken(self, one: Holding) -> Iterator[Block]:
        expectation = one.expectation
        yield Prose([Span("broken", "no"), "  ", Span(visible(expectation.name), "strong")], hanging="        ")
        if expectation.because:
            yield Prose(f"because {visible(expectation.because)}", 4, hanging="  ")
        for broken in one.broken[:_SHOWN]:
            yield Prose(self._sentence(broken), 4, hanging="  ")
            said = self._because(broken) if broken.right is not None else None
            if said:
                yield Prose(said, 6)
        if len(one.broken) > _SHOWN:
            yield Verbatim(f"and {len(one.broken) - _SHOWN:,} more; --json has all of them", 4)
        for command in self._commands(one)[:2]:
            yield Verbatim(f"mend  {unbroken(command)}", 4)

    def _commands(self, one: Holding) -> list[str]:
        """The commands for what is broken, of the host that was asked, each once."""
        found = dict.fromkeys(line for broken in one.broken for line in commands_for(broken, one.expectation))
        return [f"{line}{self.host}" for line in found]

    def _people(self, one: Counterexample) -> PeopleWords:
        return PeopleWords(one.universe, self.checked.host.accounts, one.universe.everyone)

    def _sentence(self, one: Counterexample) -> str:
        path = unbroken(visible(one.first))
        more = f" and {len(one.places) - 1:,} more paths" if len(one.places) > 1 else ""
        if one.right is None:
            return f"{path}{more}: {one.text}"
        people = self._people(one)
        bits = one.people
        if bits & one.universe.of_kind("anyone-else"):
            bits |= one.universe.of_kind("group")
        said = people.words(bits)
        if one.allowed and said.startswith(_EXCEPT):  # those who are left out may have it: they are allowed to
            said = f"others than {said.removeprefix(_EXCEPT)}"
        return f"{path}{more}: {said} {'may' if one.allowed else 'may not'} {one.right.name}"


def _held(one: Holding) -> Block:
    return Prose([Span("held", "yes"), f"    {visible(one.expectation.name)}"], hanging="        ")


_EXCEPT = "everyone except "

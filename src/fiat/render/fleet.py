"""What a fleet answers: equal answers of hosts once, the rarest first; in forms that are lists, each host's own."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any, NamedTuple

from fiat.app.fleet import Fleet
from fiat.app.status import ExitStatus, of_several
from fiat.core.errors import PathError
from fiat.core.model.finding import Finding
from fiat.core.state.fleet import EveryPerson, Met, SamePeople, Together, members
from fiat.core.text import Fields, counted, joined, several, visible
from fiat.render import fleetdocuments, terminal
from fiat.render.findings import finding_fields
from fiat.render.hostanswer import WHOLE, HostAnswer, problem_fields, several_lines
from fiat.render.lines import csv_row
from fiat.render.model import BLANK, Block, Part, Prose, Span, Table
from fiat.render.output import SCHEMA, Output
from fiat.render.wordsofhosts import WordsOfHosts

_FEW = 8
"""So many hosts of a row of text are named."""

_ANY_NO = ("why", "audit", "check", "compare")
"""Commands that come to a no where they do on any host; with others all must say it."""

_YES_AND_NO = {
    "why": ("yes", "no"),
    "who": ("yes", "no"),
    "audit": ("no danger", "a danger"),
    "check": ("all held", "something broken"),
    "compare": ("nothing differs", "something differs"),
}
"""What it means that a command comes to 0, or to 1."""


def _on_all(count: int) -> str:
    return "on both hosts" if count == 2 else f"on all {count:,} hosts"


class _Told(NamedTuple):
    order: tuple[int, int]
    part: Part


class FleetOutput(Output):
    """Takes the answers of hosts in whatever order they come, and shows them in one that does not hang on it."""

    def __init__(self, command: str, format: str, fleet: Fleet, same_people: SamePeople, *, quiet: bool) -> None:
        super().__init__(command, format)
        self._only_wrong = quiet
        self.fleet = fleet
        self.same_people = same_people
        self.names = [host.name for host in fleet.hosts]
        self.hosts = WordsOfHosts(self.names)
        self._parts: Together[_Told] = Together()
        self._notes: Together[Finding] = Together()
        self._wrong: Together[PathError] = Together()
        self._words: Together[str] = Together()
        self._people = EveryPerson()
        self._statuses: dict[int, ExitStatus] = {}
        self._failed: dict[int, str] = {}
        self._documents: list[tuple[str, str]] = []
        self._everywhere = 0
        self._waiting: dict[int, HostAnswer] = {}
        self._next = 0

    # --- one host after the other ---

    def take(self, place: int, answer: HostAnswer) -> None:
        """Take the answer of the host with this place."""
        self._statuses[place] = answer.status
        if answer.people is not None:
            self._people.take(place, answer.people)
        if answer.error:
            self._failed[place] = answer.error
        self.answered += answer.answered
        if not answer.error:
            self._everywhere |= 1 << place
        for number, held in enumerate(answer.parts):
            self._parts.take(place, held.digest, _Told((place, number), held.part), held.counts)
        for caveat in answer.caveats:
            self._notes.take(place, caveat.text.encode("utf-8", "surrogateescape"), caveat)
        for problem in answer.problems:
            self._wrong.take(place, repr(problem.args).encode("utf-8", "surrogatepass"), problem)
        for word in answer.words:
            self._words.take(place, word.encode("utf-8", "surrogatepass"), word)
        if self.format in ("csv", "jsonl", "parquet", *WHOLE):
            self._waiting[place] = answer._replace(parts=(), caveats=(), problems=(), words=())
            while self._next in self._waiting:
                self._list(self._next, self._waiting.pop(self._next))
                self._next += 1

    def _list(self, place: int, answer: HostAnswer) -> None:
        """Write what one host has in a form that is a list, or hold its document."""
        if answer.tables:
            self._list_tables(place, answer)
        if not answer.lines:
            return
        if self.format in WHOLE:
            self._documents.append((self.names[place], "".join(several_lines(answer.lines))))
            return
        if not self._shown:
            if self.format == "csv":
                self._write(csv_row(answer.header) + "\n")
            else:
                self._write(json.dumps({"schema": SCHEMA, "command": self.command}) + "\n")
        self._shown += 1
        for text in several_lines(answer.lines):
            self._write(text)

    def _list_tables(self, place: int, answer: HostAnswer) -> None:
        from fiat.render.tables import TableWriter, of_host

        if self._tables is None:
            self._tables = TableWriter()
        for data in answer.tables:
            self._tables.write(of_host(data, self.names[place]))

    # --- all of them ---

    def finish(self, status: ExitStatus | None = None) -> int:
        """Show what was put together; the exit status."""
        if self.format == "text":
            for block in self._blocks():
                self.print(block)
        elif self.format == "json":
            for record in self._records():
                self._record(record)
            self._finish_json()
        elif self.format == "jsonl":
            self._write(json.dumps(self._rest()) + "\n")
        elif self.format in WHOLE:
            self._write(fleetdocuments.TOGETHER[self.format](self._documents))
        if self._tables is not None:
            self._tables.close()
        sys.stdout.flush()
        for line in self._complaints():
            terminal.say(f"fiat {self.command}: {line}")
        return self._comes_to()

    def _comes_to(self) -> ExitStatus:
        said = [self._statuses[place] for place in self._statuses if place not in self._failed]
        no = [status is ExitStatus.NO for status in said if status in (ExitStatus.DONE, ExitStatus.NO)]
        status = ExitStatus.NO if no and (any(no) if self.command in _ANY_NO else all(no)) else ExitStatus.DONE
        if any(one is ExitStatus.INTERRUPTED for one in said):
            return ExitStatus.INTERRUPTED
        in_part = bool(self._failed or self._wrong.known or self.fleet.left_out)
        in_part |= any(one not in (ExitStatus.DONE, ExitStatus.NO) for one in said)
        if in_part:
            wrong = all(one is ExitStatus.WRONG_COMMAND_LINE for one in self._statuses.values()) and self._statuses
            status = of_several(status, ExitStatus.WRONG_COMMAND_LINE if wrong else ExitStatus.IN_PART)
        return status

    def _complaints(self) -> Iterator[str]:
        for hosts, words in self._words.by_hosts():
            yield from (f"{one.said}{self._on(hosts)}" for one in words)
        for hosts, problems in self._wrong.by_hosts():
            yield from (f"{one.said}{self._on(hosts)}" for one in problems)
        alike: dict[str, int] = {}
        for place, error in sorted(self._failed.items()):
            alike[error] = alike.get(error, 0) | 1 << place
        for error, hosts in alike.items():
            yield f"{error}{self._on(hosts)}"
        for why, left in groupby(sorted(self.fleet.left_out, key=lambda one: one.why), key=lambda one: one.why):
            names = [visible(one.host) for one in left]
            whom = names[0] if len(names) == 1 else f"{len(names):,} hosts ({several(names, show=_FEW)})"
            yield f"{whom} {'is' if len(names) == 1 else 'are'} left out: {why}"

    # --- hosts in words ---

    def _on(self, hosts: int) -> str:
        """In brackets, the hosts that something is about, where that is not all of them."""
        if hosts == self._everywhere and hosts.bit_count() > 1:
            return " (on every host)"
        return f" (on {self.hosts.words(hosts)})"

    # --- text ---

    def _blocks(self) -> Iterator[Block]:
        if not self._only_wrong:
            yield Prose(self._headline(), hanging="  ")
        for number, (hosts, parts) in enumerate(self._parts.by_hosts()):
            if number or not self._only_wrong:
                yield BLANK
            yield Prose([Span(self._heading(hosts), "strong")], hanging="  ")
            for block in self._blocks_of(sorted(parts, key=lambda one: (one.said.part.rank, one.said.order))):
                yield block._replace(indent=block.indent + 1) if block != BLANK else block
        if not self._only_wrong:
            yield from self._notes_blocks()

    def _blocks_of(self, parts: Sequence[Met[_Told]]) -> Iterator[Block]:
        """What is said by just the same hosts; rows of a table that follow each other make one."""
        shown: tuple[Block, ...] = ()
        table: Table | None = None
        for number, met in enumerate(parts):
            part = met.said.part
            if table is not None and not _continues(table, part, shown):
                yield table
                table = None
            if number and (part.under != shown or len(part.blocks) > 1 or (part.heading and part.blocks)):
                yield BLANK
            if part.under != shown:
                yield from part.under
                shown = part.under
            if len(part.blocks) == 1 and isinstance(part.blocks[0], Table):
                one = part.blocks[0]
                table = one if table is None else table._replace(rows=[*table.rows, *one.rows])
                continue
            if part.heading is not None and part.record is not None:
                yield part.heading({**part.record, **dict(zip(part.counted, met.counts, strict=True))})
            yield from part.blocks
        if table is not None:
            yield table

    def _headline(self) -> Sequence[str | Span]:
        asked = [place for place in self._statuses if place not in self._failed]
        times = sorted(host.taken for host in self.fleet.hosts if host.taken is not None)
        when = ""
        if times:
            first, last = (f"{one.astimezone():%Y-%m-%d %H:%M}" for one in (times[0], times[-1]))
            when = f", as of {first}" if first == last else f", as of {first} to {last}"
        if not asked:
            return ["No host could be asked."]
        told = f"{counted(len(asked), 'host')} asked{when}"
        words = _YES_AND_NO.get(self.command)
        yes, no = (
            [place for place in asked if self._statuses[place] is status] for status in (ExitStatus.DONE, ExitStatus.NO)
        )
        if words is None or (not no and self.command == "who"):
            return [f"{told}."]
        both = zip(words, (yes, no), strict=True)
        whole = len(asked)
        said = [f"{word} on {'all of them' if len(some) == whole else f'{len(some):,}'}" for word, some in both if some]
        return [f"{told}: ", Span(joined(said) or "no answer", "strong"), "."]

    def _heading(self, hosts: int) -> str:
        if hosts == self._everywhere:
            count = hosts.bit_count()
            return f"on {visible(self.names[next(members(hosts))])}" if count == 1 else _on_all(count)
        return f"on {self.hosts.words(hosts)}"

    def _notes_blocks(self) -> Iterator[Block]:
        notes = [(hosts, met.said) for hosts, some in self._notes.by_hosts() for met in some]
        clashes = self._people.clashes(self.same_people)
        if notes or clashes:
            yield BLANK
        for hosts, caveat in notes:
            lead = "Not counted" if caveat.weight == "plain" else "Note"
            yield Prose(f"{lead}: {caveat.text}{self._on(hosts)}", hanging="  ")
        yield from self.hosts.clash_blocks(clashes, self.same_people)

    # --- machine output ---

    def _records(self) -> Iterator[Fields]:
        for hosts, parts in self._parts.by_hosts():
            for met in sorted(parts, key=lambda one: (one.said.part.rank, one.said.order)):
                part = met.said.part
                assert part.record is not None
                counts = dict(zip(part.counted, met.counts, strict=True))
                yield {**self.hosts.fields(hosts), **part.record, **counts}

    def _rest(self) -> dict[str, Any]:
        problems: list[Fields] = []
        for hosts, some in self._wrong.by_hosts():
            problems += ({**self.hosts.fields(hosts), **problem_fields(one.said)} for one in some)
        for hosts, words in self._words.by_hosts():
            problems += (
                {**self.hosts.fields(hosts), "path": None, "errno": None, "message": one.said} for one in words
            )
        failed = [*((self.names[place], error) for place, error in sorted(self._failed.items())), *self.fleet.left_out]
        problems += ({"hosts": [name], "path": None, "errno": None, "message": why} for name, why in failed)
        caveats: list[Fields] = []
        for hosts, notes in self._notes.by_hosts():
            caveats += ({**self.hosts.fields(hosts), **finding_fields(one.said)} for one in notes)
        return {
            "fleet": [
                {
                    "host": host.name,
                    "taken": None if host.taken is None else host.taken.strftime("%Y-%m-%dT%H:%M:%SZ"),
                    "status": self._statuses.get(place),
                }
                for place, host in enumerate(self.fleet.hosts)
            ],
            "same_people": self.same_people,
            "people": self.hosts.clash_fields(self._people.clashes(self.same_people), self.same_people),
            "caveats": caveats,
            "problems": problems,
        }


def _continues(table: Table, part: Part, shown: tuple[Block, ...]) -> bool:
    """Whether the part is a table that goes on where this one ends."""
    first = part.blocks[0] if len(part.blocks) == 1 else None
    return part.under == shown and isinstance(first, Table) and first.header == table.header

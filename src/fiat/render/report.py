"""What a command found, on its way to text, JSON or CSV.

Results are printed as they come, so that a long answer starts at once.
Problems go to stderr, one line each, whatever the format.
"""

import errno
import os
import sys
from collections.abc import Iterable, Mapping
from typing import Any

from fiat.cli.status import Status
from fiat.core.ask.caveats import Caveat
from fiat.core.change.guards import Guard
from fiat.core.errors import FiatError, PathError
from fiat.core.text import quoted
from fiat.render import terminal

SCHEMA = "fiat/1"

_WRONG_PATH = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG, errno.ELOOP})


class Report:
    """Results, caveats and problems of one command, in the format asked for."""

    def __init__(self, command: str, format: str) -> None:
        self.command = command
        self.format = format
        self.beside: dict[str, Any] = {}
        self.caveats: dict[str, Caveat] = {}
        self.problems: list[PathError] = []
        self.answered = 0
        self._begun = False

    @property
    def as_text(self) -> bool:
        """Whether the command itself prints its results, as text."""
        return self.format == "text"

    def problem(self, error: PathError) -> None:
        """Note a path that failed, and name it on stderr."""
        sys.stdout.flush()  # what came before it should also be seen before it
        self.problems.append(error)
        print(f"fiat {self.command}: {error}", file=sys.stderr)

    def complaint(self, error: FiatError) -> None:
        """Say on stderr what was wrong with one word among several."""
        sys.stdout.flush()
        print(f"fiat {self.command}: {error}", file=sys.stderr)

    def refused(self, guard: Guard) -> None:
        """Say on stderr which guard objects, to what, and which word accepts it."""
        sys.stdout.flush()
        paths = f"{guard.paths:,} paths, such as " if guard.paths > 1 else ""
        where = f"{paths}{quoted(guard.path)}: {guard.text}; --accept {guard.name} does it all the same"
        terminal.say_error(f"fiat {self.command}: guard {guard.name}: {where}")

    def caveat(self, caveats: Iterable[Caveat]) -> None:
        """Note what Fiat does not evaluate, once each."""
        for caveat in caveats:
            self.caveats.setdefault(caveat.text, caveat)

    def count(self) -> None:
        """Count a result that was printed as text."""
        self.answered += 1

    def add(self, fields: Mapping[str, Any]) -> None:
        """Print one result as JSON."""
        import json

        if self.format == "jsonl":
            self.add_line(fields)
            return
        opening = f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [' if not self.answered else ","
        print(f"{opening}\n{json.dumps(fields)}", end="")
        self.answered += 1

    def add_line(self, fields: Mapping[str, Any], *, counts: bool = True) -> None:
        """Print one line of JSON Lines, the schema before the first."""
        import json

        if not self._begun:
            self._begun = True
            print(json.dumps({"schema": SCHEMA, "command": self.command}))
        print(json.dumps(fields))
        self.answered += counts

    def add_row(self, row: Mapping[str, Any]) -> None:
        """Print one result as a row of CSV, the names of the columns before the first."""
        import csv

        writer = csv.writer(sys.stdout, lineterminator="\n")
        if not self.answered:
            writer.writerow(row)
        writer.writerow(_csv_cell(value) for value in row.values())
        self.answered += 1

    def finish(self, status: Status = Status.DONE) -> int:
        """Print what comes after the results: the rest of the JSON, or the caveats; the exit status."""
        if self.format == "json":
            self._finish_json()
        elif self.format == "jsonl":
            self.add_line(self._rest(), counts=False)
        elif self.as_text and self.caveats:
            print()
            for caveat in self.caveats.values():
                terminal.say(f"Not counted: {caveat.text}", hanging="  ")
        if not self.problems:
            return status
        if not self.answered and all(problem.errno in _WRONG_PATH for problem in self.problems):
            return Status.WRONG_COMMAND_LINE
        return Status.IN_PART

    def _finish_json(self) -> None:
        import json

        if not self.answered:
            print(f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [', end="")
        rest = self._rest()
        print("\n]" + "".join(f",\n{json.dumps(name)}: {json.dumps(value)}" for name, value in rest.items()) + "}")

    def _rest(self) -> dict[str, Any]:
        return {
            **self.beside,
            "caveats": [caveat._asdict() for caveat in self.caveats.values()],
            "problems": [
                {"path": p.path, "errno": errno_name(p.errno), "message": os.strerror(p.errno)} for p in self.problems
            ],
        }


def _csv_cell(value: object) -> str:
    """A value in CSV: nothing for null, words for booleans, spaces between the items of a list.

    Control characters and bytes that are not UTF-8 are written as escapes, as in text.
    """
    from fiat.core.text import visible

    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (list, tuple)):
        return " ".join(visible(str(item)) for item in value)
    return visible(str(value))


def errno_name(number: int) -> str | None:
    """``EACCES`` for 13; None for 0."""
    return errno.errorcode.get(number, str(number)) if number else None

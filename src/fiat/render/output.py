"""Results on their way out, in the form that was asked for: text, JSON, JSON Lines or CSV.

They are shown as they come, so that a long answer starts at once. Problems go
to stderr, one line each, whatever the form.
"""

import errno
import os
import sys
from collections.abc import Iterable, Mapping
from typing import Any

from fiat.app.status import Status, of_several
from fiat.core.errors import FiatError, PathError
from fiat.core.model.finding import Finding
from fiat.core.text import quoted, visible
from fiat.render import terminal, text
from fiat.render.findings import finding_fields
from fiat.render.model import BLANK, Block, Prose, Result

SCHEMA = "fiat/1"

_WRONG_PATH = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG, errno.ELOOP})


class Output:
    """Results, caveats and problems of one command.

    ``answered`` counts what was shown, or found to be so; a command that
    answered nothing because no path was right was typed wrongly.
    """

    def __init__(self, command: str, format: str = "text") -> None:
        self.command = command
        self.format = format
        self.answered = 0
        self._beside: dict[str, Any] = {}
        self._caveats: dict[str, Finding] = {}
        self._problems: list[PathError] = []
        self._shown = 0
        self._writer: Any = None

    @property
    def shows_progress(self) -> bool:
        """Whether somebody may be waiting in front of a terminal."""
        return self.format == "text"

    @property
    def has_problems(self) -> bool:
        """Whether any path failed."""
        return bool(self._problems)

    # --- what goes wrong, on stderr ---

    def problem(self, error: PathError) -> None:
        """Note a path that failed, and name it on stderr."""
        self._problems.append(error)
        self.complain(error)

    def complain(self, error: FiatError | str) -> None:
        """Say on stderr what was wrong, and go on."""
        sys.stdout.flush()  # what came before it should also be seen before it
        print(f"fiat {self.command}: {error}", file=sys.stderr)

    def refuse(self, guard: Finding) -> None:
        """Say on stderr which guard objects, to what, and which word accepts it."""
        sys.stdout.flush()
        paths = f"{guard.paths:,} paths, such as " if guard.paths > 1 else ""
        where = f"{paths}{quoted(guard.path)}: {guard.text}; --accept {guard.code} does it all the same"
        said = Prose(f"fiat {self.command}: guard {guard.code}: {where}", hanging=text.INDENT)
        for line in text.lines(said, text.Screen(terminal.width(sys.stderr))):
            print(line, file=sys.stderr)

    def caveat(self, caveats: Iterable[Finding]) -> None:
        """Note what Fiat does not evaluate, once each."""
        for caveat in caveats:
            self._caveats.setdefault(caveat.text, caveat)

    # --- results ---

    def add(self, result: Result, *, count: int = 1) -> None:
        """Show a result; ``count`` is how many paths it answers for."""
        if self.format == "text":
            self._text(result)
        elif self.format == "csv":
            for row in result.rows():
                self._row(row)
        elif self.format == "jsonl":
            for fields in result.lines():
                self._line(fields)
        else:
            for fields in result.records():
                self._record(fields)
            self._beside |= result.beside()
        self.answered += count

    def _text(self, result: Result) -> None:
        screen = terminal.screen()
        for number, block in enumerate(result.blocks()):
            if not number and self._shown:
                print()
            self._shown += 1
            self.print(block, screen)

    def print(self, block: Block, screen: text.Screen | None = None) -> None:
        """Print one block of text."""
        for line in text.lines(block, screen or terminal.screen()):
            print(line)

    def _record(self, fields: Mapping[str, Any]) -> None:
        import json

        opening = f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [' if not self._shown else ","
        self._shown += 1
        print(f"{opening}\n{json.dumps(fields)}", end="")

    def _line(self, fields: Mapping[str, Any]) -> None:
        import json

        if not self._shown:
            print(json.dumps({"schema": SCHEMA, "command": self.command}))
        self._shown += 1
        print(json.dumps(fields))

    def _row(self, row: Mapping[str, Any]) -> None:
        if self._writer is None:
            import csv

            self._writer = csv.writer(sys.stdout, lineterminator="\n")
            self._writer.writerow(row)
        self._writer.writerow([_csv_cell(value) for value in row.values()])

    # --- the end ---

    def finish(self, status: Status = Status.DONE) -> int:
        """Print what comes after the results: the rest of the JSON, or the caveats; the exit status."""
        if self.format == "json":
            self._finish_json()
        elif self.format == "jsonl":
            self._line(self._rest())
        elif self.format == "text" and self._caveats:
            self.print(BLANK)
            for caveat in self._caveats.values():
                lead = "Not counted" if caveat.weight == "plain" else "Note"
                self.print(Prose(f"{lead}: {caveat.text}", hanging="  "))
        if not self._problems:
            return status
        wrong = not self.answered and all(problem.errno in _WRONG_PATH for problem in self._problems)
        return of_several(status, Status.WRONG_COMMAND_LINE if wrong else Status.IN_PART)

    def _finish_json(self) -> None:
        import json

        if not self._shown:
            print(f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [', end="")
        rest = self._rest()
        print("\n]" + "".join(f",\n{json.dumps(name)}: {json.dumps(value)}" for name, value in rest.items()) + "}")

    def _rest(self) -> dict[str, Any]:
        return {
            **self._beside,
            "caveats": [finding_fields(caveat) for caveat in self._caveats.values()],
            "problems": [
                {"path": p.path, "errno": errno_name(p.errno), "message": os.strerror(p.errno)} for p in self._problems
            ],
        }


def _csv_cell(value: object) -> str:
    """A value in CSV: nothing for null, words for booleans, spaces between the items of a list.

    Control characters and bytes that are not UTF-8 are written as escapes, as in text.
    """
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

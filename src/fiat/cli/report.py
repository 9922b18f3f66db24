"""What a command found, on its way to text or JSON.

Machine output is one object ``fiat/1``; problems go to stderr as they come,
one line each, whatever the format.
"""

import json
import os
import sys
from typing import Any

from fiat.cli.status import Status
from fiat.core.caveats import Caveat
from fiat.core.errors import PathError

SCHEMA = "fiat/1"

_WRONG_PATH = frozenset({2, 20, 36, 40})  # ENOENT, ENOTDIR, ENAMETOOLONG, ELOOP: the word was wrong


class Report:
    """Results, caveats and problems of one command."""

    def __init__(self, command: str, as_json: bool) -> None:
        self.command = command
        self.as_json = as_json
        self.results: list[dict[str, Any]] = []
        self.beside: dict[str, Any] = {}
        self.caveats: dict[str, Caveat] = {}
        self.problems: list[PathError] = []
        self.answered = 0

    def problem(self, error: PathError) -> None:
        """Note a path that failed, and name it on stderr."""
        self.problems.append(error)
        print(f"fiat {self.command}: {error}", file=sys.stderr)

    def caveat(self, *caveats: Caveat) -> None:
        """Note what Fiat does not evaluate, once each."""
        for caveat in caveats:
            self.caveats.setdefault(caveat.text, caveat)

    def add(self, fields: dict[str, Any]) -> None:
        """Add one result."""
        self.answered += 1
        if self.as_json:
            self.results.append(fields)

    def finish(self, status: Status = Status.DONE) -> int:
        """Print the JSON, or the caveats after the text; the exit status."""
        if self.as_json:
            print_json(
                {
                    "schema": SCHEMA,
                    "command": self.command,
                    "results": self.results,
                    **self.beside,
                    "caveats": [caveat._asdict() for caveat in self.caveats.values()],
                    "problems": [
                        {"path": p.path, "errno": errno_name(p.errno), "message": os.strerror(p.errno)}
                        for p in self.problems
                    ],
                }
            )
        if not self.problems:
            return status
        if not self.answered and all(problem.errno in _WRONG_PATH for problem in self.problems):
            return Status.WRONG_COMMAND_LINE
        return Status.IN_PART


def print_json(value: object) -> None:
    """One JSON value on stdout; bytes that are not UTF-8 stay surrogate escapes."""
    print(json.dumps(value, indent=2))


def errno_name(number: int) -> str | None:
    """``EACCES`` for 13; None for 0."""
    import errno

    return errno.errorcode.get(number, str(number)) if number else None

"""Results on their way out, in the form that was asked for: text, JSON, JSON Lines or CSV.

They are shown as they come, so that a long answer starts at once. Problems go
to stderr, one line each, whatever the form.
"""

import errno
import os
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from fiat.app.status import ExitStatus, of_several
from fiat.core.errors import FiatError, Interrupted, PathError
from fiat.core.model.finding import Finding
from fiat.core.text import FEW, quoted, visible
from fiat.render import terminal, text
from fiat.render.findings import finding_fields, objections
from fiat.render.model import BLANK, Block, Prose, Result

SCHEMA = "fiat/1"

_EACH = FEW
"""So many paths that failed alike are named each."""

if TYPE_CHECKING:
    from fiat.core.model.accounts import Accounts
    from fiat.render.pager import Pager

_WRONG_PATH = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG, errno.ELOOP})


class Output:
    """Results, caveats and problems of one command.

    ``answered`` counts what was shown, or found to be so; a command that
    answered nothing because no path was right was typed wrongly. A command that
    ``changes`` something goes on where its output cannot be printed, and its exit
    status speaks of the paths alone; any other stops, for it is of no use to anyone
    then. ``status`` is what the command comes to where no path fails. One that is
    ``quiet`` prints nothing but what goes wrong. With a ``pager`` what does not fit the terminal goes through it.
    What the ``accounts`` that were asked did not tell is said at the end; only what changes something is done in full
    all the same, and what is ``settled`` does not hang on it.
    """

    def __init__(
        self,
        command: str,
        format: str = "text",
        *,
        changes: bool = False,
        quiet: bool = False,
        pager: "Pager | None" = None,
        accounts: "Callable[[], Iterable[Accounts]]" = tuple,
    ) -> None:
        self.command = command
        self.format = format
        self.quiet = quiet
        self.answered = 0
        self.status = ExitStatus.DONE
        self.settled = changes
        self._changes = changes
        self._cut: OSError | None = None
        self._envelope: dict[str, Any] = {}
        self._caveats: dict[str, Finding] = {}
        self._problems: list[PathError] = []
        self._untold: list[PathError] = []
        self._others: list[dict[str, Any]] = []
        self._shown = 0
        self._terse = False
        self._pager = pager
        self._accounts = accounts
        self._partly_known = False
        self._late: list[str] = []
        self._writer: Any = None
        self._tables: Any = None

    @property
    def shows_progress(self) -> bool:
        """Whether somebody may be waiting in front of a terminal."""
        return self.format == "text" and not self.quiet

    @property
    def has_problems(self) -> bool:
        """Whether anything went wrong at one of the paths."""
        return bool(self._problems)

    @property
    def notes(self) -> list[str]:
        """What was noted that Fiat does not evaluate."""
        return [caveat.text for caveat in self._caveats.values()]

    # --- what goes wrong, on stderr ---

    def problem(self, error: PathError) -> None:
        """Note a path that failed, and name it on stderr."""
        self._problems.append(error)
        if self._changes:
            self._untold.append(error)
        else:
            self.complain(error)

    def tell(self) -> None:
        """Name on stderr the paths that failed and were not named yet: many that failed alike in one line."""
        alike: dict[tuple[str, int, str], list[PathError]] = {}
        for error in self._untold:
            alike.setdefault((error.doing, error.errno, error.hint), []).append(error)
        self._untold = []
        for errors in alike.values():
            if len(errors) <= _EACH:
                for error in errors:
                    self.complain(error)
            else:
                first = errors[0]
                whole = f"{len(errors):,} paths, such as {quoted(first.path)}"
                self.complain(f"cannot {first.doing} {whole}: {first.reason}")

    def complain(self, error: FiatError | str) -> None:
        """Say on stderr what was wrong, and go on."""
        if self._pager is not None and self._pager.shows:
            self._late.append(f"fiat {self.command}: {error}")  # the pager has the terminal
        else:
            terminal.say(f"fiat {self.command}: {error}")

    def unusable(self, place: str, error: FiatError, so: str = "") -> None:
        """Say that the history at ``place`` cannot be used, and what that means."""
        self._others.append({"path": place, "errno": None, "message": str(error)})
        self.complain(f"{error}{so}")

    def leave_out(self, host: str, why: str) -> None:
        """Say that a host of a fleet is left out; the others go on."""
        self._others.append({"hosts": [host], "path": None, "errno": None, "message": why})
        self._partly_known = True
        self.complain(f"{visible(host)} is left out: {why}")

    def wrong_word(self, word: str, error: FiatError) -> None:
        """Say that one of several words means nothing; the others go on."""
        self._others.append({"path": None, "word": word, "errno": None, "message": str(error)})
        self.complain(error)

    def refuse(self, guards: Sequence[Finding]) -> None:
        """Say on stderr which guards object, to what, and which words accept it: a line for each guard."""
        screen = text.Screen(terminal.width(sys.stderr))
        for said in objections(guards, f"fiat {self.command}: refused by guard", f"fiat {self.command}: "):
            for line in text.lines(said, screen):
                terminal.say(line)

    def only_what_is_wrong(self, *, wrong: bool) -> None:
        """Where only that is to be told: tell it if there is anything ``wrong``, with no caveats, or nothing at all."""
        if self.quiet and wrong:
            self.quiet = False
            self._terse = True

    def caveat(self, caveats: Iterable[Finding]) -> None:
        """Note what Fiat does not evaluate, once each."""
        for caveat in caveats:
            self._caveats.setdefault(caveat.text, caveat)

    # --- results ---

    def add(self, result: Result, *, count: int = 1) -> None:
        """Show a result; ``count`` is how many paths it answers for."""
        self.tell()
        written = result.written(self.format)
        if self.format == "null":
            self._paths(result)
        elif self.format == "parquet":
            self._write_tables(result)
        elif self.format == "text":
            self._text(result)
        elif written is not None:
            self._begin_with(written.header)
            for text in written.texts:
                self._write(self._opening() + text if self.format == "json" else text)
                self._shown += 1
        elif self.format == "csv":
            self._each(result.rows(), self._row)
        elif self.format == "jsonl":
            self._each(result.lines(), self._line)
        else:
            self._each(result.records(), self._record)
            self._envelope |= result.envelope()
        self.answered += count

    def _write_tables(self, result: Result) -> None:
        from fiat.render.tables import TableWriter

        if self._tables is None:
            self._tables = TableWriter()
        try:
            self._tables.write(result.tables())
        except OSError as error:
            self._take_no_more(error)

    def _each(self, found: Iterable[Mapping[str, Any]], show: Callable[[Mapping[str, Any]], None]) -> None:
        for one in found:
            if self._cut is not None:
                return
            show(one)

    def _paths(self, result: Result) -> None:
        """Each path as the kernel has it, ended by NUL, which is in no path."""
        for path in result.all_paths():
            if self._cut is not None or self.quiet:
                return
            try:
                sys.stdout.buffer.write(os.fsencode(path) + b"\0")
            except OSError as error:
                self._take_no_more(error)

    def _text(self, result: Result) -> None:
        screen = terminal.screen()
        for number, block in enumerate(result.blocks()):
            if self._cut is not None:
                return
            if not number and self._shown:
                self._write("\n")
            self._shown += 1
            self.print(block, screen)

    def print(self, block: Block, screen: text.Screen | None = None) -> None:
        """Print one block of text."""
        for line in text.lines(block, screen or terminal.screen()):
            self._write(line + "\n")

    def _write(self, words: str) -> None:
        """Print, unless stdout takes no more, or nothing is to be printed: what goes wrong shows all the same."""
        if self._cut is not None or self.quiet:
            return
        try:
            if self._pager is not None:
                self._pager.write(words)
            else:
                sys.stdout.write(words)
        except OSError as error:
            self._take_no_more(error)

    def _take_no_more(self, error: OSError) -> None:
        if self._pager is not None and self._pager.shows:  # whoever reads it has seen enough
            self._close_pager()
            self.quiet = True
            return
        self._cut = error
        terminal.give_up(sys.stdout)
        if not self._changes:
            raise terminal.OutputCut(self._ends_with(), error) from error

    def _record(self, fields: Mapping[str, Any]) -> None:
        import json

        self._write(self._opening() + json.dumps(fields))
        self._shown += 1

    def _opening(self) -> str:
        """What stands before a record of JSON."""
        return ",\n" if self._shown else f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [\n'

    def _begin_with(self, header: Iterable[str]) -> None:
        """The first line of CSV or of JSON Lines, where it has not been written."""
        if self.format == "jsonl" and not self._shown:
            import json

            self._write(json.dumps({"schema": SCHEMA, "command": self.command}) + "\n")
        elif self.format == "csv" and self._writer is None:
            import csv

            self._writer = csv.writer(_Lines(self._write), lineterminator="\n")
            self._writer.writerow(header)

    def _line(self, fields: Mapping[str, Any]) -> None:
        import json

        self._begin_with(())
        self._shown += 1
        self._write(json.dumps(fields) + "\n")

    def _row(self, row: Mapping[str, Any]) -> None:
        from fiat.render.lines import csv_cell

        self._begin_with(row)
        self._writer.writerow([csv_cell(value) for value in row.values()])

    # --- the end ---

    def finish(self, status: ExitStatus | None = None) -> int:
        """Print what comes after the results: the rest of the JSON, or the caveats; the exit status."""
        self.tell()
        if status is not None:
            self.status = status
        for accounts in self._accounts():
            if not accounts.unknown:
                continue
            from fiat.core.ask.caveats import of_accounts  # it takes loading, and there is hardly ever a need

            self.caveat(of_accounts(accounts))
            self._partly_known |= not accounts.tells_all and not self.settled
        if self.format == "json":
            self._finish_json()
        elif self.format == "jsonl":
            self._line(self._rest())
        elif self.format == "text" and self._caveats and not self._terse:
            self.print(BLANK)
            for caveat in self._caveats.values():
                lead = "Not counted" if caveat.weight == "plain" else "Note"
                self.print(Prose(f"{lead}: {caveat.text}", hanging="  "))
        try:
            if self._tables is not None and self._cut is None:
                self._tables.close()
            self._close_pager()
            sys.stdout.flush()
        except OSError as error:
            self._cut = error
            terminal.give_up(sys.stdout)
        if self._cut is not None:
            terminal.say_cut(f"fiat {self.command}", self._cut)
        return self._ends_with()

    def _close_pager(self) -> None:
        """Have what is held back shown, and then what was wrong meanwhile."""
        if self._pager is not None:
            pager, self._pager = self._pager, None
            pager.close()
        late, self._late = self._late, []
        for line in late:
            terminal.say(line)

    def _ends_with(self) -> ExitStatus:
        """What counts of the status, of the paths that failed, and of an answer that could not be printed."""
        status = self.status
        if self._cut is not None and self._cut.errno != errno.EPIPE and not self._changes:
            status = of_several(status, ExitStatus.IN_PART)
        if self._partly_known:
            status = of_several(status, ExitStatus.IN_PART)
        if not self._problems:
            return status
        if any(isinstance(problem, Interrupted) for problem in self._problems):
            return ExitStatus.INTERRUPTED
        wrong = not self.answered and all(problem.errno in _WRONG_PATH for problem in self._problems)
        return of_several(status, ExitStatus.WRONG_COMMAND_LINE if wrong else ExitStatus.IN_PART)

    def _finish_json(self) -> None:
        import json

        if not self._shown:
            self._write(f'{{"schema": "{SCHEMA}", "command": "{self.command}", "results": [')
        rest = self._rest()
        self._write(
            "\n]" + "".join(f",\n{json.dumps(name)}: {json.dumps(value)}" for name, value in rest.items()) + "}\n"
        )

    def _rest(self) -> dict[str, Any]:
        return {
            **self._envelope,
            "caveats": [finding_fields(caveat) for caveat in self._caveats.values()],
            "problems": [
                *({"path": p.path, "errno": errno_name(p.errno), "message": p.reason} for p in self._problems),
                *self._others,
            ],
        }


class _Lines:
    """What the writer of CSV writes to."""

    def __init__(self, write: Callable[[str], None]) -> None:
        self.write = write


def errno_name(number: int) -> str | None:
    """``EACCES`` for 13; None for 0."""
    return errno.errorcode.get(number, str(number)) if number else None

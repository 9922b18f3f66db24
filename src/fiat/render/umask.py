"""The umask of processes, and where on this host it is set."""

import os
from collections.abc import Iterator

from fiat.app.umask import LoginUmask, Umask
from fiat.core.model import umask
from fiat.core.model.mode import letters, octal
from fiat.core.text import Fields, visible
from fiat.host.live.umaskfiles import Search
from fiat.render.model import BLANK, Block, PlainResult, Prose, Table, Verbatim
from fiat.render.words import NO_UMASK


class UmaskView(PlainResult):
    """The umask of one process, and what it leaves."""

    def __init__(self, found: Umask) -> None:
        self.found = found

    def records(self) -> Iterator[Fields]:
        """The umask in both notations, and what it leaves."""
        mask = self.found.mask
        left = umask.leaves(mask)
        yield {
            "process": self.found.pid,
            "umask": octal(mask),
            "clauses": umask.clauses(mask),
            "files": octal(left.files),
            "directories": octal(left.directories),
        }

    def blocks(self) -> Iterator[Block]:
        """The umask of the process in words, with what it leaves."""
        mask, whose = self.found.mask, visible(self.found.whose)
        left = umask.leaves(mask)
        yield Verbatim(f"{octal(mask)}  {umask.clauses(mask)}  the umask of {whose}")
        yield BLANK
        rows = [
            ["new files", "666", f"{octal(left.files)}  {letters(left.files)}"],
            ["new directories", "777", f"{octal(left.directories)}  {letters(left.directories)}"],
        ]
        yield Table(["", "asked for", "left by the umask"], rows)
        yield Prose(NO_UMASK, 1)


class LoginView(UmaskView):
    """What a login gets, and by what."""

    def __init__(self, found: LoginUmask) -> None:
        super().__init__(found.umask)
        self.login = found
        self.where = WhereSetView(found.found, "Every line that sets one, whether it counts here or not:")

    def records(self) -> Iterator[Fields]:
        """The umask, whose it is, and what decided."""
        for fields in super().records():
            yield fields | {
                "user": self.login.user.name,
                "decided": self.login.decided,
                "open_ends": list(self.login.open_ends),
            }

    def envelope(self) -> Fields:
        """The lines that set one."""
        return self.where.envelope()

    def blocks(self) -> Iterator[Block]:
        """Where the umask is set for the login, in words, the deciding place first."""
        yield from super().blocks()
        yield Prose(f"Set by {visible(self.login.decided)}.", 1, hanging="  ")
        for open_end in self.login.open_ends:
            yield Prose(f"Not evaluated: {visible(open_end)}.", 1, hanging="  ")
        if self.where.found.settings:
            yield BLANK
            yield from self.where.blocks()


_EVERYBODY = "Lines that set one, for whoever comes by them; --user NAME says what a login gets:"


class WhereSetView(PlainResult):
    """Where the umask is set on this host."""

    def __init__(self, found: Search, title: str = _EVERYBODY) -> None:
        self.found = found
        self.title = title

    def envelope(self) -> Fields:
        """The lines that set one, and the files that were searched."""
        return {
            "set_in": [
                {"path": s.path, "line": s.line, "text": s.text, "umask": None if s.umask is None else octal(s.umask)}
                for s in self.found.settings
            ],
            "searched": self.found.read,
        }

    def blocks(self) -> Iterator[Block]:
        """The lines that set one."""
        found = self.found
        if not found.settings:
            text = f"Set nowhere in the {len(found.read)} files searched: what the kernel gave the first process holds."
            yield Verbatim(text)
        else:
            yield Verbatim(self.title)
            rows = [
                [
                    f"{visible(s.path)}:{s.line}",
                    visible(" ".join(s.text.split())),
                    "" if s.umask is None else _both(s.umask),
                ]
                for s in found.settings
            ]
            yield Table(["", "", "new files, new directories"], rows, flexible=(1,))
        for path, number in found.unread:
            yield Verbatim(f"not read: {visible(path)} ({os.strerror(number)})", 1)


def _both(mask: int) -> str:
    left = umask.leaves(mask)
    return f"{octal(left.files)}, {octal(left.directories)}"

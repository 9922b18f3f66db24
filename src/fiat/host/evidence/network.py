"""What changes of the network run: the lines of interfaces(5)."""

import glob
import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.host.evidence.commandlines import Setting, of_shell
from fiat.host.evidence.texts import files_like, lines_of

_LINE = re.compile(r"(?:pre-up|up|post-up|down|pre-down|post-down)\s+(.*)")
_MORE = re.compile(r"(source|source-directory|source-dir)\s+(\S+)")
_PART = re.compile(r"[A-Za-z0-9_-]+")


def of_the_network() -> Iterator[StartedFile]:
    """What each line for an interface hands to a shell."""
    yield from _interfaces("/etc/network/interfaces", set())


def _interfaces(path: str, seen: set[str]) -> Iterator[StartedFile]:
    if path in seen or not os.path.isfile(path):
        return
    seen.add(path)
    setting = Setting(0, f"interfaces {path}")
    yield setting.started(path, run=False)
    for line in lines_of(path):
        command, more = _LINE.fullmatch(line), _MORE.fullmatch(line)
        if command is not None:
            yield from of_shell(command[1], setting)
        elif more is not None:
            place = os.path.join(os.path.dirname(path), more[2])
            if more[1] != "source":
                yield setting.started(place, run=False, folder=True)
                place = f"{glob.escape(place)}/*"
            elif "*" in place:
                yield setting.started(os.path.dirname(place), run=False, folder=True)
            for one in files_like(place):
                if more[1] == "source" or _PART.fullmatch(os.path.basename(one)):
                    yield from _interfaces(one, seen)

"""What services start: unit files, read as systemd.unit(5), systemd.exec(5) and systemd.service(5) have them."""

import glob
import os
from collections.abc import Iterator, Sequence
from contextlib import suppress

from fiat.core.audit.evidence import StartedFile
from fiat.core.errors import UnknownAccount
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, of_command
from fiat.host.textfile import beginning_of

_FOLDERS = ("/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system")
"""Where units lie."""

_RUN = ("ExecStart", "ExecStartPre", "ExecStartPost", "ExecReload", "ExecStop", "ExecStopPost", "ExecCondition")
LARGEST = 1 << 20


def of_units(accounts: Accounts, folders: Sequence[str] = _FOLDERS) -> Iterator[StartedFile]:
    """What each service runs and reads, its own files too; of two units of a name the first one counts."""
    seen: set[str] = set()
    for folder in folders:
        for path in sorted(glob.glob(f"{folder}/*.service")):
            name = os.path.basename(path)
            if name in seen or not os.path.isfile(path):
                continue
            seen.add(name)
            parts = [path, *(part for one in folders for part in sorted(glob.glob(f"{one}/{name}.d/*.conf")))]
            yield from _of_unit(f"unit {name}", parts, accounts)


def _of_unit(by: str, files: list[str], accounts: Accounts) -> Iterator[StartedFile]:
    settings: dict[str, list[str]] = {}
    for path in files:
        yield StartedFile(os.path.realpath(path), 0, by, run=False)
        for key, value in settings_in(path):
            if value or key not in settings:
                settings.setdefault(key, []).append(value)
            else:
                settings[key] = []  # an empty value takes back what was there before
    if settings.get("DynamicUser", [""])[-1:] in (["yes"], ["true"], ["1"], ["on"]):
        uid: int | None = None
    else:
        uid = number_of((settings.get("User") or ["root"])[-1], accounts)
    for key in _RUN:
        for line in settings.get(key, []):
            command = line.lstrip("@-:+!|")
            runner = 0 if "+" in line[: len(line) - len(command)] else uid
            yield from of_command(command, Setting(runner, by))
    for line in settings.get("EnvironmentFile", []):
        path = line.removeprefix("-")
        if path.startswith("/") and os.path.isfile(path):
            yield StartedFile(path, 0, by, run=False)


def settings_in(path: str) -> Iterator[tuple[str, str]]:
    """The settings of a unit file, in its order; lines that end in a backslash go on."""
    for line in text_of(path).replace("\\\n", " ").split("\n"):
        key, equals, value = line.strip().partition("=")
        if equals and not key.startswith(("#", ";")):
            yield key.strip(), value.strip()


def text_of(path: str) -> str:
    """What a file holds; nothing where it cannot be read, or is far too long."""
    with suppress(OSError):
        return os.fsdecode(beginning_of(path, LARGEST))
    return ""


def number_of(word: str, accounts: Accounts) -> int | None:
    """The number of a user; None where there is none of that name."""
    try:
        return accounts.user_id(word)
    except UnknownAccount:
        return None

"""What the clock starts: tables as crontab(5) has them, and folders whose programs are run each hour to month."""

import glob
import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.services import number_of, of_command, text_of

_TABLES = ("/etc/crontab", "/etc/cron.d/*")
_FOLDERS = ("/etc/cron.hourly/*", "/etc/cron.daily/*", "/etc/cron.weekly/*", "/etc/cron.monthly/*")
_OF_USERS = ("/var/spool/cron/crontabs/*", "/var/spool/cron/*")
_TIMES = re.compile(r"(?:@\w+|(?:\S+\s+){4}\S+)\s+(.*)")


def of_the_clock(accounts: Accounts, root: str = "") -> Iterator[StartedFile]:
    """What each table runs, and the tables themselves; they are looked for under ``root``."""
    for pattern in _TABLES:
        for path in sorted(glob.glob(root + pattern)):
            if os.path.isfile(path):
                yield StartedFile(path, 0, f"table {path}", run=False)
                yield from _in_table(path, None, accounts)
    for pattern in _FOLDERS:
        for path in sorted(glob.glob(root + pattern)):
            if os.path.isfile(path):
                yield StartedFile(path, 0, f"folder {os.path.dirname(path)}")
    for pattern in _OF_USERS:
        for path in sorted(glob.glob(root + pattern)):
            uid = number_of(os.path.basename(path), accounts)
            if uid is not None and os.path.isfile(path):
                yield StartedFile(path, uid, f"table {path}", run=False)
                yield from _in_table(path, uid, accounts)


def _in_table(path: str, owner: int | None, accounts: Accounts) -> Iterator[StartedFile]:
    """The commands of a table; one of the system names the user in each line."""
    for line in text_of(path).split("\n"):
        line = line.strip()
        if not line or line.startswith("#") or re.match(r"\w+\s*=", line):
            continue
        found = _TIMES.fullmatch(line)
        if found is None:
            continue
        command = found[1]
        uid = owner
        if owner is None:
            user, _, command = command.partition(" ") if " " in command else command.partition("\t")
            uid = number_of(user, accounts)
        for part in re.split(r"&&|\|\||[;|]", command):
            yield from of_command(part.strip(), uid, f"table {path}")

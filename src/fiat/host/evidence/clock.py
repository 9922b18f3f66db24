"""What the clock starts: tables as crontab(5) has them, and folders whose programs are run each hour to month."""

import glob
import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, is_part, of_shell, run_parts
from fiat.host.evidence.services import number_of, text_of

_TABLES = ("/etc/crontab", "/etc/anacrontab")
_TABLES_IN = "/etc/cron.d"
_FOLDERS = ("/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly")
_OF_USERS = ("/var/spool/cron/crontabs/*", "/var/spool/cron/*")
_TIMES = re.compile(r"(?:@\w+|(?:\S+\s+){4}\S+)\s+(.*)")
_ANACRON = re.compile(r"(?:@\w+|\d+)\s+\d+\s+\S+\s+(.*)")
_SETTING = re.compile(r"""["']?(\w+)["']?\s*=\s*(.*)""")
_USUAL_PATH = ("/usr/bin", "/bin")
"""Where cron looks for programs, unless a table says otherwise (crontab(5))."""


def of_the_clock(accounts: Accounts, root: str = "") -> Iterator[StartedFile]:
    """What each table runs, and the tables themselves; they are looked for under ``root``."""
    tables = [root + path for path in _TABLES]
    tables += [path for path in sorted(glob.glob(f"{root}{_TABLES_IN}/*")) if is_part(os.path.basename(path))]
    for path in tables:
        if os.path.isfile(path):
            yield StartedFile(path, 0, f"table {path}", run=False)
            yield from _in_table(path, None, accounts)
    for folder in _FOLDERS:
        yield from (StartedFile(path, 0, f"folder {root}{folder}") for path in run_parts(root + folder))
    for pattern in _OF_USERS:
        for path in sorted(glob.glob(root + pattern)):
            uid = number_of(os.path.basename(path), accounts)
            if uid is not None and os.path.isfile(path):
                yield StartedFile(path, uid, f"table {path}", run=False)
                yield from _in_table(path, uid, accounts)


def _in_table(path: str, owner: int | None, accounts: Accounts) -> Iterator[StartedFile]:
    """The commands of a table; one of the system names the user in each line, and anacron's runs all as root."""
    anacron = path.endswith("/anacrontab")
    setting = _of_user(Setting(None, f"table {path}", path=_USUAL_PATH), 0 if anacron else owner, accounts)
    for line in text_of(path).split("\n"):
        line = line.strip()
        assigned = _SETTING.fullmatch(line)
        if not line or line.startswith("#"):
            continue
        if assigned is not None:
            value = assigned[2].strip("\"'")
            if assigned[1] == "PATH":
                setting = setting._replace(path=tuple(value.split(":")))
            elif assigned[1] == "SHELL" and os.path.isfile(value):
                yield StartedFile(value, setting.uid or 0, setting.by)
            continue
        found = (_ANACRON if anacron else _TIMES).fullmatch(line)
        if found is None:
            continue
        command = found[1]
        if owner is None and not anacron:
            user, *rest = command.split(None, 1)
            setting = _of_user(setting, number_of(user, accounts), accounts)
            command = "".join(rest)
        command = re.split(r"(?<!\\)%", command)[0].replace("\\%", "%")  # what follows is given to it to read
        yield from of_shell(command, setting)


def _of_user(setting: Setting, uid: int | None, accounts: Accounts) -> Setting:
    """The same for this user, whose home their commands begin in."""
    account = None if uid is None else accounts.user_numbered(uid)
    home = account.home if account is not None and account.home else "/"
    return setting._replace(uid=uid, cwd=home, home=home)

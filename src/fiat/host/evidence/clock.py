"""What the clock starts: tables as crontab(5) and anacrontab(5) have them, folders whose programs are run each hour to
month, and jobs for once as at(1) leaves them."""

import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, folder_of_parts, is_part, of_shell
from fiat.host.evidence.texts import files_like, is_dangling, is_open_to_others, number_of, text_of

_TABLES = ("/etc/crontab", "/etc/anacrontab")
_TABLES_IN = "/etc/cron.d"
_FOLDERS = ("/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly", "/etc/cron.yearly")
_OF_USERS = ("/var/spool/cron/crontabs", "/var/spool/cron")
_JOBS = ("/var/spool/cron/atjobs", "/var/spool/at", "/var/spool/atjobs")
_TIMES = re.compile(r"(?:@\w+|(?:\S+\s+){4}\S+)\s+(.*)")
_ANACRON = re.compile(r"(?:@\w+|\d+)\s+\d+\s+\S+\s+(.*)")
_SETTING = re.compile(r"""["']?(\w+)["']?\s*=\s*(.*)""")
_JOB_OF = re.compile(r"(?m)^# atrun uid=(\d+) gid=\d+")
_LINES = 10_000
"""Lines of a table that are looked at: users write theirs themselves."""

_USUAL_PATH = ("/usr/bin", "/bin")
"""Where cron looks for programs, unless a table says otherwise (crontab(5))."""


def of_the_clock(accounts: Accounts, root: str = "") -> Iterator[StartedFile]:
    """What each table runs, and the tables themselves; they are looked for under ``root``."""
    tables = [root + path for path in _TABLES]
    tables += [path for path in files_like(f"{root}{_TABLES_IN}/*") if is_part(os.path.basename(path))]
    if os.path.isdir(root + _TABLES_IN):
        yield StartedFile(root + _TABLES_IN, 0, "the clock", run=False, folder=True)
    for path in tables:
        if is_dangling(path) or (os.path.isfile(path) and _is_read(path)):
            yield StartedFile(path, 0, f"table {path}", run=False)
            yield from _in_table(path, None, accounts)
    for folder in _FOLDERS:
        if os.path.isdir(root + folder):
            yield from folder_of_parts(root + folder, Setting(0, f"folder {root}{folder}"))
    for folder in _OF_USERS:
        for path in files_like(f"{root}{folder}/*"):
            uid = number_of(os.path.basename(path), accounts)
            if uid is not None:
                yield StartedFile(path, uid, f"table {path}", run=False)
                yield from _in_table(path, uid, accounts)
    for folder in _JOBS:
        for path in files_like(f"{root}{folder}/[a-zA-Z=]*"):
            yield from _job(path, accounts)


def _is_read(path: str) -> bool:
    """Whether a table of the system is read: cron(8) passes over those that others may write to, or do not belong to
    root; anacron(8) reads its own as it is."""
    if path.endswith("/anacrontab"):
        return True
    return not is_open_to_others(path)


def _in_table(path: str, owner: int | None, accounts: Accounts) -> Iterator[StartedFile]:
    """The commands of a table; one of the system names the user in each line, and anacron's runs all as root."""
    anacron = path.endswith("/anacrontab")
    setting = Setting(None, f"table {path}", path=_USUAL_PATH, accounts=accounts)
    setting = _of_user(setting, 0 if anacron else owner, accounts)
    for line in text_of(path).split("\n")[:_LINES]:
        line = line.strip()
        assigned = _SETTING.fullmatch(line)
        if not line or line.startswith("#"):
            continue
        if assigned is not None:
            value = assigned[2].strip("\"'")
            if assigned[1] == "PATH":
                setting = setting._replace(path=tuple(value.split(":")))
            elif assigned[1] == "SHELL" and value.startswith("/"):
                yield StartedFile(value, setting.uid or 0, setting.by)
            else:
                setting = setting._replace(values={**setting.values, assigned[1]: value})
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


def _job(path: str, accounts: Accounts) -> Iterator[StartedFile]:
    """A job for once: a script of a shell, which says in its second line whose it is."""
    text = text_of(path)
    whose = _JOB_OF.search(text)
    if whose is None:
        return
    setting = Setting(None, f"job {path}", path=_USUAL_PATH, accounts=accounts)
    setting = _of_user(setting, int(whose[1]), accounts)
    yield StartedFile(path, setting.uid, setting.by)
    yield from of_shell(text[whose.end() :], setting)


def _of_user(setting: Setting, uid: int | None, accounts: Accounts) -> Setting:
    """The same for this user, whose home their commands begin in."""
    account = None if uid is None else accounts.user_numbered(uid)
    home = account.home if account is not None and account.home else "/"
    return setting._replace(uid=uid, cwd=home, home=home)

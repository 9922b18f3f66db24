"""The umask of processes, of logins, and where on this host it is set."""

import re
from typing import NamedTuple

from fiat.core.errors import NotationError, UnknownAccount
from fiat.core.model import umask
from fiat.core.model.accounts import User
from fiat.core.model.host import Host
from fiat.core.text import quoted
from fiat.host.live.umaskfiles import Search, UmaskSetting


class Umask(NamedTuple):
    """A umask, and ``whose`` it is: that of a process by number, of this one where ``pid`` is None, or another."""

    pid: int | None
    mask: int
    whose: str


def umask_of(host: Host, pid: int | None = None, *, held: bool = False) -> Umask:
    """The umask of a process by number, or of this one; where the host is ``held`` in a snapshot, the one in it."""
    if pid is not None:
        return Umask(pid, host.process_umask(pid), f"process {pid}")
    return Umask(None, host.settings.umask, "whoever took the snapshot" if held else _OWN)


_OWN = "this process, as its shell handed it on"


def where_set() -> Search:
    """The lines of this host's files that set a umask."""
    from fiat.host.live import umaskfiles

    return umaskfiles.search()


class LoginUmask(NamedTuple):
    """What a login of ``user`` gets: the last of the lines ``found`` that says it, as far as their conditions hold."""

    user: User
    umask: Umask
    decided: str
    found: Search


def umask_at_login(host: Host, name: str) -> LoginUmask:
    """What a login of the user called ``name`` gets on this host.

    By login.defs(5) (UMASK, USERGROUPS_ENAB), pam_umask(8) (a umask in the comment of the account,
    or of PAM), and the start-up files of shells; the last one counts.
    """
    from fiat.host.live import umaskfiles

    account = host.accounts.user_named(name)
    if account is None:
        raise UnknownAccount(name, f"no user is called {quoted(name)} in {host.accounts.source}")
    found = umaskfiles.search(account.home, services=False)
    settings = host.login_settings()
    mask, decided = 0o022, "nothing sets another"
    lines = [line for line in found.settings if line.umask is not None]
    by_system = [line for line in lines if line.path.startswith(_BEFORE_SHELLS)]
    for line in by_system:
        mask, decided = _said(line, mask)
    group = host.accounts.group_numbered(account.gid)
    if settings.get("USERGROUPS_ENAB") == "yes" and account.uid and group is not None and group.name == account.name:
        mask, decided = mask & ~0o070 | (mask & 0o700) >> 3, f"{decided}, and USERGROUPS_ENAB of login.defs"
    own = re.search(r"\bumask=([0-7]{1,4})", account.comment)
    if own:
        mask, decided = _parsed(own[1], mask), "the comment of the account"
    for line in lines:
        if line not in by_system:
            mask, decided = _said(line, mask)
    return LoginUmask(account, Umask(None, mask, f"a login of {account.name}"), decided, found)


_BEFORE_SHELLS = ("/etc/login.defs", "/etc/pam.d/")


def _said(line: UmaskSetting, mask: int) -> tuple[int, str]:
    return (mask if line.umask is None else line.umask), f"{line.path}:{line.line}"


def _parsed(word: str, mask: int) -> int:
    try:
        return umask.parse(word)
    except NotationError:
        return mask

"""The umask of processes, of logins, and where on this host it is set."""

from typing import NamedTuple

from fiat.core.errors import UnknownAccount
from fiat.core.model.accounts import NO_LOGIN, User
from fiat.core.model.host import Host
from fiat.core.text import quoted
from fiat.host.live.umaskfiles import Search


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
    """What a login of ``user`` gets, or what a service that runs as them does; what ``decided`` it, what could not be
    evaluated (``open_ends``), and every line that was ``found`` to set one."""

    user: User
    umask: Umask
    decided: str
    open_ends: tuple[str, ...]
    found: Search


def umask_at_login(host: Host, name: str) -> LoginUmask:
    """What a login of the user called ``name`` gets on this host: see :mod:`fiat.host.logins`.

    Nobody logs in as the account of a service: what its units say counts there (systemd.exec(5), UMask=).
    """
    from fiat.host.live import umaskfiles

    account = host.accounts.user_named(name)
    if account is None:
        raise UnknownAccount(name, f"no user is called {quoted(name)} in {host.accounts.source}")
    login = host.logins().of(account)
    found = umaskfiles.search(account.home)
    service = account.shell.rpartition("/")[2] in NO_LOGIN
    whose = f"{'a service that runs as' if service else 'a login of'} {account.name}"
    return LoginUmask(account, Umask(None, login.mask, whose), login.mask_by, login.left_open("umask"), found)

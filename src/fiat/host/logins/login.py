"""The umask and the search path that a login on the console gives somebody: what login(1) itself sets, then the modules
that it goes through, then the files that the account's shell reads.

Source: login.defs(5), pam_umask(8), pam_env(8), and the pages of the shells on their start-up files. A login by another
door may go through other modules: where those give something else, that is an open end.
"""

import os

from fiat.core.model.accounts import NO_LOGIN, Accounts, User
from fiat.core.model.login import USUAL_PATH_OF_ROOT, Login, OpenEnd
from fiat.host.evidence.units import umasks_of
from fiat.host.logins import pam
from fiat.host.logins.conditions import Known
from fiat.host.logins.files import Files
from fiat.host.logins.shellfiles import Session, ShellFiles

_FIRST = 0o022
"""The umask of what systemd and the kernel start, and so of login(1) (systemd.exec(5), UMask=)."""

_OTHER_DOORS = ("sshd", "su-l", "su", "sudo-i")

_ENV_PATH = {True: ("ENV_SUPATH", "/sbin:/bin:/usr/sbin:/usr/bin"), False: ("ENV_PATH", "/bin:/usr/bin")}

_POSIX = ("/etc/profile", "~/.profile")
_START_UP: dict[str, tuple[str | tuple[str, ...], ...]] = {
    "sh": _POSIX,
    "dash": _POSIX,
    "ash": _POSIX,
    "ksh": _POSIX,
    "mksh": (*_POSIX, "~/.mkshrc"),
    "bash": ("/etc/profile", ("~/.bash_profile", "~/.bash_login", "~/.profile")),
    "rbash": ("/etc/profile", ("~/.bash_profile", "~/.bash_login", "~/.profile")),
    "zsh": (
        ("/etc/zsh/zshenv", "/etc/zshenv"), "~/.zshenv", ("/etc/zsh/zprofile", "/etc/zprofile"), "~/.zprofile",
        ("/etc/zsh/zshrc", "/etc/zshrc"), "~/.zshrc", ("/etc/zsh/zlogin", "/etc/zlogin"), "~/.zlogin",
    ),
}  # fmt: skip
"""What each shell reads when somebody logs in and works by hand; of several in brackets the first that is there."""

_WITH_MORE = frozenset(("bash", "rbash", "zsh", "ksh", "mksh"))
"""Shells that know UID, and have ``+=``."""

_ITSELF = "login itself"


class LiveLogins:
    """What logins give on this host, as its files are when they are first looked at."""

    def __init__(self, accounts: Accounts) -> None:
        self._accounts = accounts
        self._files = Files()

    def of(self, account: User) -> Login:
        """What a login of ``account`` gives; of an account that nobody logs in as, what its services have."""
        return _login_of(account, self._accounts, self._files)


def _login_of(account: User, accounts: Accounts, files: Files) -> Login:
    if account.shell.rpartition("/")[2] in NO_LOGIN:
        return _of_service(account, accounts)
    mask, mask_by, values, by, open_ends = _by_modules(account, accounts, "login", files)
    for door in _OTHER_DOORS:
        if os.path.isfile(f"/etc/pam.d/{door}"):
            other = _by_modules(account, accounts, door, files)
            if other[0] != mask:
                text = f"by {door} the modules set {other[0]:04o}, by {other[1]}, before the shell begins"
                open_ends.append(OpenEnd(text, "umask"))
                break
    name = os.path.basename(account.shell) or "sh"
    shell = ShellFiles(_session(account, accounts, name, values, mask), files)
    for one in _START_UP.get(name, ()):
        places = [
            place.replace("~", account.home.rstrip("/"), 1) for place in ((one,) if isinstance(one, str) else one)
        ]
        for place in places:
            if shell.read(place):
                break
    path = shell.values.get("PATH") or ""
    return Login(
        shell.mask,
        shell.by.get("umask", mask_by),
        tuple(path.split(":")) if path else (),
        shell.by.get("PATH", by),
        tuple(dict.fromkeys((*open_ends, *shell.open_ends))),
    )


def _of_service(account: User, accounts: Accounts) -> Login:
    """What the units say of the services that run as this account (systemd.exec(5))."""
    found = umasks_of(account.uid, accounts)
    given = sorted({one.mask for one in found})
    first = found[0] if found else None
    by = "systemd: no unit sets another" if first is None or first.mask == _FIRST else f"unit {first.unit}"
    texts = (f"other services of this account have {mask:04o}" for mask in given if first and mask != first.mask)
    ends = [OpenEnd(text, "umask") for text in texts]
    path = USUAL_PATH_OF_ROOT
    return Login(first.mask if first else _FIRST, by, path, "systemd", tuple(ends))


def _by_modules(
    account: User, accounts: Accounts, service: str, files: Files
) -> tuple[int, str, dict[str, str], str, list[OpenEnd]]:
    """The umask and the variables before the shell begins, and what set the umask and the search path."""
    stack = pam.Stack(account, accounts, service, files)
    mask, mask_by = _FIRST, "what starts the login program: no module and no file of a shell sets another"
    values: dict[str, str] = {}
    name, usual = _ENV_PATH[account.uid == 0]
    defined = pam.definition(files, name)
    by = f"/etc/login.defs:{defined[1]}" if defined is not None else _ITSELF
    path = defined[0].removeprefix("PATH=") if defined is not None else usual
    for kind in ("auth", "session"):
        for module in stack.passed(kind):
            if module.name == "pam_umask.so" and kind == "session":
                found = pam.mask_by(module, account, accounts, mask, files)
                mask, mask_by = found if found is not None else (mask, mask_by)
            elif module.name == "pam_env.so":
                for variable, _, place in pam.variables_by(module, values, account, files):
                    if variable == "PATH":
                        by = place
    values.setdefault("PATH", path)
    return mask, mask_by, values, by, stack.open_ends


def _session(account: User, accounts: Accounts, shell: str, values: dict[str, str], mask: int) -> Session:
    group = accounts.group_numbered(account.gid)
    found: dict[str, Known] = dict.fromkeys(("TERM", "MAIL", "HOSTNAME", "RANDOM", "SECONDS", "PPID", "$"))
    found |= {
        "HOME": account.home or "/",
        "SHELL": account.shell or "/bin/sh",
        "LOGNAME": account.name,
        "USER": account.name,
        "PS1": "$ ",
        "PS2": "> ",
        "IFS": " \t\n",
        "-": "him",
        "0": f"-{shell}",
        "#": "0",
        **values,
    }
    if shell in ("bash", "rbash"):
        found |= {"BASH": account.shell, "BASH_VERSION": "5", "BASH_VERSINFO": "5", "SHLVL": "1"}
    if shell == "zsh":
        found |= {"ZSH_VERSION": "5"}
    if shell in _WITH_MORE:
        found |= {"UID": str(account.uid), "EUID": str(account.uid)}
    own_group = group.name if group is not None else ""
    return Session(account.name, account.uid, account.gid, own_group, found, mask, adds=shell in _WITH_MORE)

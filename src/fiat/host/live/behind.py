"""Who had logged in before a process came to be what it is: the kernel knows it, or what changed it says so."""

import os
from collections.abc import Mapping

from fiat.core.change.history import Actor
from fiat.core.model.accounts import Accounts
from fiat.core.text import bounded

_NOBODY_LOGGED_IN = 2**32 - 1
_NAMES = ("SUDO_USER", "DOAS_USER")
_LONGEST = 256
"""Characters of a name that are kept: no account has a longer one (LOGIN_NAME_MAX of sysconf(3))."""

_NUMBERS = ("PKEXEC_UID", "SUDO_UID")


def who_is_behind(accounts: Accounts, environment: Mapping[str, str] = os.environ) -> Actor | None:
    """Who had logged in where this process began; None where nothing says so.

    The login is the kernel's audit login id (``/proc/self/loginuid`` of proc(5)), which a change of user leaves as
    it is. Where there is none, which is so in most containers and for services, the environment may claim somebody:
    programs that change the user put whom they were called by there.
    """
    uid = _login_id()
    if uid is not None:
        found = accounts.user_numbered(uid)
        return Actor(uid, found.name if found else None)
    for variable in _NAMES:
        name = environment.get(variable, "")[:_LONGEST]
        if name:
            found = accounts.user_named(name)
            return Actor(found.uid if found else None, name, variable)
    for variable in _NUMBERS:
        number = bounded(environment.get(variable, ""), _NOBODY_LOGGED_IN - 1)
        if number is not None:
            found = accounts.user_numbered(number)
            return Actor(number, found.name if found else None, variable)
    return None


def _login_id() -> int | None:
    try:
        with open("/proc/self/loginuid", "rb") as file:
            uid = int(file.read(16))
    except (OSError, ValueError):  # a kernel without audit has none
        return None
    return None if uid == _NOBODY_LOGGED_IN else uid

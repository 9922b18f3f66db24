"""The sample host: its story, and its tree built for real."""

import errno
import os
from typing import NamedTuple

from fiat.app.trust import Trust
from fiat.core.errors import PathError, UntrustedFile
from fiat.demo.tour import SCENES, Scene


def scenes() -> tuple[Scene, ...]:
    """A night's work with Fiat, command by command."""
    return SCENES


class BuiltSample(NamedTuple):
    """Where the sample host's tree and its accounts are now, and in words what the tree has not; all of it is in
    ``folder``, and ``settings`` is a file that has a shell say of every command which accounts are meant.

    The accounts are ``followed`` where something is changed, for nobody but root can put others in their place.
    """

    top: str
    accounts: str
    left_out: list[str]
    followed: bool
    folder: str
    settings: str


def build(folder: str) -> BuiltSample:
    """Build the tree of the sample host under ``folder``, which is absent or empty; PathError where that fails."""
    from fiat.demo import build as building

    if os.geteuid() != 0:
        raise PathError(folder, errno.EPERM, "build the sample host in", "only root can give files to other users")
    left_out = building.build(folder)
    accounts = f"{folder}/{building.ACCOUNTS}"
    try:
        Trust(needed=True).expect_accounts(accounts)
        followed = True
    except UntrustedFile:
        followed = False
    return BuiltSample(
        f"{folder}{building.TOP}/skerry", accounts, left_out, followed, folder, f"{folder}/{building.SETTINGS}"
    )

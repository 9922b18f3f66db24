"""Accounts from a folder of files."""

import os

from fiat.core.errors import SnapshotError
from fiat.core.model.accounts import Accounts
from fiat.core.text import quoted
from fiat.core.words.accountfiles import first_person, parse_group, parse_passwd
from fiat.host.accounts.files import LARGEST, text_of
from fiat.host.textfile import bytes_of


def from_folder(folder: str) -> Accounts:
    """The accounts in the files ``passwd`` and ``group`` of ``folder``.

    Raises :class:`SnapshotError` where one is missing or is no such file.
    """
    users = parse_passwd(_read(folder, "passwd"), quoted(os.path.join(folder, "passwd")))
    groups = parse_group(_read(folder, "group"), quoted(os.path.join(folder, "group")))
    lowest = first_person(text_of(os.path.join(folder, "login.defs")))
    return Accounts(users, groups, f"the accounts in {quoted(folder)}", lowest)


def _read(folder: str, name: str) -> str:
    path = os.path.join(folder, name)
    try:
        return bytes_of(path, LARGEST).decode("utf-8", "surrogateescape")
    except OSError as error:
        raise SnapshotError(
            f"cannot read {quoted(path)}: {error.strerror or error}; "
            "--accounts takes a folder that holds the files passwd and group"
        ) from error

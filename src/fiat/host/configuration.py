"""Where the configuration is: this machine's, and that of whoever acts."""

import os
from typing import NamedTuple

from fiat.core.errors import UntrustedFile

_NAME = "fiat.toml"
_MACHINE = f"/etc/fiat/{_NAME}"


class Found(NamedTuple):
    """A file of the configuration: what it holds, or None where it is not there; ``why`` it is not used."""

    path: str
    data: bytes | None
    why: str = ""


def usual_places() -> list[str]:
    """The files of the machine and of whoever acts (XDG Base Directory Specification), whether they are there or not.

    It is looked for by every command, so without a library, which takes as long to load as all else.
    """
    home = os.environ.get("HOME", "")
    given = os.environ.get("XDG_CONFIG_HOME", "")
    own = given if given.startswith("/") else f"{home}/.config" if home.startswith("/") else ""
    return [_MACHINE, *([f"{own}/fiat/{_NAME}"] if own else [])]


def read(path: str, most: int) -> bytes:
    """What the file holds. Raises :class:`UntrustedFile` where others can have written it, and OSError."""
    from fiat.host.textfile import bytes_of  # every command looks for a configuration, and few have one
    from fiat.host.trust import FileRoute

    return bytes_of(FileRoute("the configuration", path, "keep it where only its owner can write").file(), most)


def found(path: str, most: int) -> Found:
    """One of the usual files. That of the machine must be one that nobody else can have written, or
    :class:`UntrustedFile` is raised; another's own is not used, such as that of the user who became root."""
    if not os.path.lexists(path):
        return Found(path, None)
    try:
        return Found(path, read(path, most))
    except UntrustedFile as error:
        if path == _MACHINE:
            raise
        return Found(path, None, str(error))
    except FileNotFoundError:
        return Found(path, None)
    except OSError as error:
        return Found(path, None, f"it cannot be read: {error.strerror}")

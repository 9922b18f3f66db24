"""Where arrangements are kept: those that come with Fiat, and those of this machine and of whoever acts."""

import os
import stat

from fiat.core.errors import ArrangementError
from fiat.core.text import quoted

_BUILTIN = os.path.join(os.path.dirname(os.path.dirname(__file__)), "arrangements", "builtin.toml")
_NAME = "arrangements.toml"
_MACHINE = "/etc/fiat"
_LARGEST = 1 << 20


def builtin_text() -> str:
    """The text of those that come with Fiat."""
    with open(_BUILTIN, encoding="utf-8") as file:
        return file.read()


def usual_places() -> list[str]:
    """The files of the machine, and of whoever acts unless that is root."""
    places = [f"{_MACHINE}/{_NAME}"]
    if os.geteuid() != 0:
        from platformdirs import user_config_dir

        places.append(os.path.join(user_config_dir("fiat"), _NAME))
    return places


def has_own() -> bool:
    """Whether there are files in the usual places."""
    return any(os.path.exists(place) for place in usual_places())


def text_of(place: str, *, required: bool) -> str | None:
    """The text of a file; None where there is none, unless it is ``required``.

    What is not ``required`` was not named by whoever acts: it counts only where nobody else can have written it.
    Raises :class:`ArrangementError`.
    """
    try:
        fd = os.open(place, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        if not required:
            return None
        raise ArrangementError(f"there is no file {quoted(place)}") from None
    except OSError as error:
        if not required and isinstance(error, PermissionError):
            return None  # somebody else's home, as after becoming another user
        raise ArrangementError(f"cannot read {quoted(place)}: {os.strerror(error.errno or 0)}") from None
    try:
        status = os.fstat(fd)
        if not stat.S_ISREG(status.st_mode) or status.st_size > _LARGEST:
            raise ArrangementError(f"{quoted(place)} is no file of arrangements: it is not regular, or too large")
        if not required and (status.st_uid not in (0, os.geteuid()) or status.st_mode & 0o022):
            raise ArrangementError(f"{quoted(place)} can be written by others, so it is not to be trusted")
        return os.read(fd, _LARGEST).decode()
    except UnicodeDecodeError:
        raise ArrangementError(f"{quoted(place)} is not UTF-8") from None
    finally:
        os.close(fd)

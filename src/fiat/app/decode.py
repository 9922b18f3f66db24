"""Decoding: any notation into all others."""

from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import quoted
from fiat.core.words import notation
from fiat.core.words.notation import ChangeReading, ModeReading, Reading


class Decoded(NamedTuple):
    """One word, and everything that it could mean, the likelier first."""

    word: str
    readings: list[Reading]
    host: Host


def decode(host: Host, word: str, *, on: int | None = None, as_umask: bool = False) -> Decoded:
    """What ``word`` means; clauses are applied to the mode ``on``, where it is given to nothing but clauses.

    Raises :class:`fiat.core.errors.FiatError` that says what is wrong with it.
    """
    if as_umask:
        return Decoded(word, [notation.read_umask(word, host.settings.umask)], host)
    readings = notation.read(word, host.accounts, on=on, mask=host.settings.umask)
    if on is not None and not any(isinstance(reading, ChangeReading) for reading in readings):
        raise NotationError("--on", f"--on goes with clauses, such as g-w,o=, and {quoted(word)} is none")
    return Decoded(word, readings, host)


def mode(host: Host, word: str) -> int:
    """The mode that ``word`` is in octal or letters; :class:`NotationError` where it is none."""
    for reading in notation.read(word, host.accounts):
        if isinstance(reading, ModeReading):
            return reading.mode
    raise NotationError(word, f"{quoted(word)} is no mode to apply clauses to; write it as 640 or rw-r-----")

"""Decoding: any notation into all others."""

from typing import NamedTuple

from fiat.core.model.host import Host
from fiat.core.words import notation
from fiat.core.words.notation import ModeReading, Reading


class Decoded(NamedTuple):
    """One word, and everything that it could mean, the likelier first."""

    word: str
    readings: list[Reading]
    host: Host


def decode(host: Host, word: str, *, on: str = "0000", as_umask: bool = False) -> Decoded:
    """What ``word`` means; clauses are applied to the mode ``on``.

    Raises :class:`fiat.core.errors.FiatError` that says what is wrong with it.
    """
    if as_umask:
        return Decoded(word, [notation.read_umask(word, host.settings.umask)], host)
    return Decoded(word, notation.read(word, host.accounts, on=_mode(on, host), mask=host.settings.umask), host)


def _mode(word: str, host: Host) -> int:
    modes = [reading.mode for reading in notation.read(word, host.accounts) if isinstance(reading, ModeReading)]
    return modes[0] if modes else 0

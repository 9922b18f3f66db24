"""What files hold, as far as it can be told that nobody is about to change it."""

import fcntl
import os
import signal

_PIECE = 1 << 20


def digest_of(fd: int, most: int) -> tuple[str, int] | None:
    """SHA-256 in hexadecimal of the regular file opened as ``fd`` for reading, and how many bytes that are.

    None where it has more than ``most`` bytes, or somebody has it open for writing, or that cannot be told.
    """
    import hashlib  # few commands need it

    if os.fstat(fd).st_size > most or not _nobody_writes(fd):
        return None
    found, size = hashlib.sha256(), 0
    while piece := os.read(fd, _PIECE):
        size += len(piece)
        if size > most:  # it grows
            return None
        found.update(piece)
    return (found.hexdigest(), size) if _nobody_writes(fd) else None


def _nobody_writes(fd: int) -> bool:
    """Whether nobody has the file open for writing, not by way of a mapping either.

    The kernel grants a read lease only then (fcntl(2), F_SETLEASE; it takes owning the file, or CAP_LEASE). It is
    given back at once. Who opens the file meanwhile waits as long; we would be sent a signal, which is made one
    that is passed over.
    """
    try:
        fcntl.fcntl(fd, fcntl.F_SETSIG, signal.SIGURG)
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_RDLCK)
        fcntl.fcntl(fd, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except OSError:
        return False
    return True

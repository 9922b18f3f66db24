"""Writing to stdout and stderr, whose reader may have gone, or whose disk may be full."""

import errno
import os
import sys
from contextlib import suppress
from typing import TextIO


class OutputCut(Exception):
    """Stdout takes no more, and there is no sense in finding out what would have been printed.

    ``status`` is what the command has come to so far.
    """

    def __init__(self, status: int, error: OSError) -> None:
        super().__init__(status, error)
        self.status = status
        self.error = error


def give_up(stream: TextIO) -> None:
    """Send the rest nowhere: Python would try to write what is left again, and complain again, when it ends."""
    with suppress(OSError, ValueError):
        null = os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, stream.fileno())
        os.close(null)
        stream.flush()


def say(text: str) -> None:
    """A line on stderr, after what was printed before it; where nobody can be told, nobody is."""
    with suppress(OSError):  # whoever writes there next is told
        sys.stdout.flush()  # what came before it should also be seen before it
    try:
        print(text, file=sys.stderr, flush=True)
    except OSError:
        give_up(sys.stderr)


def say_cut(command: str, error: OSError) -> None:
    """The last word about output that could not all be printed."""
    gone = error.errno == errno.EPIPE
    reason = "its reader has gone" if gone else error.strerror or str(error)
    say(f"{command}: the output was cut short: {reason}")

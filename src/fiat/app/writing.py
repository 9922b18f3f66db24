"""Writing what was made for others to look at."""

import errno
import os
from typing import IO

from fiat.app.problems import Problem, raise_problem
from fiat.core.errors import PathError
from fiat.host import wholefile


def write_file(path: str, data: bytes, problem: Problem = raise_problem) -> int | None:
    """Write ``data`` to ``path``, in place of a regular file that is there: whole or not at all, for its owner alone.

    How many bytes were written; None where they could not be, which is a ``problem``.
    """

    def fill(file: IO[bytes], name: str) -> None:
        file.write(data)

    try:
        return wholefile.write(path, fill)
    except OSError as error:
        number = error.errno or errno.EIO
        own = error.strerror or ""
        problem(PathError(path, number, "write to", own if own != os.strerror(number) else ""))
        return None

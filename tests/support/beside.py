"""A process beside this one, forked from it, that does what it is sent."""

import os
import sys
import traceback
from collections.abc import Callable
from multiprocessing.connection import Connection, Pipe


class Beside:
    """A process that does ``serve`` with its end of a pipe; ``there`` is the other. It ends with the ``with`` block."""

    def __init__(self, serve: Callable[[Connection], object]) -> None:
        self.there, away = Pipe()
        sys.stdout.flush()
        self.pid = os.fork()
        if not self.pid:
            self.there.close()  # else this process would wait for itself, should the other one stop
            try:
                serve(away)
            except EOFError:
                pass
            except BaseException:
                traceback.print_exc()
            finally:
                sys.stderr.flush()
                os._exit(0)
        away.close()

    def __exit__(self, *_: object) -> None:
        self.there.close()
        os.waitpid(self.pid, 0)

"""Results that are taken instead of shown, to be made into something else."""

from __future__ import annotations

from fiat.app.status import ExitStatus
from fiat.render.model import Result
from fiat.render.output import Output


class KeptOutput(Output):
    """Keeps the results of a command; what goes wrong is said as ever. After :meth:`go_on` it shows what comes."""

    def __init__(self, command: str, format: str, *, quiet: bool) -> None:
        super().__init__(command, format, quiet=quiet)
        self.results: list[Result] = []
        self._keeps = True

    def go_on(self) -> None:
        """Show from now on what is added."""
        self._keeps = False

    def add(self, result: Result, *, count: int = 1) -> None:
        """Keep a result, or show it."""
        if not self._keeps:
            super().add(result, count=count)
            return
        self.tell()
        self.results.append(result)
        self.answered += count

    def finish(self, status: ExitStatus | None = None) -> int:
        """Where results are kept: leave what comes after them until all is shown."""
        if not self._keeps:
            return super().finish(status)
        self.status = status if status is not None else self.status
        return self.status

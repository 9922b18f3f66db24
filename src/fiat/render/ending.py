"""How a run ended: where it is in the history, and the way back."""

from collections.abc import Iterator

from fiat.app.running import RunResult
from fiat.core.text import Fields, counted, shell_word
from fiat.render.model import BLANK, Block, Prose, unbroken


def history_fields(result: RunResult) -> Fields | None:
    """The machine output of where a run is in the history."""
    return None if result.number is None else {"run": result.number, "file": result.place}


def history_option(place: str | None) -> str:
    """What a command line needs to speak of the same history."""
    return "" if place is None else f" --history {shell_word(place)}"


def ending(result: RunResult, history: str | None, does: str = "puts it back") -> Iterator[Block]:
    """The last line: what to type for the way back."""
    if result.number is None or not (result.changed or result.failed or result.left):
        return
    rest = f" {counted(result.left, 'path')} not tried." if result.left else ""
    if result.astray:
        rest += f" {counted(result.astray, 'path')} neither as before nor as planned: fiat history {result.number}"
        rest += f"{history_option(history)} shows what was found."
    yield BLANK
    back = unbroken(f"fiat undo {result.number}{history_option(history)}")
    text = f"Run {result.number} in the history; {back} {does}.{rest}"
    yield Prose(text)

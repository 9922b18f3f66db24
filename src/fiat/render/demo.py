"""How the demo looks."""

from collections.abc import Iterator

from fiat.app.hosts import SAMPLE
from fiat.app.sample import BuiltSample
from fiat.core.text import shell_word, visible
from fiat.demo.tour import Scene
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Verbatim


def introduction(scenes: int) -> Iterator[Block]:
    """What is about to be shown, and what it is shown on."""
    yield Prose(
        f"One night on skerry, in {scenes} commands. Everything runs on a sample host that is held in a file; "
        f"add --from {SAMPLE} to any command to try it yourself."
    )


GO_ON = "Enter goes on, q ends it: "
"""What is asked before each chapter."""


def scene_blocks(scene: Scene, command: str) -> Iterator[Block]:
    """The story of a scene, and the command that follows."""
    if scene.part:
        yield from (BLANK, BLANK, Verbatim(Span(f"== {scene.part} ==", "strong")))
    yield BLANK
    yield Prose(scene.story)
    yield BLANK
    yield Verbatim(Span(f"$ fiat {command}", "changed"))
    yield BLANK


def ending() -> Iterator[Block]:
    """Where to go from here."""
    yield BLANK
    yield Prose(
        "That was the work: look, understand, change, verify, keep. To try changes for real, as root: "
        "fiat demo /opt/skerry builds this tree there."
    )


class BuiltView(PlainResult):
    """The tree that was built, and what to try on it."""

    def __init__(self, found: BuiltSample) -> None:
        self.found = found

    def blocks(self) -> Iterator[Block]:
        """Where it is, a few commands, and what it has not."""
        top, accounts = shell_word(self.found.top), shell_word(self.found.accounts)
        yield Prose(f"The sample host's tree is in {top}, its accounts in {accounts}. Have them meant, and try:")
        yield BLANK
        yield Verbatim(f". {shell_word(self.found.settings)}", 1)
        for line in (
            f"fiat show {top}/gauge/raw",
            f"fiat why surveyor read {top}/observatory/2026/november/barometer.csv",
            f"fiat who {top}/dropbox",
            f"fiat set {top}/observatory --mode o+x --preview",
        ):
            yield Verbatim(line, 1)
        yield BLANK
        if not self.found.followed:
            yield Prose(
                "Others can write to a directory on the way to it, and could put other accounts in the place of these: "
                f"to change something there, add --trust-file {accounts}, or build it where only root can write."
            )
            yield BLANK
        yield Verbatim("Unlike the sample host held in the file:")
        for line in self.found.left_out:
            yield Prose(f"{visible(line)}, so that the tree can simply be removed", 1)
        yield BLANK
        yield Verbatim("Remove all of it, and forget the accounts, with:")
        yield Verbatim(f"rm -r {shell_word(self.found.folder)}; unset FIAT_ACCOUNTS", 1)

"""What was saved, and where."""

from collections.abc import Iterator

from fiat.app.save import Saved
from fiat.core.text import Fields, counted, shell_word, visible
from fiat.render.model import Block, PlainResult, Prose, unbroken


class SavedView(PlainResult):
    """The trees that were saved, and the file; of this host as it is where that is ``live``."""

    def __init__(self, saved: Saved, *, live: bool) -> None:
        self.saved = saved
        self.live = live

    def records(self) -> Iterator[Fields]:
        """One record for each tree that was saved."""
        for tree in self.saved.capture.trees:
            yield {
                "path": tree.top.path,
                "entries": len(tree),
                "profiles": len(tree.profiles),
                "unread": len(tree.troubles),
                "left_out": tree.skipped,
            }

    def envelope(self) -> Fields:
        """The file, what was removed for it, and what bears later dates."""
        saved = self.saved
        people = saved.capture.people
        return {
            "file": saved.path,
            "bytes": saved.size,
            "users": len(people.users),
            "groups": len(people.groups),
            "removed": saved.removed,
            "ahead": saved.ahead,
        }

    def blocks(self) -> Iterator[Block]:
        """What was saved, in words: the file first."""
        saved = self.saved
        assert saved.path is not None
        yield Prose(f"Saved to {unbroken(visible(saved.path))} ({_bytes(saved.size)}):", hanging="  ")
        for tree in saved.capture.trees:
            text = f"{unbroken(visible(tree.top.path))}: {counted(len(tree), 'object')}"
            if tree.troubles:
                text += f", and {counted(len(tree.troubles), 'place')} that could not be looked at"
            yield Prose(text, 1, hanging="  ")
            for point in tree.skipped:
                yield Prose(f"without what is mounted at {unbroken(visible(point))} (--across-mounts)", 3, hanging="  ")
        people = saved.capture.people
        yield Prose(f"with {counted(len(people.users), 'user')} and {counted(len(people.groups), 'group')}", 1)
        if self.live:
            command = unbroken(f"fiat compare {shell_word(saved.path)} live")
            yield Prose(f"What has changed since, whenever you ask: {command}", hanging="  ")
        if saved.removed:
            last = visible(saved.removed[-1])
            other = "other" if {*saved.removed} & {*saved.ahead} else "older"
            yield Prose(f"Removed {counted(len(saved.removed), f'{other} snapshot')}, the last {last}.", hanging="  ")
        if saved.ahead:
            last = visible(saved.ahead[-1])
            bore = f"{counted(len(saved.ahead), 'snapshot')} there bore a later date, the last {last}"
            text = f"{bore}: a clock ran ahead, then or now."
            yield Prose(text, hanging="  ")


def _bytes(size: int) -> str:
    if size < 10_000:
        return f"{size:,} bytes"
    return f"{size / 1e3:,.0f} kB" if size < 10_000_000 else f"{size / 1e6:,.0f} MB"

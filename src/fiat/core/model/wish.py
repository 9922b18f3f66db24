"""What is to be changed, as asked for; and advice, which is a wish with whom it is for."""

from typing import NamedTuple

from fiat.core.model.accesslist import Entry
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS
from fiat.core.model.modechange import ModeChange
from fiat.core.model.posture import Kind, Posture
from fiat.core.text import counted


class EntryWish(NamedTuple):
    """An entry to be added or to replace the one for the same.

    With ``execute_if_any`` (a capital X, as in the clauses of a mode) it gets
    execute as well on directories and on what somebody may execute already.
    """

    entry: Entry
    execute_if_any: bool = False

    def on(self, posture: Posture) -> Entry:
        """The entry for an object that has ``posture`` now."""
        if self.execute_if_any and (posture.directory or posture.mode & EXECUTE_BITS):
            return self.entry._replace(permissions=self.entry.permissions | EXECUTE)
        return self.entry


class ListWish(NamedTuple):
    """What is to become of a list. Of entries to ``remove`` the permissions do not count."""

    entries: tuple[EntryWish, ...] = ()
    remove: tuple[Entry, ...] = ()
    mask: int | None = None
    drop: bool = False

    @property
    def changes(self) -> bool:
        """Whether anything is asked for."""
        return self != ListWish()


class Wish(NamedTuple):
    """Everything one command line asks for. ``like`` is another path's posture, which the rest is done on top of.

    ``flags`` are to be set, ``no_flags`` cleared; with what is ``like`` another path, its flags do not go over.
    """

    mode: ModeChange | None = None
    file_mode: ModeChange | None = None
    dir_mode: ModeChange | None = None
    uid: int | None = None
    gid: int | None = None
    access: ListWish = ListWish()
    default: ListWish = ListWish()
    like: Posture | None = None
    flags: tuple[str, ...] = ()
    no_flags: tuple[str, ...] = ()

    @property
    def only_ownership(self) -> bool:
        """Whether nothing but the owner and the group is to change."""
        return self._replace(uid=None, gid=None) == Wish()

    def concerns(self, posture: Posture) -> bool:
        """Whether any of this is about objects of this kind; a symlink has nothing but an owner."""
        if self.uid is not None or self.gid is not None or self.like is not None:
            return True
        if posture.kind is Kind.SYMLINK:
            return False
        if (self.flags or self.no_flags) and posture.kind in (Kind.FILE, Kind.DIRECTORY):
            return True
        return self.mode_for(posture) is not None or self.access.changes or (posture.directory and self.default.changes)

    def mode_for(self, posture: Posture) -> ModeChange | None:
        """The change of mode for an object of this kind."""
        return (self.dir_mode if posture.directory else self.file_mode) or self.mode


class Advice(NamedTuple):
    """Something that would have to change so that ``path`` refuses no more.

    ``effect`` says in words whom it is for. ``wish`` is what to ask of that
    path, None where it is not Fiat's to do. ``others`` counts users, beside whom it
    is for, who would gain something there.
    """

    effect: str
    path: str
    wish: Wish | None = None
    others: int = 0
    group: int | None = None
    suffices: bool = False

    def with_others(self) -> str:
        """The effect in words, with how many others would gain by it."""
        if not self.others:
            return self.effect
        gain = "gains" if self.others == 1 else "gain"
        return f"{self.effect.replace(' alone', '')}; {counted(self.others, 'other')} {gain} by it"

"""Arrangements: named postures for a directory and what is in it, with places for who they are about."""

from typing import NamedTuple

KINDS_OF_WHO = {
    "user": "a user",
    "group": "a group",
    "who": "a user, or group:NAME",
    "who...": "users, or group:NAME, several with commas",
}
"""What an arrangement may take, in words."""


class ArrangementParty(NamedTuple):
    """Who is given for an arrangement: a user or a group, by number."""

    group: bool
    number: int

    def text(self) -> str:
        """As it stands in an access entry: ``user:7105``."""
        return f"{'group' if self.group else 'user'}:{self.number}"


class Pattern(NamedTuple):
    """What becomes of an object; texts may hold ``{1}``, ``{2}``, ``{each}`` and ``{top}``, the owner of the directory
    that is arranged.

    Where there is a mode, the access list and the default list become just what is given; else they are kept, but for
    ``entries`` and ``no_entries``.
    """

    owner: str | None = None
    group: str | None = None
    mode: str | None = None
    entries: tuple[str, ...] = ()
    default: tuple[str, ...] = ()
    no_entries: tuple[str, ...] = ()


class Arrangement(NamedTuple):
    """One arrangement. ``takes`` are kinds of :data:`KINDS_OF_WHO`; ``owned_by`` is whose objects alone are meant.

    ``only`` is ``file`` or ``directory`` where it is for one of these alone. ``without_lists`` says what it comes to
    on a file system that keeps no lists; where it says nothing, it cannot be there. With
    ``opens_the_way``, those that it takes are let as far as the path.
    """

    name: str
    takes: tuple[str, ...]
    about: str
    when: str = ""
    prevents: str = ""
    short: str = ""
    without_lists: str = ""
    owned_by: str | None = None
    only: str | None = None
    opens_the_way: bool = False
    directory: Pattern = Pattern()
    file: Pattern = Pattern()
    source: str = ""
    called: tuple[str, ...] = ()

    @property
    def usage(self) -> str:
        """``team:GROUP``: the name, with what it takes."""
        return self.name + (f":{','.join(self.words)}" if self.takes else "")

    @property
    def words(self) -> tuple[str, ...]:
        """What stands for each of those that it takes."""
        usual = {"user": "USER", "group": "GROUP", "who": "WHO", "who...": "WHO,…"}
        return self.called or tuple(usual[kind] for kind in self.takes)


class ArrangementChoice(NamedTuple):
    """An arrangement with whom it is about."""

    arrangement: Arrangement
    whom: tuple[ArrangementParty, ...] = ()

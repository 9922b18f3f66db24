"""Which sources the name service asks, in which order, and when it stops (nsswitch.conf(5))."""

from __future__ import annotations

import re
from enum import IntEnum
from typing import NamedTuple


class Status(IntEnum):
    """What a source says to a question; the numbers are those of ``enum nss_status`` (nss.h)."""

    TRYAGAIN = -2
    UNAVAIL = -1
    NOTFOUND = 0
    SUCCESS = 1


class Source(NamedTuple):
    """One source of a database, with what is done after each status: ``continue``, ``return`` or ``merge``."""

    name: str
    actions: tuple[tuple[Status, str], ...] = ((Status.SUCCESS, "return"),)

    def after(self, status: Status) -> str:
        """What is done after ``status``."""
        return dict(self.actions).get(status, "continue")


FILES = Source("files")
_WORD = re.compile(r"\s*(?:\[([^]]*)\]|([^\s\[\]]+))")
_REACTION = re.compile(r"\s*(!?)\s*(success|notfound|unavail|tryagain)\s*=\s*(return|continue|merge)(?=\s|$)", re.I)


def sources_of(text: str, database: str) -> tuple[Source, ...]:
    """The sources of ``database`` by the text of nsswitch.conf(5); none where it has no such line.

    Of several lines the last counts. A line that is wrong anywhere counts as missing.
    """
    found: tuple[Source, ...] = ()
    for line in text.split("\n"):
        name, colon, rest = line.partition("#")[0].partition(":")
        if colon and name.strip() == database:
            found = _parsed(rest)
    return found


def _parsed(rest: str) -> tuple[Source, ...]:
    sources: list[Source] = []
    place = 0
    while rest[place:].strip():
        word = _WORD.match(rest, place)
        if word is None:
            return ()
        place = word.end()
        if word[2] is not None:
            sources.append(Source(word[2]))
        elif not sources or (actions := _actions(word[1], sources[-1])) is None:
            return ()
        else:
            sources[-1] = sources[-1]._replace(actions=actions)
    return tuple(sources)


def _actions(text: str, source: Source) -> tuple[tuple[Status, str], ...] | None:
    """The actions of ``source`` with those in brackets; None where these are no reactions."""
    found = dict(source.actions)
    place = 0
    while text[place:].strip():
        one = _REACTION.match(text, place)
        if one is None:
            return None
        place = one.end()
        named = Status[one[2].upper()]
        for status in Status:
            if (status is named) != bool(one[1]):
                found[status] = one[3].lower()
    return tuple(found.items())

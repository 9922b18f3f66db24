"""A time as a person says it: ``yesterday 18:00``, ``5m``, ``07:09``, ``monday``, ``2026-11-25T18:00``."""

import re
from datetime import date, datetime, time, timedelta
from enum import Enum

from fiat.core.errors import NotationError
from fiat.core.text import quoted

_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86_400, "w": 604_800}
_AGO = re.compile(r"(\d{1,6}|an?) ?(s|secs?|seconds?|m|mins?|minutes?|h|hours?|d|days?|w|weeks?)(?: ago)?")
_OF_DAY = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)(?::([0-5]\d))?")
_RIGHT = "write 'yesterday 18:00', 'monday', '07:09', '5m', '3 hours ago' or 2026-11-25T18:00"


class Edge(Enum):
    """Which edge of a day is meant where no time of day is said."""

    BEGINNING = 0
    END = 1


def parse_time(word: str, now: datetime, edge: Edge = Edge.END) -> datetime:
    """The time that ``word`` means at the time ``now``, which has a zone; in that zone where the word names none.

    A day without a time of day means its ``edge``, or ``now`` where it has not ended. A day of the week is the
    last one that has begun; a time of day alone the last time that it was so late. Raises :class:`NotationError`.
    """
    said = " ".join(word.lower().split())
    if said == "now":
        return now
    ago = _AGO.fullmatch(said)
    if ago is not None:
        count = 1 if ago[1] in ("a", "an") else int(ago[1])
        try:
            return now - timedelta(seconds=count * _UNITS[ago[2][0]])
        except OverflowError as error:
            raise NotationError(word, f"{quoted(word)} is before all time; {_RIGHT}") from error
    alone = _OF_DAY.fullmatch(said)
    if alone is not None:
        found = datetime.combine(now.date(), _clock(alone), now.tzinfo)
        return found if found <= now else found - timedelta(days=1)
    day, _, clock = said.partition(" ")
    back = _days_back(day, now)
    if back is not None:
        of_day = _OF_DAY.fullmatch(clock)
        if clock and of_day is None:
            raise NotationError(clock, f"{quoted(clock)} is no time of day; {_RIGHT}")
        meant = (now - timedelta(days=back)).date()
        found = _edge_of(meant, now, edge) if of_day is None else datetime.combine(meant, _clock(of_day), now.tzinfo)
        if of_day is not None and found > now and day in _DAYS:
            found -= timedelta(days=7)  # the time of today's name that has not come yet
        return min(found, now) if of_day is None else found
    try:
        given = datetime.fromisoformat(word.strip())
    except ValueError as error:
        raise NotationError(word, f"{quoted(word)} is no time; {_RIGHT}") from error
    if re.fullmatch(r"\d{4}-?\d\d-?\d\d", word.strip()):
        return min(_edge_of(given.date(), now, edge), now)
    return given if given.tzinfo is not None else given.replace(tzinfo=now.tzinfo)


def _days_back(day: str, now: datetime) -> int | None:
    if day in ("today", "yesterday"):
        return int(day == "yesterday")
    return (now.weekday() - _DAYS.index(day)) % 7 if day in _DAYS else None


def _clock(found: re.Match[str]) -> time:
    return time(int(found[1]), int(found[2]), int(found[3] or 0))


def _edge_of(day: date, now: datetime, edge: Edge) -> datetime:
    return datetime.combine(day, time() if edge is Edge.BEGINNING else time(23, 59, 59, 999_999), now.tzinfo)

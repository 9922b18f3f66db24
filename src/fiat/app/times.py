"""A time as a person says it: ``yesterday 18:00``, ``3 hours ago``, ``monday``, ``2026-11-25T18:00``."""

import re
from datetime import datetime, time, timedelta

from fiat.core.errors import NotationError
from fiat.core.text import quoted

_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_UNITS = {"minute": 60, "hour": 3600, "day": 86_400, "week": 604_800}
_AGO = re.compile(r"(\d{1,6}|an?) (minute|hour|day|week)s? ago")
_OF_DAY = re.compile(r"([01]?\d|2[0-3]):([0-5]\d)(?::([0-5]\d))?")
_RIGHT = "write 'yesterday 18:00', 'monday', '3 hours ago' or 2026-11-25T18:00"


def parse_time(word: str, now: datetime) -> datetime:
    """The time that ``word`` means at the time ``now``, which has a zone; in that zone where the word names none.

    A day without a time of day means its end, or ``now`` where it has not ended. A day of the week is the
    last one that has begun. Raises :class:`NotationError`.
    """
    said = " ".join(word.lower().split())
    if said == "now":
        return now
    ago = _AGO.fullmatch(said)
    if ago is not None:
        count = 1 if ago[1] in ("a", "an") else int(ago[1])
        try:
            return now - timedelta(seconds=count * _UNITS[ago[2]])
        except OverflowError as error:
            raise NotationError(word, f"{quoted(word)} is before all time; {_RIGHT}") from error
    day, _, clock = said.partition(" ")
    back = _days_back(day, now)
    if back is not None:
        of_day = _OF_DAY.fullmatch(clock)
        if clock and of_day is None:
            raise NotationError(clock, f"{quoted(clock)} is no time of day; {_RIGHT}")
        date = (now - timedelta(days=back)).date()
        found = _end_of(date, now) if of_day is None else datetime.combine(date, _clock(of_day), now.tzinfo)
        if of_day is not None and found > now and day in _DAYS:
            found -= timedelta(days=7)  # the time of today's name that has not come yet
        return min(found, now) if of_day is None else found
    try:
        given = datetime.fromisoformat(word.strip())
    except ValueError as error:
        raise NotationError(word, f"{quoted(word)} is no time; {_RIGHT}") from error
    if re.fullmatch(r"\d{4}-?\d\d-?\d\d", word.strip()):
        return min(_end_of(given.date(), now), now)
    return given if given.tzinfo is not None else given.replace(tzinfo=now.tzinfo)


def _days_back(day: str, now: datetime) -> int | None:
    if day in ("today", "yesterday"):
        return int(day == "yesterday")
    return (now.weekday() - _DAYS.index(day)) % 7 if day in _DAYS else None


def _clock(found: re.Match[str]) -> time:
    return time(int(found[1]), int(found[2]), int(found[3] or 0))


def _end_of(date: object, now: datetime) -> datetime:
    return datetime.combine(date, time(23, 59, 59, 999_999), now.tzinfo)  # type: ignore[arg-type]

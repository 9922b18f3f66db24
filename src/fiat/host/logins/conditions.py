"""Whether a condition of a shell holds, as far as that is known: the words of test(1p), and how truths go together."""

import fnmatch
import os
import re

Known = str | None
"""A value, or None where it is not known."""

Truth = bool | None
"""Whether a command succeeds; None where that is not known."""


def negated(one: Truth) -> Truth:
    """Whether it does not hold."""
    return None if one is None else not one


def both(one: Truth, other: Truth) -> Truth:
    """Whether both hold."""
    if one is False or other is False:
        return False
    return None if one is None or other is None else True


def either(one: Truth, other: Truth) -> Truth:
    """Whether one of them holds, at least."""
    return negated(both(negated(one), negated(other)))


def _is_number(word: str) -> bool:
    return re.fullmatch(r"\s*[-+]?\d+\s*", word) is not None


class Tested:
    """The words of a test(1p)."""

    def __init__(self, words: list[Known]) -> None:
        self.words = words

    def truth(self) -> Truth:
        """Whether it holds."""
        words = self.words
        for sign in ("-o", "||"):
            if sign in words[1:-1]:
                place = words.index(sign, 1)
                return either(Tested(words[:place]).truth(), Tested(words[place + 1 :]).truth())
        for sign in ("-a", "&&"):
            if sign in words[1:-1]:
                place = words.index(sign, 1)
                return both(Tested(words[:place]).truth(), Tested(words[place + 1 :]).truth())
        if words[:1] == ["!"]:
            return negated(Tested(words[1:]).truth())
        if len(words) == 1:
            return None if words[0] is None else words[0] != ""
        if len(words) == 2:
            return self._of_one(words[0], words[1])
        return self._of_two(*words) if len(words) == 3 else None if words else False

    @staticmethod
    def _of_one(sign: Known, value: Known) -> Truth:
        if value is None or sign is None:
            return None
        tests = {"-d": os.path.isdir, "-f": os.path.isfile, "-e": os.path.exists, "-h": os.path.islink}
        if sign in ("-n", "-z"):
            return (value != "") == (sign == "-n")
        if sign in ("-r", "-s", "-x"):
            # whether the one who logs in may read it is not asked: files of a login are there to be read
            return os.path.exists(value) if sign != "-s" else os.path.exists(value) and os.path.getsize(value) > 0
        return tests[sign](value) if sign in tests else None

    @staticmethod
    def _of_two(one: Known, sign: Known, other: Known) -> Truth:
        if one is None or other is None:
            return None
        if sign in ("=", "=="):
            return fnmatch.fnmatchcase(one, other) if sign == "==" else one == other
        if sign == "!=":
            return one != other
        numbers = ("-eq", "-ne", "-gt", "-ge", "-lt", "-le")
        if sign in numbers and not (_is_number(one) and _is_number(other)):
            return False
        if sign in numbers:
            a, b = int(one), int(other)
            return {"-eq": a == b, "-ne": a != b, "-gt": a > b, "-ge": a >= b, "-lt": a < b, "-le": a <= b}[sign]
        return None

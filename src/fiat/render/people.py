"""Sets of principals in machine output: names, in the order of the universe."""

import json
from collections.abc import Callable
from itertools import compress
from typing import NamedTuple

import numpy as np

from fiat.core.model.principals import Universe
from fiat.core.text import Fields
from fiat.core.words import naming


class ShownPeople(NamedTuple):
    """Those of a universe who are asked about, as sets."""

    users: int
    groups: int
    anyone_else: int


class PeopleFields:
    """Writes sets of the principals of one universe, each once; ``words`` says who they are in short."""

    def __init__(self, universe: Universe, shown: ShownPeople, words: Callable[[int], str]) -> None:
        self._shown = shown
        self._words = words
        self._bytes = len(universe.principals) // 8 + 1
        self._names = [naming.word_for(who).removeprefix("group:") for who in universe.principals]
        self._fields: dict[int, Fields] = {}
        self._json: dict[int | None, str] = {None: "null"}

    def fields(self, bits: int | None, opened: int | None = 0) -> Fields | None:
        """The set as a record, with those who are ``opened``: of whom it is not known; None where the right does not
        apply."""
        if bits is None:
            return None
        if opened:
            return {**(self.fields(bits) or {}), "not_known": self._named(opened & self._shown.users)}
        found = self._fields.get(bits)
        if found is None:
            found = self._fields[bits] = {
                "users": self._named(bits & self._shown.users),
                "groups": self._named(bits & self._shown.groups),
                "anyone_else": bool(bits & self._shown.anyone_else),
                "short": self._words(bits),
            }
        return found

    def json(self, bits: int | None, opened: int | None = 0) -> str:
        """The rendered JSON object of who is asked about."""
        if opened:
            return json.dumps(self.fields(bits, opened))
        found = self._json.get(bits)
        if found is None:
            found = self._json[bits] = json.dumps(self.fields(bits))
        return found

    def _named(self, bits: int) -> list[str]:
        chosen = np.unpackbits(np.frombuffer(bits.to_bytes(self._bytes, "little"), np.uint8), bitorder="little")
        return list(compress(self._names, chosen.tolist()))

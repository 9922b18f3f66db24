"""Reading a file of expectations: TOML, with messages that name line and key, and what would be right."""

import re
from collections.abc import Callable, Mapping
from typing import Any, NoReturn

from fiat.core.errors import ExpectationError, FiatError
from fiat.core.expect.expectation import Demand, Expectation, NamedPeople, StatedPosture
from fiat.core.model.accesslist import AccessList
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import ArrangementChoice
from fiat.core.model.finding import WEIGHTS
from fiat.core.model.right import ALL, Right, right_named
from fiat.core.text import near, quoted
from fiat.core.words.entries import parse_list
from fiat.core.words.modes import parse_mode
from fiat.core.words.toml import parse_toml

_RIGHTS = {right.name: right for right in ALL}
_POSTURE = ("owner", "group", "mode", "file-mode", "dir-mode", "list", "default-list", "arrangement")
_OTHERS = ("name", "paths", "below", "except", "weight", "because", "may-replace")
_KEYS = (*_OTHERS, *_RIGHTS, *_POSTURE)


def parse(
    data: bytes, source: str, accounts: Accounts, arranged: Callable[[str], ArrangementChoice]
) -> list[Expectation]:
    """The expectations in the file ``source``, which holds ``data``; ``arranged`` reads the name of an arrangement.

    Raises :class:`ExpectationError` for what is wrong.
    """
    found = parse_toml(data, source, ExpectationError)
    tables = found.get("expect")
    other = [key for key in found if key != "expect"]
    if other or not isinstance(tables, list) or not tables:
        raise ExpectationError(f"{quoted(source)} is right as tables that begin with [[expect]]")
    lines = _Lines(data.decode(), source)
    expectations: list[Expectation] = []
    names: dict[str, str] = {}
    for number, table in enumerate(tables):
        one = _Reader(table, lines, number, accounts, arranged).expectation()
        if one.name in names:
            lines.wrong(number, "name", f"{quoted(one.name)} is the name of the one in {names[one.name]} already")
        names[one.name] = one.where
        expectations.append(one)
    return expectations


class _Lines:
    """Where things stand in the file."""

    def __init__(self, text: str, source: str) -> None:
        self.source = source
        self._lines = text.split("\n")
        self._heads = [place for place, line in enumerate(self._lines) if re.match(r"\s*\[\[\s*expect\s*\]\]", line)]

    def line(self, number: int, key: str = "") -> int:
        """The line of a key in the table of this number, or that of the table."""
        if number >= len(self._heads):
            return 1
        first = self._heads[number]
        end = self._heads[number + 1] if number + 1 < len(self._heads) else len(self._lines)
        for place in range(first, end):
            if key and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*[.=]", self._lines[place]):
                return place + 1
        return first + 1

    def where(self, number: int, key: str = "") -> str:
        """The file and the line."""
        return f"{quoted(self.source)}, line {self.line(number, key)}"

    def wrong(self, number: int, key: str, what: str) -> NoReturn:
        """Raise that a key is wrong."""
        raise ExpectationError(f"{self.where(number, key)}: {key}: {what}" if key else f"{self.where(number)}: {what}")


class _Reader:
    """Reads one table."""

    def __init__(
        self, table: Any, lines: _Lines, number: int, accounts: Accounts, arranged: Callable[[str], ArrangementChoice]
    ) -> None:
        self.lines = lines
        self.number = number
        self.accounts = accounts
        self.arranged = arranged
        if not isinstance(table, dict):
            self.wrong("", "an expectation is a table with keys such as name and paths")
        self.table: Mapping[str, Any] = table

    def wrong(self, key: str, what: str) -> NoReturn:
        self.lines.wrong(self.number, key, what)

    def expectation(self) -> Expectation:
        for key in self.table:
            if key not in _KEYS:
                self.wrong(key, f"there is no such key{near(key, _KEYS)}")
        name = self._text("name") or self.wrong("", "name is missing; it is what the expectation is called")
        paths = self._texts("paths") or self.wrong("", 'paths is missing; right is paths = ["/srv/skerry/keys"]')
        for path in paths:
            if not path.startswith("/"):
                self.wrong("paths", f"{quoted(path)} does not begin with /: a file of expectations is nowhere itself")
            if "\0" in path:
                self.wrong("paths", f"{quoted(path)} holds a NUL, which no path does")
        demands = tuple(self._demand(key, right) for key, right in _RIGHTS.items() if self._is_demand(key))
        stated = self._stated()
        replace = self.table.get("may-replace")
        may_replace = None if replace is None else self._people("may-replace", replace, ("only",)).get("only")
        if not demands and stated == StatedPosture() and may_replace is None:
            self.wrong("", 'nothing is expected of it; right is for example read = { only = ["root", "steward"] }')
        weight = self._text("weight") or "danger"
        if weight not in WEIGHTS:
            self.wrong("weight", f"{quoted(weight)} is no weight; right is one of {', '.join(WEIGHTS)}")
        below = self.table.get("below", False)
        if not isinstance(below, bool):
            self.wrong("below", "right is true or false")
        where = self.lines.where(self.number)
        return Expectation(
            name,
            tuple(dict.fromkeys(path.rstrip("/") or "/" for path in paths)),
            below,
            self._texts("except"),
            demands,
            stated,
            may_replace,
            weight,
            self._text("because"),
            where,
        )

    def _is_demand(self, key: str) -> bool:
        """``list`` is a right where it has people, and a list where it has entries."""
        return key in self.table and (key != "list" or isinstance(self.table[key], dict))

    def _demand(self, key: str, right: Right) -> Demand:
        found = self._people(key, self.table[key], ("only", "always", "never"))
        return Demand(right_named(right.name), found.get("only"), found.get("always", ()), found.get("never", ()))

    def _people(self, key: str, value: Any, known: tuple[str, ...]) -> dict[str, tuple[NamedPeople, ...]]:
        example = 'right is for example { only = ["root", "group:watch"] }'
        if not isinstance(value, dict) or not value:
            self.wrong(key, example)
        found = {}
        for name, words in value.items():
            if name not in known:
                self.wrong(key, f"{quoted(name)} is none of {', '.join(known)}{near(name, known)}")
            if not isinstance(words, list) or not all(isinstance(word, str) for word in words):
                self.wrong(key, f"{name} is right as a list of names; {example}")
            found[name] = tuple(self._whom(key, word) for word in words)
        return found

    def _whom(self, key: str, word: str) -> NamedPeople:
        if word in ("anyone-else", "everyone"):
            return NamedPeople(word, -1, word)
        kind, colon, rest = word.partition(":")
        try:
            if colon and kind == "group":
                return NamedPeople("group", self.accounts.group_id(rest), word)
            if colon and kind == "uid":
                return NamedPeople("user", self.accounts.user_id(rest), word)
            name = rest if colon and kind == "user" else word
            account = self.accounts.user_named(name)
            uid = self.accounts.user_id(name) if account is None else account.uid
            return NamedPeople("user", uid, word, None if account is None else account.name)
        except FiatError as error:
            self.wrong(key, f"{error}; right is a user, uid:NUMBER, group:NAME, anyone-else or everyone")

    def _stated(self) -> StatedPosture:
        owner, group = self._text("owner"), self._text("group")
        acl = self._list("list") if not self._is_demand("list") else None
        default = self._list("default-list")
        arrangement = self._text("arrangement")
        return StatedPosture(
            uid=self._asked("owner", lambda: self.accounts.user_id(owner)) if owner else None,
            gid=self._asked("group", lambda: self.accounts.group_id(group)) if group else None,
            mode=self._mode("mode"),
            file_mode=self._mode("file-mode"),
            dir_mode=self._mode("dir-mode"),
            acl=acl or None,
            no_acl=acl == (),
            default=default or None,
            no_default=default == (),
            arrangement=self._asked("arrangement", lambda: self.arranged(arrangement)) if arrangement else None,
        )

    def _asked(self, key: str, ask: Callable[[], Any]) -> Any:
        try:
            return ask()
        except FiatError as error:
            self.wrong(key, str(error))

    def _mode(self, key: str) -> int | None:
        word = self._text(key)
        if not word:
            return None
        change = self._asked(key, lambda: parse_mode(word)).change
        if change.octal is None:
            self.wrong(key, f"{quoted(word)} changes a mode; what a mode shall be is right as 0640, or as rw-r-----")
        return int(change.octal)

    def _list(self, key: str) -> AccessList | tuple[()] | None:
        """A list; empty where there shall be none."""
        if key not in self.table:
            return None
        entries = self._texts(key)
        if not entries:
            return ()
        accounts = self.accounts
        found = self._asked(key, lambda: parse_list(",".join(entries), accounts.user_id, accounts.group_id))
        assert isinstance(found, AccessList)
        return found

    def _text(self, key: str) -> str:
        value = self.table.get(key, "")
        if not isinstance(value, str):
            self.wrong(key, "right is text between quotation marks")
        return value

    def _texts(self, key: str) -> tuple[str, ...]:
        value = self.table.get(key, [])
        if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
            self.wrong(key, f'right is a list of texts, such as {key} = ["…"]')
        return tuple(value)

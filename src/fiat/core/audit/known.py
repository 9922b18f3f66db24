"""Findings that were judged already: each with a reason, and a day until which that holds.

They are kept in TOML, a table ``[[known]]`` for each. A path stands there as it
is shown, with what is not printable as an escape: no two paths look the same.
"""

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from fiat.core.audit.examine import TreeFinding
from fiat.core.errors import NotationError
from fiat.core.text import near, quoted, visible
from fiat.core.words.toml import parse_toml

_KEYS = ("rule", "path", "text", "reason", "until")


class AcceptedFinding(NamedTuple):
    """One of them; ``until`` is a day in ISO 8601."""

    rule: str
    path: str
    reason: str
    until: str
    text: str = ""


def read(data: bytes, source: str, rules: Iterable[str]) -> list[AcceptedFinding]:
    """Those in the file ``source``, which holds ``data``; :class:`NotationError` names table and key."""
    found = parse_toml(data, source, lambda text: NotationError(source, text))
    tables = found.get("known", [])
    if set(found) - {"known"} or not isinstance(tables, list):
        raise NotationError(source, f"{quoted(source)} is right as tables that begin with [[known]]")
    return [
        _known(table, f"[[known]] {number} in {quoted(source)}", list(rules)) for number, table in enumerate(tables, 1)
    ]


def _known(table: Any, where: str, rules: list[str]) -> AcceptedFinding:
    if not isinstance(table, dict):
        raise NotationError(where, f"{where} is no table")
    for key in table:
        if key not in _KEYS:
            raise NotationError(key, f"{where}: no key is called {quoted(key)}{near(key, _KEYS)}")
    values: dict[str, str] = {}
    for key in _KEYS:
        value = table.get(key, "" if key == "text" else None)
        value = str(value) if type(value).__name__ == "date" else value  # TOML has days without quotation marks
        if value is None:
            raise NotationError(key, f"{where}: {key} is missing")
        if not isinstance(value, str):
            raise NotationError(key, f"{where}: {key} is right as text between quotation marks")
        values[key] = value
    if values["rule"] not in rules:
        raise NotationError(
            values["rule"], f"{where}: no rule is called {quoted(values['rule'])}{near(values['rule'], rules)}"
        )
    if not values["reason"].strip():
        raise NotationError("reason", f"{where}: the reason is empty; say why this is accepted")
    if not _is_day(values["until"]):
        raise NotationError("until", f"{where}: until is right as a day, such as 2027-05-31")
    return AcceptedFinding(values["rule"], values["path"], values["reason"], values["until"], values["text"])


def _is_day(word: str) -> bool:
    parts = word.split("-")
    return [len(part) for part in parts] == [4, 2, 2] and all(part.isdecimal() for part in parts)


def write(told: Iterable[TreeFinding], until: str) -> Iterator[str]:
    """The lines of such a file, with a reason that is left to be written."""
    yield "# Findings that are accepted. Each needs a reason; after its day it is told again.\n"
    for one in told:
        for path in one.audited.paths(one.found.places):
            yield "\n[[known]]\n"
            yield f"rule = {_toml(one.rule.code)}\n"
            yield f"path = {_toml(visible(path))}\n"
            yield f"text = {_toml(visible(one.found.text))}\n"
            yield 'reason = ""\n'
            yield f"until = {until}\n"


def _toml(text: str) -> str:
    """A basic string; ``text`` is printable."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def without_known(
    told: Iterable[TreeFinding], known: Iterable[AcceptedFinding], today: str
) -> tuple[list[TreeFinding], int, list[AcceptedFinding]]:
    """The findings but for those that are known; how many paths these are on; and what is known and over by ``today``.

    What is on several paths loses only those that are known.
    """
    by_path: dict[tuple[str, str], AcceptedFinding] = {}
    over: list[AcceptedFinding] = []
    for one in known:
        if one.until < today:
            over.append(one)
        else:
            by_path[one.rule, one.path] = one
    left: list[TreeFinding] = []
    count = 0
    rules = {rule for rule, _ in by_path}
    for finding in told:
        if finding.rule.code not in rules:
            left.append(finding)
            continue
        paths = finding.audited.paths(finding.found.places)
        stays = [(finding.rule.code, visible(path)) not in by_path for path in paths]
        count += stays.count(False)
        if any(stays):
            places = finding.found.places[stays]
            left.append(finding._replace(found=finding.found._replace(places=places)))
    return left, count, over

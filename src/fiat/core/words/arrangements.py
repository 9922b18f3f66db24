"""Arrangements in text: the tables of a TOML file, and ``team:survey`` as it is typed."""

import re
from collections.abc import Mapping
from typing import Any

from fiat.core.errors import ArrangementError, NotationError
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import KINDS_OF_WHO, Arrangement, ArrangementChoice, ArrangementParty, Pattern
from fiat.core.text import near, quoted
from fiat.core.words.entries import parse_entries, parse_whom
from fiat.core.words.modes import parse_mode
from fiat.core.words.toml import parse_toml

Known = Mapping[str, Arrangement]
"""Arrangements by name."""

_TEXTS = {"about": "about", "when": "when", "prevents": "prevents", "short": "short", "without-lists": "without_lists"}
_KEYS = {*_TEXTS, "takes", "called", "owned-by", "only", "opens-the-way", "directory", "file"}
_OF_PATTERNS = ("owner", "group", "mode", "entries", "default", "no-entries")


def parse_arrangements(data: bytes, source: str) -> dict[str, Arrangement]:
    """The arrangements in the file ``source``, which holds ``data``; :class:`ArrangementError` names table and key."""
    tables = parse_toml(data, source, ArrangementError)
    return {name: _arrangement(name, table, source) for name, table in tables.items()}


def _arrangement(name: str, table: Any, source: str) -> Arrangement:
    where = f"{quoted(source)}: [{name}]"
    if not re.fullmatch(r"[a-z][a-z0-9-]*", name):
        raise ArrangementError(f"{where} is no name; use small letters, digits and dashes")
    if not isinstance(table, dict):
        raise ArrangementError(f"{where} is no table; write [{name}] and its keys under it")
    _only(where, table, _KEYS)
    takes = _texts(where, table, "takes")
    for number, kind in enumerate(takes):
        if kind not in KINDS_OF_WHO or (kind.endswith("...") and number < len(takes) - 1):
            raise ArrangementError(f"{where} takes {quoted(kind)}; these are known: {', '.join(KINDS_OF_WHO)}")
    said = {field: _text(where, table, key) or "" for key, field in _TEXTS.items()}
    only = _text(where, table, "only")
    if only not in (None, "file", "directory"):
        raise ArrangementError(f"{where} only = {quoted(str(only))}; write file or directory")
    if not said["about"]:
        raise ArrangementError(f'{where} says nothing about itself; add about = "…"')
    return Arrangement(
        name,
        takes,
        owned_by=_text(where, table, "owned-by"),
        only=only,
        opens_the_way=table.get("opens-the-way") is True,
        directory=_pattern(f"{where[:-1]}.directory]", table.get("directory", {}), takes),
        file=_pattern(f"{where[:-1]}.file]", table.get("file", {}), takes),
        source=source,
        called=_called(where, table, takes),
        **said,
    )


def _called(where: str, table: Mapping[str, Any], takes: tuple[str, ...]) -> tuple[str, ...]:
    called = _texts(where, table, "called")
    if called and len(called) != len(takes):
        raise ArrangementError(f"{where} called has {len(called)} words, and it takes {len(takes)}")
    return called


def _pattern(where: str, table: Any, takes: tuple[str, ...]) -> Pattern:
    if not isinstance(table, dict):
        raise ArrangementError(f"{where} is no table")
    _only(where, table, set(_OF_PATTERNS))
    owner, group, mode = (_text(where, table, key) for key in ("owner", "group", "mode"))
    entries, default, no_entries = (_texts(where, table, key) for key in ("entries", "default", "no-entries"))
    found = Pattern(owner, group, mode, entries, default, no_entries)
    try:
        if mode is not None:
            parse_mode(mode)
        example = ArrangementChoice(
            Arrangement("", takes, ""), tuple(ArrangementParty(kind == "group", 0) for kind in takes)
        )
        for words in (entries, default):
            parse_entries(_filled(words, example, 0), int, int)
        for word in _filled(no_entries, example, 0):
            parse_whom(word, int, int)
        for whose in (owner, group):
            if whose is not None and "{" in whose:
                number_in(whose, example, 0)
    except (NotationError, ValueError) as error:
        raise ArrangementError(f"{where} {error}") from None
    return found


def _only(where: str, table: Mapping[str, Any], known: set[str]) -> None:
    for key in table:
        if key not in known:
            raise ArrangementError(
                f"{where} has no key {quoted(key)}{near(key, known)}; known: {', '.join(sorted(known))}"
            )


def _text(where: str, table: Mapping[str, Any], key: str) -> str | None:
    value = table.get(key)
    if value is not None and not isinstance(value, str):
        raise ArrangementError(f'{where} {key} is no text; write {key} = "…"')
    return value


def _texts(where: str, table: Mapping[str, Any], key: str) -> tuple[str, ...]:
    value = table.get(key, [])
    if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
        raise ArrangementError(f'{where} {key} is no list of texts; write {key} = ["…"]')
    return tuple(value)


def _filled(words: tuple[str, ...], chosen: ArrangementChoice, top: int) -> list[str]:
    found = []
    for word in words:
        if "{each}" in word:
            found += [word.replace("{each}", whom.text()) for whom in chosen.whom]
        else:
            found.append(_with_numbers(word.replace("{top}", f"user:{top}"), chosen))
    return found


def _with_numbers(word: str, chosen: ArrangementChoice) -> str:
    for number, whom in enumerate(chosen.whom, 1):
        word = word.replace(f"{{{number}}}", whom.text())
    if "{" in word:
        raise NotationError(word, f"{quoted(word)} speaks of somebody whom the arrangement does not take")
    return word


def entries_in(words: tuple[str, ...], chosen: ArrangementChoice, top: int) -> list[str]:
    """Entries in text form, with numbers, of a pattern for a directory that user ``top`` owns."""
    return _filled(words, chosen, top)


def number_in(word: str, chosen: ArrangementChoice, top: int) -> int:
    """The number of a user or a group that a pattern speaks of by its place."""
    return int(_with_numbers(word.replace("{top}", f"user:{top}"), chosen).partition(":")[2])


# --- as it is typed --------------------------------------------------------------------


def parse_chosen(word: str, known: Known, accounts: Accounts) -> ArrangementChoice:
    """``team:survey``, ``readers:auditor,group:press``; NotationError or UnknownAccount for what is wrong."""
    name, colon, rest = word.partition(":")
    found = known.get(name)
    if found is None:
        hint = near(name, known)
        raise NotationError(name, f"{quoted(name)} is no arrangement{hint}; fiat set --arrange list explains each")
    words = rest.split(",") if colon else []
    many = bool(found.takes) and found.takes[-1].endswith("...")
    enough = len(words) >= len(found.takes) if many else len(words) == len(found.takes)
    if not enough or not all(words):
        raise NotationError(word, f"{quoted(word)}: write it as {found.usage}")
    kinds = found.takes + found.takes[-1:] * (len(words) - len(found.takes))
    return ArrangementChoice(found, tuple(_whom(one, kind, accounts) for one, kind in zip(words, kinds, strict=True)))


def _whom(word: str, kind: str, accounts: Accounts) -> ArrangementParty:
    if kind == "group":
        return ArrangementParty(True, accounts.group_id(word.removeprefix("group:")))
    if kind != "user" and word.startswith("group:"):
        return ArrangementParty(True, accounts.group_id(word.removeprefix("group:")))
    return ArrangementParty(False, accounts.user_id(word.removeprefix("user:")))

"""TOML that anybody may have written, with the limits that keep reading it quick."""

import re
import tomllib
from collections.abc import Callable
from typing import Any

from fiat.core.errors import FiatError
from fiat.core.text import quoted, visible

LARGEST = 4 * 1024 * 1024
"""Bytes of a file: some ten thousands of tables."""

_PARTS = 64
"""Parts of a key with dots: what is deeper takes tomllib more than linear time, and none of ours is."""

_BETWEEN = re.compile(r"[=,{}\[\]\s]+")


def parse_toml(data: bytes, source: str, wrong: Callable[[str], FiatError]) -> dict[str, Any]:
    """The tables in ``data``, the contents of the file ``source``; what is wrong is raised as ``wrong`` makes it."""
    try:
        text = data.decode()
    except UnicodeDecodeError as error:
        raise wrong(f"{quoted(source)} is no TOML: it is not written in UTF-8") from error
    for number, line in enumerate(text.split("\n"), 1):
        if line.count(".") > _PARTS and any(word.count(".") > _PARTS for word in _BETWEEN.split(line)):
            raise wrong(f"{quoted(source)}, line {number}: a word with more than {_PARTS} dots is no key, and no value")
    try:
        found = tomllib.loads(text)
    except RecursionError as error:
        raise wrong(f"{quoted(source)} is nested too deeply") from error
    except ValueError as error:  # tomllib's own, and that of a number with thousands of digits
        raise wrong(f"{quoted(source)} is no TOML: {visible(str(error))}") from error
    _expect_plain_keys(found, source, wrong)
    return found


def _expect_plain_keys(found: dict[str, Any], source: str, wrong: Callable[[str], FiatError]) -> None:
    """Keys are words: one with a control or a direction character looks like something else, or does something."""
    waiting: list[Any] = [found]
    while waiting:
        one = waiting.pop()
        if isinstance(one, list):
            waiting += one
        elif isinstance(one, dict):
            for key in one:
                if not key.isprintable():
                    raise wrong(f"{quoted(source)}: the key {quoted(key)} has characters that are not printable")
            waiting += one.values()

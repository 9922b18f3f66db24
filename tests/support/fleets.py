"""Generated fleets: hosts that are mostly alike, as files of snapshots in folders."""

import copy
import json
import os
import random
import re
from collections.abc import Callable, Iterator
from typing import Any

from fiat.demo.sample import SNAPSHOTS

Lines = list[dict[str, Any]]
"""A snapshot: its lines as JSON has them."""

TAKEN = "2026-11-30T020000Z"


_ACCOUNTS = (("user", "uid"), ("group", "gid"))


def sample_lines() -> Lines:
    """The sample host."""
    with open(SNAPSHOTS["skerry"], encoding="utf-8") as file:
        return [json.loads(line) for line in file]


def write(lines: Lines, folder: str, host: str, taken: str = TAKEN) -> str:
    """Put a snapshot of ``host`` into a fleet, as ``fiat save --add`` does; its path."""
    os.makedirs(f"{folder}/{host}", exist_ok=True)
    path = f"{folder}/{host}/{taken}.jsonl"
    lines = copy.deepcopy(lines)
    lines[0]["host"] = host
    lines[-1]["end"] = len(lines) - 1
    with open(path, "w", encoding="utf-8") as file:
        file.writelines(f"{json.dumps(line)}\n" for line in lines)
    return path


def objects_in(lines: Lines) -> list[dict[str, Any]]:
    """Those that lie somewhere below /srv/skerry."""
    return [line for line in lines if str(line.get("path", "")).startswith("/srv/skerry/") and "kind" in line]


def varied(dice: random.Random, changes: int) -> Lines:
    """The sample host with so many things about it otherwise: modes, owners, memberships, something gone."""
    lines = sample_lines()
    for _ in range(changes):
        kind = dice.random()
        if kind < 0.5:
            one = dice.choice(objects_in(lines))
            one["mode"] = f"{dice.choice((0o640, 0o644, 0o600, 0o755, 0o750, 0o777, 0o2775)):04o}"
            one["acl"] = None
            one.pop("letters", None)
            one.pop("special", None)
        elif kind < 0.7:
            one = dice.choice(objects_in(lines))
            one["owner"] = copy.deepcopy(dice.choice(objects_in(lines))["owner"])
        elif kind < 0.85:
            group = dice.choice([line["group"] for line in lines if "group" in line and "path" not in line])
            user = dice.choice([line["user"]["name"] for line in lines if "user" in line])
            group["members"] = [*group["members"], user] if user not in group["members"] else group["members"]
        else:
            files = [one for one in objects_in(lines) if one["kind"] == "file"]
            lines.remove(dice.choice(files))
    return lines


def renumbered(lines: Lines, by: int) -> Lines:
    """The same host on which every account above 1000 has another number, in its lists as well."""
    accounts = {line[kind][key] for line in lines for kind, key in _ACCOUNTS if kind in line and "path" not in line}

    def number(found: int) -> int:
        return found + by if found > 1000 and found in accounts else found

    def entry(text: str) -> str:
        return re.sub(r"^(user|group):(\d+):", lambda one: f"{one[1]}:{number(int(one[2]))}:", text)

    return [
        _changed(line, lambda key, value: number(value) if key in ("uid", "gid") else value, entry) for line in lines
    ]


def renamed(lines: Lines, to: Callable[[str], str]) -> Lines:
    """The same host on which every account above 1000 is called otherwise."""
    known = {"user": {}, "group": {}}  # type: dict[str, dict[str, str]]
    for line in lines:
        for kind, key in _ACCOUNTS:
            if kind in line and "path" not in line and line[kind][key] > 1000:
                known[kind][line[kind]["name"]] = to(line[kind]["name"])
    found = copy.deepcopy(lines)
    for line in found:
        if "user" in line:
            line["user"]["name"] = known["user"].get(line["user"]["name"], line["user"]["name"])
        elif "group" in line and "path" not in line:
            group = line["group"]
            group["name"] = known["group"].get(group["name"], group["name"])
            group["members"] = [known["user"].get(name, name) for name in group["members"]]
    return found


def _changed(value: Any, change: Callable[[str, int], int], entry: Callable[[str], str], key: str = "") -> Any:
    if isinstance(value, dict):
        return {name: _changed(one, change, entry, name) for name, one in value.items()}
    if isinstance(value, list):
        return [_changed(one, change, entry, key) for one in value]
    if isinstance(value, str) and key in ("acl", "default"):
        return entry(value)
    return change(key, value) if isinstance(value, int) and not isinstance(value, bool) else value


def hosts_of(record: dict[str, Any]) -> Iterator[str]:
    """The hosts of a result; there must be few enough to be named."""
    assert isinstance(record["hosts"], list)
    yield from record["hosts"]

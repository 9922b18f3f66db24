"""Writing a snapshot: what was captured of a host, as lines of JSON in columns (docs/formats.md, version 2)."""

import json
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from fiat.core.model import record
from fiat.core.model.mode import octal
from fiat.core.model.mount import Mount
from fiat.core.state.capture import Capture
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.survey import Survey
from fiat.core.typed import Any
from fiat.host.snapshot import records
from fiat.host.snapshot.records import Header, Login, Rest

_MOST = 10_000
"""Entries in a line."""

_LONGEST = 1_000_000
"""Characters of the names in a line; as JSON has them each may be six times as long."""

_dump = json.JSONEncoder(ensure_ascii=True, separators=(",", ":")).encode


def lines(capture: Capture, taken: str | None) -> Iterator[str]:
    """The lines of the snapshot, each with its end."""
    count = 0
    for line in _records(capture, taken):
        count += 1
        yield f"{line}\n"
    yield f"{_dump({'end': count})}\n"


def _records(capture: Capture, taken: str | None) -> Iterator[str]:
    people = capture.people
    header = Header(
        host=capture.host,
        taken=taken,
        settings=capture.settings,
        trees=tuple(tree.top.path for tree in capture.trees),
        across_mounts=capture.across_mounts,
        first_person=people.first_person,
    )
    yield _dump({"schema": records.SCHEMA, **records.HEADER.write(header)})
    for mount in capture.mounts:
        yield _dump({"mount": records.MOUNT.write(mount)})
    for user in people.users:
        yield _dump({"user": record.USER.write(user)})
    for group in people.groups:
        yield _dump({"group": record.GROUP.write(group)})
    for name, gids in people.logins.items():
        yield _dump({"login": records.LOGIN.write(Login(name, gids))})
    objects = record.ObjectRecord()
    tops = [tree.top for tree in capture.trees]
    held = {one.path for one in capture.objects}
    for one in (*capture.objects, *(top for top in tops if top.path not in held)):
        yield _dump({name: value for name, value in objects.write(one).items() if name not in _FOR_PEOPLE})
    for trouble in (*capture.troubles, *(trouble for tree in capture.trees for trouble in tree.troubles)):
        yield _dump({"trouble": records.TROUBLE.write(trouble)})
    for point in (point for tree in capture.trees for point in tree.skipped):
        yield _dump({"left_out": point})
    lists = rests = profiles = 0  # each kind goes by one row of numbers, whichever tree it is of
    for tree in capture.trees:
        yield from _profiles(tree.profiles, capture.mounts, lists, rests)
        yield from _directories(tree, profiles)
        lists += len(tree.profiles.lists) - 1
        rests += len(tree.profiles.rests)
        profiles += len(tree.profiles)


_FOR_PEOPLE = frozenset(("letters", "special", "mount", "script"))
"""Fields of an object that say again what others say."""


def _profiles(profiles: Profiles, mounts: Sequence[Mount], first_list: int, first_rest: int) -> Iterator[str]:
    """The lists, the rests and then the profiles of one tree; so many lists and rests stand before."""
    numbers = {mount: number for number, mount in enumerate(mounts)}
    for acl in profiles.lists[1:]:
        yield _dump({"list": record.LIST.write(acl)})  # type: ignore[arg-type]
    for rest in profiles.rests:
        mount = None if rest.mount is None else numbers[rest.mount]
        yield _dump({"rest": records.REST.write(Rest(rest, mount))})
    columns = profiles.columns
    for first in range(0, len(profiles), _MOST):
        mode, uid, gid, acl, rest = (column[first : first + _MOST].tolist() for column in columns)
        yield _dump(
            {
                "profiles": {
                    "mode": [octal(bits) for bits in mode],
                    "owner": uid,
                    "group": gid,
                    "list": _column([number and number + first_list for number in acl]),
                    "rest": _column([number + first_rest for number in rest]),
                }
            }
        )


def _directories(tree: Survey, first_profile: int) -> Iterator[str]:
    """What is in each directory of a tree, some thousand entries in a line at most; nothing of those that are empty."""
    children = np.argsort(tree.parent, kind="stable")[1:]  # what is in one directory stands together
    if not len(children):
        return
    parents = tree.parent[children]
    starts = np.flatnonzero(np.diff(parents, prepend=-1))
    names = tree.names(children)
    details = tree.details
    assert details is not None, "a tree is captured with its details"
    profile = (tree.profile[children] + first_profile).tolist()
    links, size = tree.links[children].tolist(), details.size[children].tolist()
    inode = tree.inode[children].tolist()
    birth, modified = tree.birth[children].tolist(), details.modified[children].tolist()
    targets = _targets(tree, children)
    paths = (path for _, path in tree.paths_of(parents[starts].tolist()))
    ends = [*starts[1:].tolist(), len(children)]
    for path, begin, end in zip(paths, starts.tolist(), ends, strict=True):
        for one, other in _parts(names, begin, end):
            line: dict[str, Any] = {
                "directory": path,
                "names": names[one:other],
                "profile": _column(profile[one:other]),
                "inode": _times(inode[one:other]),
                "links": _column(links[one:other]),
                "birth": _times(birth[one:other]),
                "size": _column(size[one:other]),
                "modified": _times(modified[one:other]),
            }
            if targets:
                there = {names[place]: targets[place] for place in range(one, other) if place in targets}
                if there:
                    line["targets"] = there
            yield _dump(line)


def _parts(names: Sequence[str], begin: int, end: int) -> Iterator[tuple[int, int]]:
    """Where the lines of one directory begin and end."""
    if end - begin < _LONGEST // 256:  # no name has more bytes than 255
        yield begin, end
        return
    characters = 0
    for place in range(begin, end):
        if place - begin == _MOST or characters > _LONGEST:
            yield begin, place
            begin, characters = place, 0
        characters += len(names[place])
    yield begin, end


def _targets(tree: Survey, children: NDArray[np.int64]) -> dict[int, str]:
    """Where the symlinks lead, by their place among ``children``."""
    assert tree.details is not None
    found = tree.details.targets
    if not found:
        return {}
    place_of = np.empty(len(tree), np.int64)
    place_of[children] = np.arange(len(children))
    return {int(place_of[place]): target for place, target in found.items() if place}


def _column(values: list[int]) -> int | list[int]:
    """The values, or the one that all of them are."""
    return values[0] if values.count(values[0]) == len(values) else values


def _times(values: list[int]) -> int | dict[str, Any]:
    """Large numbers that are near each other: the least of them, and what each has more."""
    least = min(values)
    if max(values) == least:
        return least
    return {"from": least, "plus": [value - least for value in values]}

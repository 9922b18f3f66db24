"""Writing a snapshot: what was captured of a host, as lines of JSON in columns (docs/formats.md, version 2)."""

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.core.audit.evidence import SavedFindings
from fiat.core.model import record
from fiat.core.model.elevation import Elevations
from fiat.core.model.mode import octal
from fiat.core.model.posture import Mount
from fiat.core.state.capture import Capture
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.survey import Survey
from fiat.engine.laying import JSON, ListColumn, Listed, Names, Shared, rows_of
from fiat.engine.processes import in_order
from fiat.host.snapshot import records
from fiat.host.snapshot.records import Header, Login, Rest

_MOST = 10_000
"""Entries in a line."""

_LONGEST = 500_000
"""Characters of the names in a line, and of where symlinks lead; as JSON has them each may take twelve bytes."""

_PIECE = 25_000
"""Entries that a process writes before it hands them over; for fewer no other is started."""

_dump = json.JSONEncoder(ensure_ascii=True).encode


def lines(
    capture: Capture,
    taken: str | None,
    audit: SavedFindings | None = None,
    elevations: Elevations | None = None,
) -> Iterator[str]:
    """The lines of the snapshot, each with its end, one or more at a time; with what is kept for an ``audit``, and the
    rules by which users act as others."""
    count = 0
    for text in _records(capture, taken, audit, elevations):
        count += text.count("\n") + 1
        yield f"{text}\n"
    yield f"{_dump({'end': count})}\n"


def _records(
    capture: Capture, taken: str | None, audit: SavedFindings | None, elevations: Elevations | None
) -> Iterator[str]:
    people = capture.people
    header = Header(
        host=capture.host,
        taken=taken,
        settings=capture.settings,
        trees=tuple(tree.top.path for tree in capture.trees),
        across_mounts=capture.across_mounts,
        first_person=people.first_person,
        unknown_accounts=people.unknown,
        unsure=people.unsure,
        view=people.view,
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
    if elevations is not None:
        for at in range(0, len(elevations.json), _LONGEST):
            part = elevations.json[at : at + _LONGEST]
            line = records.ElevationLine(elevations.source, elevations.addresses, elevations.unread, part)
            yield _dump({"elevation": records.ELEVATION.write(line)})
    if audit is not None:
        from fiat.host.snapshot.records import AUDIT

        yield _dump({"audit": AUDIT.write(audit)})
    objects = record.ObjectRecord()
    tops = [tree.top for tree in capture.trees]
    held = {one.path for one in capture.objects}
    for one in (*capture.objects, *(top for top in tops if top.path not in held)):
        yield _dump({name: value for name, value in objects.write(one).items() if name not in _FOR_PEOPLE})
    for trouble in (*capture.troubles, *(trouble for tree in capture.trees for trouble in tree.troubles)):
        yield _dump({"trouble": records.TROUBLE.write(trouble)})
    for digest in capture.digests:
        yield _dump({"digest": records.DIGEST.write(digest)})
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
                    "list": [number and number + first_list for number in acl],
                    "rest": [number + first_rest for number in rest],
                }
            }
        )


class _Inside:
    """What is in the directories of a tree, in columns: what is in one directory stands together.

    It is cut into *groups*, each of which becomes a line: the entries of one directory, or some of very many.
    """

    def __init__(self, tree: Survey, first_profile: int) -> None:
        children = np.argsort(tree.parent, kind="stable")[1:]
        parents = tree.parent[children]
        details = tree.details
        assert details is not None, "a tree is captured with its details"
        self._tree = tree
        self._children = children
        self.starts = self._groups(np.flatnonzero(np.diff(parents, prepend=-1)), details.targets)
        self._ends = np.append(self.starts[1:], len(children))
        self._directories = parents[self.starts]
        self._columns: dict[str, NDArray[Any]] = {
            "profile": tree.profile[children].astype(np.int64) + first_profile,
            "inode": tree.inode[children],
            "links": tree.links[children],
            "birth": tree.birth[children],
            "size": details.size[children],
            "modified": details.modified[children],
        }
        self._targets = self._by_group(details.targets)

    def _by_group(self, targets: Mapping[int, str]) -> dict[int, list[tuple[int, str]]]:
        """For each group with symlinks in it the places of these among all the entries, and where they lead."""
        found: dict[int, list[tuple[int, str]]] = {}
        links = np.array([place for place in targets if place], np.int64)
        if len(links):
            place_of = np.empty(len(self._tree), np.int64)
            place_of[self._children] = np.arange(len(self._children))
            at = place_of[links]
            groups = np.searchsorted(self.starts, at, side="right") - 1
            for group, place, link in zip(groups.tolist(), at.tolist(), links.tolist(), strict=True):
                found.setdefault(group, []).append((place, targets[link]))
        return found

    def _groups(self, starts: NDArray[np.int64], targets: Mapping[int, str]) -> NDArray[np.int64]:
        """Where groups begin: directories do, and in those with many entries, or long names and links, some more."""
        ends = np.append(starts[1:], len(self._children))
        led = np.zeros(len(self._tree), np.int64)
        led[list(targets)] = [len(target) for target in targets.values()]
        leading = led[self._children]
        # no name has more bytes than 255
        large = (ends - starts) * 256 + (np.add.reduceat(leading, starts) if len(starts) else 0) > _LONGEST
        more: list[int] = []
        for begin, end in zip(starts[large].tolist(), ends[large].tolist(), strict=True):
            names = self._tree.names(self._children[begin:end])
            entries = characters = 0
            for number, (name, further) in enumerate(zip(names, leading[begin:end].tolist(), strict=True)):
                if entries == _MOST or characters > _LONGEST:
                    more.append(begin + number)
                    entries = characters = 0
                entries += 1
                characters += len(name) + further
        return np.sort(np.append(starts, np.array(more, np.int64)))

    def pieces(self) -> list[int]:
        """Which groups begin each piece of about so many entries as one process should write; and the last's end."""
        wanted = np.arange(0, len(self._children), _PIECE)
        return sorted({*np.searchsorted(self.starts, wanted).tolist(), len(self.starts)})

    def compiled(self) -> Callable[[int, int], str] | None:
        """What makes the lines of the groups from one to before another, each with its end; None where that is left to
        :meth:`lines`."""
        rows = rows_of(self._tree, JSON, lambda name: _dump(name)[1:-1])
        if rows is None:
            return None
        bounds, targets = np.append(self.starts, len(self._children)), self._targets

        def made(first: int, last: int) -> str:
            begin, end = int(bounds[first]), int(bounds[last])
            entries = self._children[begin:end]
            with_links = sorted(group for group in range(first, last) if group in targets)
            texts = ["}"]
            number = np.zeros(last - first, np.int64)
            for group in with_links:
                number[group - first] = len(texts)
                texts.append(f', "targets": {_dump(dict(self._named(targets[group])))}}}')
            columns: list[ListColumn] = ['{"directory": "', None, '", "names": ', Names()]
            for name, values in self._columns.items():
                columns += [f', "{name}": ', Listed(values[begin:end], name in _LARGE)]
            columns.append(Shared(texts, number))
            return rows.lists(
                self._directories[first:last].astype(np.int64), entries, bounds[first : last + 1] - begin, columns
            )

        return made

    def _named(self, targets: list[tuple[int, str]]) -> Iterator[tuple[str, str]]:
        """The names of links, and where they lead."""
        names = self._tree.names(self._children[[place for place, _ in targets]])
        return zip(names, (target for _, target in targets), strict=True)

    def lines(self, first: int, last: int) -> Iterator[str]:
        """The lines of the groups from the ``first`` to before the ``last``."""
        begin, end = int(self.starts[first]), int(self._ends[last - 1])
        tree, starts, ends = self._tree, self.starts[first:last] - begin, self._ends[first:last] - begin
        names = tree.names(self._children[begin:end])
        columns = [_texts(values[begin:end], name in _LARGE, starts, ends) for name, values in self._columns.items()]
        paths = (path for _, path in tree.paths_of(self._directories[first:last].tolist()))
        head = ", ".join(f'"{name}": %s' for name in self._columns)
        groups = zip(range(first, last), paths, starts.tolist(), ends.tolist(), *columns, strict=True)
        for group, path, here, there, *texts in groups:
            line = f'{{"directory": {_dump(path)}, "names": {_dump(names[here:there])}, {head % tuple(texts)}'
            if group in self._targets:
                line += f', "targets": {_dump(dict(self._named(self._targets[group])))}'
            yield f"{line}}}"


_LARGE = ("inode", "birth", "modified")
"""Columns of large numbers that are near each other."""


def _texts(values: NDArray[Any], large: bool, starts: NDArray[np.int64], ends: NDArray[np.int64]) -> Iterator[str]:
    """For each group its values as JSON has them: the one that all are, or a list, of ``large`` ones how much more
    each is than the least of them.
    """
    least, most = np.minimum.reduceat(values, starts), np.maximum.reduceat(values, starts)
    if large:
        values = values - np.repeat(least, ends - starts)
    listed, alike = values.tolist(), (least == most).tolist()
    for first, same, here, there in zip(least.tolist(), alike, starts.tolist(), ends.tolist(), strict=True):
        if same:
            yield str(first)
        elif large:
            yield f'{{"from": {first}, "plus": {listed[here:there]}}}'
        else:
            yield str(listed[here:there])


def _directories(tree: Survey, first_profile: int) -> Iterator[str]:
    """What is in each directory of a tree, some thousand entries in a line at most; written by several processes."""
    if len(tree) == 1:
        return
    inside = _Inside(tree, first_profile)
    bounds = inside.pieces()
    compiled = inside.compiled()
    if compiled is not None:
        for first, last in pairwise(bounds):
            yield compiled(first, last).removesuffix("\n")
        return

    def piece(number: int) -> str:
        return "\n".join(inside.lines(bounds[number], bounds[number + 1]))

    yield from in_order(len(bounds) - 1, piece)

"""Has ``fiat._native`` read and change hostile trees, and compares what it says with Python's own reader.

    python tests/support/fuzznative.py --module PATH --seconds 60 [--seed 1] [--folder /var/lib]

Trees hold names of any bytes, lists of any length, kinds of all sorts, mounts; half of them are changed by another
process while they are read. As root, with a module that was built with sanitizers and, perhaps, with faults.c: then
nothing is compared, for what comes is made up. Ends with status 1 at the first difference.
"""

import argparse
import ctypes
import importlib.util
import json
import os
import random
import re
import resource
import shutil
import signal
import socket
import stat
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fiat.app.change import ChangeOptions, apply, plan
from fiat.core.errors import FiatError
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR, pack
from fiat.core.model.modechange import parse_change
from fiat.core.model.wish import Wish
from fiat.core.text import visible
from fiat.core.tree.natural import natural_places
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent
from fiat.engine.laying import CSV, JSON, VISIBLE, Column, ListColumn, Listed, Names, Shared, rows_of, sorter_of
from fiat.host.live.host import LiveHost
from fiat.render.lines import csv_cells

_LIBC = ctypes.CDLL(None, use_errno=True)
_NEW_MOUNTS, _PRIVATE = 0x20000, 0x4000 | 0x40000  # CLONE_NEWNS; MS_REC and MS_PRIVATE


def main() -> int:
    """Fuzz for so long; 1 where the two readers differ."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--module", required=True)
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--folder", default="/var/lib")
    args = parser.parse_args()
    use(args.module)
    made_up = "FAULT_RATE" in os.environ
    # mounts of its own, which nobody else sees, and which end with it
    assert not _LIBC.unshare(_NEW_MOUNTS), os.strerror(ctypes.get_errno())
    assert not _LIBC.mount(b"none", b"/", None, _PRIVATE, None), os.strerror(ctypes.get_errno())
    resource.setrlimit(resource.RLIMIT_NOFILE, (4096, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))
    until, trees, entries = time.monotonic() + args.seconds, 0, 0
    while time.monotonic() < until:
        chance = random.Random(args.seed + trees)
        where = tempfile.mkdtemp(prefix="fiat-fuzz-", dir=args.folder)
        with grown(chance, where) as top:
            entries += _one(chance, top, quiet=made_up)
        shutil.rmtree(where, ignore_errors=True)
        trees += 1
    print(f"{trees} trees of {entries} entries from seed {args.seed} on: no difference")
    return 0


def use(path: str) -> None:
    """Have the module in a file be ``fiat._native``."""
    spec = importlib.util.spec_from_file_location("fiat._native", path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    sys.modules["fiat._native"] = module


def _one(chance: random.Random, top: str, *, quiet: bool) -> int:
    """Read one tree, and change it; how many entries it has."""
    extent = Extent(
        across_mounts=chance.random() < 0.3,
        one_level=chance.random() < 0.1,
        details=chance.random() < 0.5,
        entry_limit=chance.choice([None, None, None, 1, 100]),
    )
    if chance.random() < 0.5:
        with restless(top, chance.getrandbits(30)):
            for _ in range(6):
                found = read("1", top, extent)
                _change(chance, top)
        return 0 if found is None else len(found)
    found = read("1", top, extent)
    if found is not None:
        expect_laid_out(found)
    if not quiet and extent.entry_limit is None:
        expect_same(found, read("0", top, extent))
        _change(chance, top)
        expect_same(read("1", top, extent), read("0", top, extent))
    elif quiet:
        _change(chance, top)
    return 0 if found is None else len(found)


def read(native: str, top: str, extent: Extent) -> Survey | None:
    """The tree by one of the readers."""
    os.environ["FIAT_NATIVE"] = native
    try:
        return survey_at(LiveHost(), top, extent, follow=False)[1]
    except (FiatError, OSError):
        return None
    finally:
        del os.environ["FIAT_NATIVE"]


def said_by(survey: Survey) -> list[tuple[Any, ...]]:
    """All that a survey says, without the numbers that it uses for it."""
    details = survey.details
    rows = []
    for place, path in enumerate(survey.paths()):
        more = () if details is None else (details.size[place], details.changed[place], details.modified[place])
        one = survey.object(place, path)
        profile = survey.profiles[int(survey.profile[place])]
        if profile.mount is not None:  # what else is mounted on the machine may change meanwhile
            profile = profile._replace(mount=profile.mount._replace(beside=()))
        rows.append((path, int(survey.end[place]), profile, one.status.identity, one.target, *map(int, more)))
    return rows


def expect_same(one: Survey | None, other: Survey | None) -> None:
    """Say what differs, and end, where anything does."""
    if one is None or other is None:
        if one is not other:
            sys.exit(f"only one of them reads it: {one} {other}")
        return
    for mine, theirs in zip(said_by(one), said_by(other), strict=False):
        if mine != theirs:
            sys.exit(f"they differ:\n  {mine!r}\n  {theirs!r}")
    told = [
        (len(each), each.troubles, each.skipped, each.complete, each.profile.tolist(), each.profiles.lists)
        for each in (one, other)
    ]
    if told[0] != told[1]:
        sys.exit(f"they differ:\n  {told[0]!r}\n  {told[1]!r}")


def expect_laid_out(survey: Survey) -> None:
    """Say what differs, and end, where rows, lists and the order of names are not what Python makes of the same."""
    order = natural_places(survey)
    paths = [path for _, path in survey.paths_of(range(len(survey)))]
    everything = np.arange(len(survey))

    def columns(some: NDArray[np.int64]) -> list[Column]:
        return [None, " ", survey.birth[some], Shared(["|", "||"], some % 2)]

    for quoting, written in ((VISIBLE, visible), (CSV, lambda path: csv_cells([path])[0])):
        rows = rows_of(survey, quoting, written)
        assert rows is not None
        said = "".join(rows.rows(everything, columns))
        births = survey.birth.tolist()
        expected = [f"{written(path)} {births[at]}{'|' * (1 + at % 2)}\n" for at, path in enumerate(paths)]
        if said != "".join(expected):
            pairs = zip(said.splitlines(keepends=True), expected, strict=False)
            differ = next((pair for pair in pairs if pair[0] != pair[1]), "in length")
            sys.exit(f"they lay out otherwise: {differ!r}")
    if natural_places(survey, sorter_of(survey)).tolist() != order.tolist():
        sys.exit(f"they sort otherwise: {[survey.name(place) for place in order.tolist()]!r}")
    children = np.argsort(survey.parent, kind="stable")[1:]
    if not len(children):
        return
    bounds = np.flatnonzero(np.diff(survey.parent[children], prepend=-1, append=-1))
    rows = rows_of(survey, JSON, lambda name: json.dumps(name)[1:-1])
    assert rows is not None
    listed: list[ListColumn] = ['{"directory": "', None, '", "names": ', Names(), ', "birth": ']
    listed += [Listed(survey.birth[children], True), ', "inode": ', Listed(survey.inode[children], False), "}"]
    told = rows.lists(survey.parent[children][bounds[:-1]].astype(np.int64), children, bounds, listed)
    for line, begin, end in zip(told.splitlines(), bounds[:-1], bounds[1:], strict=True):
        some, record = children[begin:end], json.loads(line)
        births = record["birth"]
        if isinstance(births, dict):
            births = [births["from"] + one for one in births["plus"]]
        wanted = [survey.path(int(survey.parent[some[0]])), survey.names(some), survey.birth[some].tolist()]
        told_of = [record["directory"], record["names"], births if isinstance(births, list) else [births] * len(some)]
        inode = record["inode"]
        wanted.append(survey.inode[some].tolist())
        told_of.append(inode if isinstance(inode, list) else [inode] * len(some))
        if told_of != wanted:
            sys.exit(f"they list otherwise:\n  {told_of!r}\n  {wanted!r}")


def _change(chance: random.Random, top: str) -> None:
    """Change the tree, by the compiled changer where it can."""
    mode = parse_change(chance.choice(["o=r", "u+x", "go=", "0750"]))
    wish = Wish(uid=chance.choice([None, 0, 7]), file_mode=mode, dir_mode=mode)
    problems: list[Any] = []
    with suppress(FiatError, OSError):
        planned = plan(LiveHost(), [top], wish, ChangeOptions(below=True), problem=problems.append)
        apply(planned, None, problem=problems.append)


# --- trees ---


def _name(chance: random.Random, number: int) -> bytes:
    length = chance.choice([1, 3, 8, 9, 40, 255])
    some = bytes(chance.choices(b"\x01\x07\n\x1baz\x7f\x80\xc3\xff'\"\\ ", k=length))
    made = (b"%d" % number + some)[:length]
    return b"_" if made in (b"", b".", b"..") else made


def _list(chance: random.Random) -> bytes:
    few = chance.choices([1, 2, 5, 40, 400, 5000], [40, 40, 40, 10, 2, 0.3])[0]
    users = sorted(chance.sample(range(10, 60_000), few))
    named = [Entry(Tag.NAMED_USER, chance.randrange(8), uid) for uid in users]
    rest = [Entry(tag, chance.randrange(8), None) for tag in (Tag.OWNING_GROUP, Tag.MASK, Tag.OTHER)]
    return pack(AccessList((Entry(Tag.OWNER, chance.randrange(8), None), *named, *rest)))


def _make(chance: random.Random, path: bytes) -> None:
    kind = chance.random()
    if kind < 0.6:
        with open(path, "xb") as file:  # which follows no link
            file.write(
                chance.choice([b"", b"x", b"#!/bin/sh\n", b"#!" + b"y" * 2000, b"\x7fELF" + os.urandom(90), b"MZ"])
            )
    elif kind < 0.7:
        os.symlink(os.urandom(chance.choice([1, 30, 200])).replace(b"\0", b"0"), path)
    elif kind < 0.74:
        os.mkfifo(path)
    elif kind < 0.77:
        os.mknod(path, stat.S_IFCHR | 0o600, os.makedev(1, 3))
    elif kind < 0.8:
        with suppress(OSError), socket.socket(socket.AF_UNIX) as one:
            one.bind(path)
    else:
        os.mkdir(path)


def _dress(chance: random.Random, path: bytes) -> None:
    """Give what is at a path an owner, a mode, attributes."""
    if chance.random() < 0.4:
        os.lchown(path, chance.randrange(5), chance.randrange(5))
    if os.path.islink(path):
        return
    if chance.random() < 0.7:
        os.chmod(path, chance.randrange(0o10000))
    if chance.random() < 0.2:
        with suppress(OSError):
            os.setxattr(path, ACCESS_XATTR, _list(chance), follow_symlinks=False)
    if chance.random() < 0.1 and os.path.isdir(path):
        with suppress(OSError):
            os.setxattr(path, DEFAULT_XATTR, _list(chance), follow_symlinks=False)
    if chance.random() < 0.1:
        for number in range(chance.choice([1, 40])):
            with suppress(OSError):
                os.setxattr(path, f"user.{'x' * 20}{number}", os.urandom(20), follow_symlinks=False)
    if chance.random() < 0.05 and os.path.isfile(path):
        with suppress(OSError):
            os.setxattr(path, "security.capability", b"\x01\0\0\x02" + os.urandom(16), follow_symlinks=False)


@contextmanager
def grown(chance: random.Random, where: str) -> Iterator[str]:
    """A tree in the folder ``where``, with mounts in it; they are gone afterwards."""
    top = os.fsencode(where) + b"/t"
    os.mkdir(top)
    directories = [top]
    for number in range(chance.choice([3, 60, 400])):
        path = chance.choice(directories[-40:]) + b"/" + _name(chance, number)
        with suppress(FileExistsError, OSError):
            _make(chance, path)
            _dress(chance, path)
            if stat.S_ISDIR(os.lstat(path).st_mode):
                directories.append(path)
            elif chance.random() < 0.1:
                os.link(path, chance.choice(directories) + b"/link%d" % number, follow_symlinks=False)
    if chance.random() < 0.05:  # a large one
        big = chance.choice(directories) + b"/big"
        with suppress(OSError):
            os.mkdir(big)
            for number in range(13_000):
                os.close(os.open(b"%s/%d" % (big, number), os.O_CREAT, number & 0o777))
            os.mkdir(big + b"/zz")
    points = chance.sample(directories[1:], min(2, len(directories) - 1)) if chance.random() < 0.3 else []
    for path in points:
        _mount(chance.choice(directories), path, chance.choice([b"tmpfs", b""]))
    try:
        yield os.fsdecode(top)
    finally:
        for _ in range(5):  # one may hide another
            for point in reversed(mounts_under(os.fsencode(where))):
                _LIBC.umount2(point, 2)


def _mount(source: bytes, point: bytes, kind: bytes) -> bool:
    return not _LIBC.mount(source, point, kind or None, 0 if kind else 4096, None)  # MS_BIND


def mounts_under(folder: bytes) -> list[bytes]:
    """What is mounted below a folder, in the order in which it was."""
    with open("/proc/self/mountinfo", "rb") as file:
        points = [re.sub(rb"\\([0-7]{3})", lambda found: bytes([int(found[1], 8)]), line.split()[4]) for line in file]
    return [point for point in points if point.startswith(folder + b"/")]


@contextmanager
def restless(top: str, seed: int) -> Iterator[None]:
    """The tree while another process changes it without end."""
    child = os.fork()
    if not child:
        with suppress(BaseException):
            os.chroot(top)  # wherever a link leads, it is in here
            os.chdir("/")
            _stir(random.Random(seed))
        os._exit(0)
    try:
        yield
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _stir(chance: random.Random) -> None:
    known = [os.path.join(base, name) for base, inside, files in os.walk(b"/") for name in (*inside, *files)]
    known = known[:2000] or [b"/x"]

    def mount() -> None:
        path = chance.choice(known)
        if _mount(b"fuzz", path, b"tmpfs"):
            time.sleep(0.001)
            _LIBC.umount2(path, 2)

    moves: list[Callable[[], object]] = [
        lambda: os.rename(chance.choice(known), chance.choice(known)),
        lambda: _LIBC.renameat2(-100, chance.choice(known), -100, chance.choice(known), 2),
        lambda: os.unlink(chance.choice(known)),
        lambda: os.rmdir(chance.choice(known)),
        lambda: _make(chance, chance.choice(known)),
        lambda: _make(chance, chance.choice(known)),
        lambda: _dress(chance, chance.choice(known)),
        lambda: os.symlink(chance.choice([b"/", b"/..", *known]), chance.choice(known)),
        mount,
    ]
    while True:
        with suppress(OSError):
            chance.choice(moves)()


if __name__ == "__main__":
    raise SystemExit(main())

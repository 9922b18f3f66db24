"""Every speed of Fiat as a ratio to its floor, both measured in this run on the same warm tree.

    python bench/measure.py                        everything but the largest trees
    python bench/measure.py --large                those too: 2,000,000 entries, and 1,000,000 in one directory
    python bench/measure.py --only who --runs 9    the lines whose names begin so
    python bench/measure.py --both                 with the compiled part, and in Python alone
    python bench/measure.py --small --fail-over 2  small trees; fails where a ratio is twice its limit

Needs root (the trees have many owners) and a C compiler for the floor. What is
printed goes into a pipe that is read; nothing is kept from one run to the next.
"""

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from tree import make_accounts

HERE = Path(__file__).parent
FIAT = shutil.which("fiat", path=os.path.dirname(sys.executable)) or "fiat"
ACCOUNTS = (1_000, 10_000)


class Tree(NamedTuple):
    """A tree to be made: its shape, and how many entries it has; fewer in a small run."""

    shape: str
    entries: int
    small: int
    large: bool = False


TREES = {
    "few profiles": Tree("few", 200_000, 40_000),
    "9,500 profiles": Tree("projects", 200_000, 40_000),
    "47,000 profiles": Tree("homes", 200_000, 40_000),
    "20,000 entries": Tree("projects", 20_000, 20_000),
    "2,000,000 entries": Tree("projects", 2_000_000, 0, large=True),
    "one directory of 1,000,000": Tree("flat", 1_000_000, 0, large=True),
}


class Line(NamedTuple):
    """What is measured: a command on a tree, the ratio to be reached, and the one in a small run."""

    name: str
    tree: str
    words: tuple[str, ...]
    limit: float
    small: float
    accounts: int = 1_000


_INSTEAD, _LISTING, _OF_INSTEAD = "who, against 10 users trying", "show, against a list in C", "9,500 profiles"
_ALL, _LIST = ("who", "--below"), ("show", "--below")
_SAVED = "{folder}/saved.jsonl.zst"
LINES = (
    Line("who, few profiles", "few profiles", _ALL, 2.1, 4.0),
    Line("who, 9,500 profiles", "9,500 profiles", _ALL, 2.4, 4.0),
    Line("who, 47,000 profiles", "47,000 profiles", _ALL, 3.2, 6.0),
    Line("who, 10,000 accounts", "9,500 profiles", _ALL, 3.1, 6.0, 10_000),
    Line("who, 20,000 entries", "20,000 entries", _ALL, 4.0, 8.0),
    Line("who, 2,000,000 entries", "2,000,000 entries", _ALL, 1.9, 0),
    Line("who, 1,000,000 in one", "one directory of 1,000,000", _ALL, 2.0, 0),
    Line("who, JSON Lines", "9,500 profiles", (*_ALL, "--format", "jsonl"), 3.2, 6.0),
    Line("who, CSV", "9,500 profiles", (*_ALL, "--format", "csv"), 3.2, 6.0),
    Line("who, who may delete", "9,500 profiles", (*_ALL, "--can", "delete"), 3.2, 6.0),
    Line("who, by own means", "9,500 profiles", (*_ALL, "--by-own-means"), 6.3, 12.0),
    Line("show, a table", "9,500 profiles", _LIST, 2.8, 6.0),
    Line("show, directories", "9,500 profiles", (*_LIST, "--only", "dirs"), 2.8, 6.0),
    Line("show, some names", "9,500 profiles", (*_LIST, "--name", "*7*"), 2.8, 6.0),
    Line("save, 9,500 profiles", "9,500 profiles", ("save", "-o", _SAVED), 2.5, 5.0),
    Line("who, of what was saved", "9,500 profiles", (*_ALL, "--from", _SAVED), 2.4, 4.0),
    Line("compare, with what was saved", "9,500 profiles", ("compare", _SAVED, "live"), 6.0, 12.0),
    Line("audit, few profiles", "few profiles", ("audit", "--not", "secret-readable"), 4.5, 12.0),
    Line("audit, and what files hold", "few profiles", ("audit",), 6.0, 12.0),
    Line("show, CSV", "9,500 profiles", (*_LIST, "--format", "csv"), 2.8, 8.0),
)

CHANGES = {"set": (3.0, 8.0), "undo": (3.0, 10.0)}
"""The ratios of changes, and those in a small run."""

ONE_BY_ONE = (0.3, 1.0), 10
"""``who --below`` for everybody, against becoming so many users in turn and asking the kernel of each entry."""

LISTED = (1.5, 4.0)
"""``show --below``, against a program in C that prints a line for each path."""

DIRECTORY = (2.0, 30.0)
"""``who PATH`` where a directory server has 20,000 accounts, against 1,000 local ones."""

STARTS = {
    "fiat --version": (("--version",), 2.0, 3.0),
    "fiat show": (("show", "/etc/passwd"), 3.5, 4.5),
    "fiat who": (("who", "/etc/passwd"), 3.5, 5.0),
    "fiat why": (("why", "root", "read", "/etc/passwd"), 4.0, 5.0),
    "fiat decode": (("decode", "0640"), 3.0, 4.5),
}
"""Command lines, their ratios to an empty Python, and those in a small run, which is mostly on a busy machine."""

MEMORY = 200, 30_000_000
"""Bytes at the peak: so many for each entry, and so many besides."""


class Measured(NamedTuple):
    """Seconds of the floor and of Fiat, run by run, and the ratio to be reached."""

    name: str
    floor: list[float]
    fiat: list[float]
    limit: float

    @property
    def ratio(self) -> float:
        """The median of the ratios, run by run."""
        return statistics.median(self.ratios)

    @property
    def ratios(self) -> list[float]:
        """Run by run."""
        return [one / other for one, other in zip(self.fiat, self.floor, strict=True)]

    def text(self) -> str:
        """As it is printed."""
        spread = f"{min(self.ratios):.2f} to {max(self.ratios):.2f}"
        seconds = f"{statistics.median(self.floor) * 1000:9.1f} {statistics.median(self.fiat) * 1000:9.1f}"
        return f"  {self.name:<34} {seconds}  {self.ratio:6.2f}  {self.limit:6.2f}  {spread}"


def timed(command: Sequence[str], **options: Any) -> float:
    """The seconds a command takes, from start to end, while what it prints is read."""
    begun = time.perf_counter()
    with subprocess.Popen(command, stdout=subprocess.PIPE, **options) as process:
        assert process.stdout is not None
        while process.stdout.read(1 << 20):
            pass
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} ended with status {process.returncode}")
    return time.perf_counter() - begun


def against(name: str, floor: Callable[[], float], fiat: Callable[[], float], runs: int, limit: float) -> Measured:
    """Measure both, one after the other, ``runs`` times, after one run of each that does not count."""
    floor(), fiat()
    pairs = [(floor(), fiat()) for _ in range(runs)]
    found = Measured(name, [one for one, _ in pairs], [other for _, other in pairs], limit)
    print(found.text(), flush=True)
    return found


class Bench:
    """One run, in a folder of its own."""

    def __init__(self, folder: Path, args: argparse.Namespace) -> None:
        self.folder = folder
        self.args = args
        self.floor = f"{folder}/floor"
        subprocess.run(["cc", "-O2", "-o", self.floor, str(HERE / "floor.c")], check=True)
        for count in ACCOUNTS:
            make_accounts(folder / f"accounts-{count}", count)

    def all(self) -> Iterator[Measured]:
        """Everything that was asked for."""
        small = self.args.small
        print(
            f"\n  {'':<34} {'floor ms':>9} {'Fiat ms':>9}  {'ratio':>6}  {'limit':>6}  spread of {self.args.runs} runs"
        )
        for name, tree in TREES.items():
            lines = [line for line in LINES if line.tree == name and self._asked(line.name)]
            instead = name == _OF_INSTEAD and (self._asked(_INSTEAD) or self._asked(_LISTING))
            if not (lines or instead) or (small and not tree.small) or (tree.large and not self.args.large):
                continue
            top = self._grown(name, tree.shape, tree.small if small else tree.entries)
            for line in lines:
                given = [word.format(folder=self.folder) for word in line.words]
                words = [FIAT, *given, str(top), "--accounts", str(self.folder / f"accounts-{line.accounts}")]
                limit = line.small if small else line.limit
                for name, environment in self._readers(line.name):
                    yield against(
                        name,
                        lambda: self._floor("read", top),  # noqa: B023
                        lambda: timed(words, env=environment),  # noqa: B023
                        self.args.runs,
                        limit,
                    )
            if instead:
                yield from self._instead(top)
            self._memory(top)
            shutil.rmtree(top)
        if any(map(self._asked, CHANGES)):
            yield from self._changes(20_000 if small else 100_000)
        if self._asked("who, a directory"):
            yield from self._directory()
        for name, (command_line, wanted, busy) in STARTS.items():
            if self._asked(name):
                limit = busy if small else wanted
                command, empty = [FIAT, *command_line], [sys.executable, "-c", ""]
                yield against(name, lambda: timed(empty), lambda: timed(command), self.args.runs * 4, limit)  # noqa: B023

    def _readers(self, name: str) -> Iterator[tuple[str, dict[str, str]]]:
        """A line's name with the environment it is measured in; with both readers, where that is asked for."""
        yield name, {**os.environ}
        if self.args.both:
            yield f"{name} (Python)", {**os.environ, "FIAT_NATIVE": "0"}

    def _asked(self, name: str) -> bool:
        return not self.args.only or name.startswith(tuple(self.args.only))

    def _grown(self, name: str, shape: str, entries: int) -> Path:
        print(f"\n{name}: {entries:,} entries", flush=True)
        folder = self.folder / "grown"
        command = [sys.executable, str(HERE / "tree.py"), str(folder), "--entries", str(entries), "--shape", shape]
        subprocess.run(command, check=True)
        top = self.folder / f"tree-{len(os.listdir(self.folder))}"
        os.rename(folder / "tree", top)
        return top

    def _floor(self, what: str, top: Path, *more: str) -> float:
        """The seconds that the floor takes."""
        done = subprocess.run([self.floor, what, str(top), *more], check=True, capture_output=True, text=True)
        return float(done.stdout.split()[1])

    def _memory(self, top: Path) -> None:
        """Say what ``who`` takes at its peak: with all of its processes, the largest of them."""
        entries = int(subprocess.run([self.floor, "read", str(top)], capture_output=True, text=True).stdout.split()[0])
        words = [FIAT, *_ALL, str(top), "--accounts", str(self.folder / "accounts-1000")]
        command = [sys.executable, "-c", _PEAK, *words]
        peak = int(subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()[-1])
        each, besides = MEMORY
        print(f"  memory at the peak: {peak / 1e6:.0f} MB, of {(each * entries + besides) / 1e6:.0f} MB", flush=True)

    def _instead(self, top: Path) -> Iterator[Measured]:
        """What people do without Fiat: to become users in turn, and try; to list everything, and think."""
        small = 1 if self.args.small else 0
        if self._asked(_LISTING):
            command = [FIAT, *_LIST, str(top)]
            listing = [self.floor, "list", str(top)]
            yield against(
                _LISTING,
                lambda: timed(listing, stderr=subprocess.DEVNULL),
                lambda: timed(command),
                self.args.runs,
                LISTED[small],
            )
        if not self._asked(_INSTEAD):
            return
        limits, count = ONE_BY_ONE
        accounts = self.folder / "accounts-1000"
        groups = [line.split(":") for line in (accounts / "group").read_text().splitlines()]
        users = [line.split(":") for line in (accounts / "passwd").read_text().splitlines()[1:]]
        asked = [
            (uid, gid, *(group[2] for group in groups if name in group[3].split(",")))
            for name, _, uid, gid, *_ in users[:: len(users) // count]
        ]
        words = [FIAT, *_ALL, str(top), "--accounts", str(accounts)]
        yield against(
            _INSTEAD,
            lambda: sum(self._floor("ask", top, *one) for one in asked),
            lambda: timed(words),
            self.args.runs,
            limits[small],
        )

    def _changes(self, entries: int) -> Iterator[Measured]:
        """Changing a tree with a history, and undoing that; the floor a copy of it."""
        one, other = (self._grown(name, "projects", entries) for name in ("changed", "changed by the floor"))
        history = ("--history", str(self.folder / "history.db"))
        modes = ["o=r", "o="]

        def change(environment: dict[str, str]) -> float:
            modes.reverse()
            return timed([FIAT, "set", str(one), "--below", "--mode", modes[0], *history], env=environment)

        def undo(environment: dict[str, str]) -> float:
            change(environment)
            return timed([FIAT, "undo", *history], env=environment)

        for what, doing in (("set", change), ("undo", undo)):
            if self._asked(what):
                limit = CHANGES[what][1 if self.args.small else 0]
                for name, environment in self._readers(what):
                    yield against(
                        name,
                        lambda: self._floor("change", other),
                        lambda: doing(environment),  # noqa: B023
                        self.args.runs,
                        limit,
                    )

    def _directory(self) -> Iterator[Measured]:
        """Accounts from a real directory server, where there is one: the one that the tests start."""
        sys.path.insert(0, str(HERE.parent / "tests"))
        from fiat.core.model.accounts import User
        from support.directory import AT_HAND, Entry, machine

        if not AT_HAND:
            print("\n  no directory server here", flush=True)
            return
        print("\na directory server: 20,000 users, 5,000 groups, one of 15,000", flush=True)
        people = [User(f"hand{number}", 100_000 + number, 200_000 + number % 5_000) for number in range(20_000)]
        groups = [Entry("crew0", 200_000, [user.name for user in people[:15_000]])]
        groups += [
            Entry(f"crew{one}", 200_000 + one, [user.name for user in people[one::4_000]]) for one in range(1, 5_000)
        ]
        local = [FIAT, "who", "/etc/passwd", "--accounts", str(self.folder / "accounts-1000")]
        with machine(people, groups) as there:
            options = {"env": {**os.environ, **there.environment}, "preexec_fn": there.enter}
            limit = DIRECTORY[1 if self.args.small else 0]
            asked = [FIAT, "who", "/etc/passwd"]
            yield against(
                "who, a directory", lambda: timed(local), lambda: timed(asked, **options), self.args.runs, limit
            )


_PEAK = """
import resource, subprocess, sys
subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024)
"""


def main() -> int:
    """Measure and print; 1 where a ratio is too far off."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--only", nargs="+", metavar="NAME", help="only the lines whose names begin so")
    parser.add_argument("--large", action="store_true", help="the largest trees too, which take minutes to make")
    parser.add_argument("--both", action="store_true", help="each line of trees without the compiled part as well")
    parser.add_argument("--small", action="store_true", help="small trees, few runs")
    parser.add_argument("--fail-over", type=float, help="fail where a ratio is so many times its limit")
    parser.add_argument(
        "--folder",
        default="/var/lib",
        help="where the trees and histories are made; nobody else may write on the way there",
    )
    args = parser.parse_args()
    if args.small:
        args.runs = min(args.runs, 3)
    print(f"{time.strftime('%Y-%m-%d')}, Linux {os.uname().release}, {_processor()}")
    with tempfile.TemporaryDirectory(prefix="fiat-bench-", dir=args.folder) as where:
        results = list(Bench(Path(where), args).all())
    far = [one.name for one in results if args.fail_over and one.ratio > one.limit * args.fail_over]
    if far:
        print(f"\nmore than {args.fail_over} times their limit: {', '.join(far)}", file=sys.stderr)
    return 1 if far else 0


def _processor() -> str:
    with open("/proc/cpuinfo") as file:
        names = [line.partition(":")[2].strip() for line in file if line.startswith("model name")]
    return f"{len(os.sched_getaffinity(0))} of {names[0] if names else os.uname().machine}"


if __name__ == "__main__":
    raise SystemExit(main())

"""Every speed of Fiat as a ratio to its floor, both measured in this run on the same warm tree.

    python bench/measure.py                        everything, on trees of 20,000 and 200,000 entries
    python bench/measure.py --entries 2000000      the same on a larger one
    python bench/measure.py --small --fail-over 2  a small run that fails where a ratio is twice its limit

Needs root (the trees have many owners) and a C compiler for the floor.
"""

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from tree import make_accounts

HERE = Path(__file__).parent
FIAT = [sys.executable, "-m", "fiat"]

LIMITS = {"who, 1,000 accounts": 2.5, "set, with history": 3.0, "fiat --version": 3.0, "fiat show": 5.0}
"""The ratios to be reached, by the name of the line."""

SMALL_LIMITS = LIMITS | {"who, 1,000 accounts": 4.0, "set, with history": 8.0}
"""What they are on the trees of ``--small``, where starting counts for more."""

_SURVEY = """
import gc, resource, sys, time
gc.disable()
import fiat
from fiat.host.live import treereader
host = fiat.open_host()
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
begun = time.perf_counter()
survey = fiat.survey(host, sys.argv[1])
print(time.perf_counter() - begun, len(survey), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)
"""


class Line(NamedTuple):
    """One line of the results: seconds of the floor and of Fiat, run by run."""

    name: str
    floor: list[float]
    fiat: list[float]

    @property
    def ratios(self) -> list[float]:
        """Run by run."""
        return [one / other for one, other in zip(self.fiat, self.floor, strict=True)]

    def text(self) -> str:
        """As it is printed."""
        ratios, median = self.ratios, statistics.median
        spread = f"{min(ratios):.2f} to {max(ratios):.2f}"
        seconds = f"{median(self.floor) * 1000:9.1f} {median(self.fiat) * 1000:9.1f}"
        return f"  {self.name:<28} {seconds}  {median(ratios):6.2f}  {spread}"


def timed(command: Sequence[str]) -> float:
    """The seconds a command takes, from start to end."""
    begun = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begun


def against(name: str, floor: Callable[[], float], fiat: Callable[[], float], runs: int) -> Line:
    """Measure both, one after the other, ``runs`` times, after one run of each that does not count."""
    floor(), fiat()
    pairs = [(floor(), fiat()) for _ in range(runs)]
    return Line(name, [one for one, _ in pairs], [other for _, other in pairs])


def floor_of(program: str, what: str, top: Path) -> float:
    """The seconds that the floor takes for ``read`` or ``change``."""
    done = subprocess.run([program, what, str(top)], check=True, capture_output=True, text=True)
    return float(done.stdout.split()[1])


def reading(program: str, folder: Path, runs: int) -> list[Line]:
    """Reading a tree and answering for it."""
    top = folder / "tree"
    who = [*FIAT, "who", "--below", str(top), "--accounts"]
    memory: list[float] = []

    def floor() -> float:
        return floor_of(program, "read", top)

    def survey() -> float:
        done = subprocess.run([sys.executable, "-c", _SURVEY, str(top)], check=True, capture_output=True, text=True)
        seconds, entries, kilobytes = done.stdout.split()
        memory.append(int(kilobytes) * 1024 / int(entries))
        return float(seconds)

    lines = [against("survey alone", floor, survey, runs)]
    for accounts in (100, 1_000, 10_000):
        place = folder / f"accounts-{accounts}"
        make_accounts(place, accounts)
        lines.append(against(f"who, {accounts:,} accounts", floor, lambda: timed([*who, str(place)]), runs))  # noqa: B023
    thousand = [*who, str(folder / "accounts-1000"), "--format", "jsonl"]
    lines.append(against("who, JSON Lines", floor, lambda: timed(thousand), runs))
    lines.append(against("show, the whole tree", floor, lambda: timed([*FIAT, "show", "--below", str(top)]), runs))
    print(f"  memory: {statistics.median(memory):.0f} bytes an entry at the peak of a survey")
    return lines


def changing(program: str, folder: Path, copy: Path, runs: int) -> list[Line]:
    """Changing a tree, and the floor a copy of it, with and without a history."""
    modes = ["o=r", "o="]

    def change(*words: str) -> float:
        modes.reverse()
        return timed([*FIAT, "set", str(folder / "tree"), "--below", "--mode", modes[0], *words])

    history = ("--history", str(folder / "history.db"))
    lines = []
    for name, words in (("set, with history", history), ("set, without", ("--no-history",))):
        lines.append(
            against(name, lambda: floor_of(program, "change", copy / "tree"), lambda: change(*words), runs)  # noqa: B023
        )
    return lines


def starting(runs: int) -> list[Line]:
    """Start-up, against an empty Python."""

    def empty() -> float:
        return timed([sys.executable, "-c", ""])

    program = shutil.which("fiat", path=os.path.dirname(sys.executable)) or "fiat"
    commands = {
        "fiat --version": [program, "--version"],
        "fiat show": [program, "show", "/etc/passwd"],
        "fiat who": [program, "who", "/etc/passwd"],
    }
    return [against(name, empty, lambda: timed(words), runs) for name, words in commands.items()]  # noqa: B023


def grow(folder: Path, entries: int) -> Path:
    """A tree of the bench."""
    subprocess.run([sys.executable, str(HERE / "tree.py"), str(folder), "--entries", str(entries)], check=True)
    return folder


def main() -> int:
    """Measure and print; 1 where a ratio is too far off."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--entries", type=int, nargs="+", default=[20_000, 200_000])
    parser.add_argument("--changes", type=int, default=100_000, help="entries of the tree that is changed; 0 for none")
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument(
        "--folder",
        default="/var/lib",
        help="where the trees and histories are made; nobody else may write on the way there",
    )
    parser.add_argument("--small", action="store_true", help="one small tree, few runs")
    parser.add_argument("--fail-over", type=float, help="fail where a ratio is so many times its limit")
    args = parser.parse_args()
    if args.small:
        args.entries, args.changes, args.runs = [60_000], 20_000, 3
    results: list[Line] = []
    print(f"{time.strftime('%Y-%m-%d')}, Linux {os.uname().release}, {_processor()}")
    with tempfile.TemporaryDirectory(prefix="fiat-bench-", dir=args.folder) as where:
        program = f"{where}/floor"
        subprocess.run(["cc", "-O2", "-o", program, str(HERE / "floor.c")], check=True)
        print(f"\n  {'':<28} {'floor ms':>9} {'Fiat ms':>9}  {'ratio':>6}  spread of {args.runs} runs")
        for entries in args.entries:
            print(f"\n{entries:,} entries")
            results += show(reading(program, grow(Path(where) / f"read-{entries}", entries), args.runs))
        if args.changes:
            print(f"\n{args.changes:,} entries, changed")
            one, other = (grow(Path(where) / name, args.changes) for name in ("change", "copy"))
            results += show(changing(program, one, other, args.runs))
    print("\nstart-up, against an empty Python")
    results += show(starting(args.runs * 4))
    return _verdict(results, SMALL_LIMITS if args.small else LIMITS, args.fail_over)


def show(lines: list[Line]) -> list[Line]:
    """Print the lines, and hand them on."""
    for line in lines:
        print(line.text(), flush=True)
    return lines


def _verdict(results: list[Line], limits: dict[str, float], times: float | None) -> int:
    far = [
        line.name for line in results if times and statistics.median(line.ratios) > limits.get(line.name, 1e9) * times
    ]
    if far:
        print(f"\nmore than {times} times their limit: {', '.join(far)}", file=sys.stderr)
    return 1 if far else 0


def _processor() -> str:
    with open("/proc/cpuinfo") as file:
        names = [line.partition(":")[2].strip() for line in file if line.startswith("model name")]
    return f"{len(os.sched_getaffinity(0))} of {names[0] if names else os.uname().machine}"


if __name__ == "__main__":
    raise SystemExit(main())

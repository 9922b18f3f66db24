"""What fleets and workers elsewhere cost, on this machine, as root; prints a table.

    python bench/fleet.py                10 and 50 hosts of 20,000 entries, a tree of 2,000,000
    python bench/fleet.py --small        few and small, as CI runs it

Workers and scheduler run in network namespaces of their own, as the tests start them. Times are medians; what is
called memory is the largest of all processes on the side of the one who asks.
"""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests"))

from support.cluster import Cluster, cluster  # noqa: E402
from support.places import BASE, use_base  # noqa: E402

FIAT = (sys.executable, "-m", "fiat")
_QUESTION = ("--below", "--can", "write", "--user", "user7")

_PEAK = """
import resource, subprocess, sys
done = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024, file=sys.stderr)
raise SystemExit(done.returncode)
"""


class Cost(NamedTuple):
    """Seconds, and bytes at the peak."""

    seconds: float
    memory: int


def measured(command: Sequence[str], runs: int) -> Cost:
    """The median of some runs; the status may be 0, 1 or 3."""
    times, peak = [], 0
    for _ in range(runs):
        begun = time.perf_counter()
        done = subprocess.run([sys.executable, "-c", _PEAK, *command], capture_output=True, text=True)
        times.append(time.perf_counter() - begun)
        if done.returncode not in (0, 1, 3):
            raise SystemExit(f"{' '.join(command)} ended with {done.returncode}: {done.stderr}")
        peak = max(peak, int(done.stderr.split()[-1]))
    return Cost(statistics.median(times), peak)


def grow(folder: Path, entries: int) -> Path:
    """A tree with so many entries."""
    subprocess.run([sys.executable, str(HERE / "tree.py"), str(folder), "--entries", str(entries)], check=True)
    return folder / "tree"


def make_fleet(folder: Path, tree: Path, hosts: int) -> None:
    """Snapshots of so many hosts, each with some modes of its own."""
    files = [entry.path for entry in os.scandir(tree) if entry.is_dir(follow_symlinks=False)]
    for number in range(hosts):
        changed = files[number * 3 % len(files)]
        mode = os.stat(changed).st_mode & 0o7777
        os.chmod(changed, mode ^ 0o005)
        words = ["save", str(tree), "--add", str(folder / f"host{number:03}")]
        words += ["--accounts", str(tree.parent / "accounts")]
        subprocess.run([*FIAT, *words], check=True, capture_output=True)
        os.chmod(changed, mode)


def engine_words(there: Cluster, words: Sequence[str]) -> list[str]:
    """The command line that has the workers do it."""
    engine = ("--engine", there.address, "--engine-tls", there.certificates)
    return there.here.command([*FIAT, *words, *engine])


def main() -> int:
    """Measure and print; 1 where something costs far more than it may."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--small", action="store_true")
    parser.add_argument("--fail-over", type=float, help="fail where a ratio is so many times its limit")
    args = parser.parse_args()
    use_base()
    few, many, entries, huge = (2, 6, 2_000, 20_000) if args.small else (10, 50, 20_000, 2_000_000)
    far_off = []
    with tempfile.TemporaryDirectory(prefix="fiat-test-", dir=BASE) as name:
        folder = Path(name)
        tree = grow(folder / "host", entries)
        for hosts in (few, many):
            make_fleet(folder / f"fleet{hosts}", tree, hosts)
        print(f"\n{few} and {many} hosts of {entries:,} entries    seconds   ratio   limit   memory")
        with cluster() as there:
            there.worker()
            for workers in (0, 1, 2):
                if workers == 2:
                    there.worker()
                costs = []
                for hosts in (few, many):
                    words = ["who", str(tree), *_QUESTION, "--from", str(folder / f"fleet{hosts}")]
                    costs.append(measured([*FIAT, *words] if not workers else engine_words(there, words), args.runs))
                by = f"{workers} worker{'s' if workers > 1 else ''} elsewhere" if workers else "this machine"
                for hosts, cost in zip((few, many), costs, strict=True):
                    print(f"  {by:<20} {hosts:>4} hosts {cost.seconds:16.2f} {'':16} {cost.memory / 1e6:6.0f} MB")
                grown = (costs[1].seconds / costs[0].seconds, many / few * 1.3, "time")
                more = (costs[1].memory / costs[0].memory, 1.3, "memory")
                for ratio, limit, what in (grown, more):
                    print(f"  {'':<20} {what:<26} {'':>4} {ratio:6.2f}  {limit:6.2f}")
                    far_off += [what] if args.fail_over and ratio > limit * args.fail_over else []
        tree = grow(folder / "huge", huge)
        words = ["who", str(tree), "--below", "--accounts", str(tree.parent / "accounts")]
        near = measured([*FIAT, *words], args.runs)
        print(f"\none tree of {huge:,} entries")
        print(f"  this machine {near.seconds:24.2f} {'':16} {near.memory / 1e6:6.0f} MB")
        with cluster() as there:
            for workers in (1, 2):
                there.worker()
                cost = measured(engine_words(there, words), args.runs)
                ratio, limit = cost.seconds / near.seconds, 1.3 if workers == 2 else 2.6
                by = f"{workers} worker{'s' if workers > 1 else ''} elsewhere"
                print(f"  {by:<20} {cost.seconds:16.2f}  {ratio:6.2f}  {limit:6.2f} {cost.memory / 1e6:6.0f} MB")
                far_off += [by] if args.fail_over and not args.small and ratio > limit * args.fail_over else []
    if far_off:
        print(f"far off: {', '.join(far_off)}")
    return bool(far_off)


if __name__ == "__main__":
    raise SystemExit(main())

"""Privilege comes back only on what nobody else can have written: judged by who writes, and then runs it."""

import itertools
import mmap
import os
import random
import re
import shutil
import subprocess
from contextlib import suppress
from pathlib import Path

import pytest

from fiat.app import restore
from fiat.core.ask.remarks import remarks_on
from fiat.core.change import undo
from fiat.core.change.guards import GUARDS
from fiat.core.change.privilege import Digests
from fiat.core.model.capabilities import CAPABILITY_XATTR
from fiat.core.model.principals import unlisted_user
from fiat.core.rules.privilege import refuses_privilege, set_id_by_mode
from fiat.core.tree.walk import walk
from fiat.host.live.host import LiveHost
from support.files import POWERS, make, mode_of
from support.filesystems import fresh
from support.kernel import PROGRAM, RAN, TELLS_WHOSE, as_somebody
from support.places import trusted_folder
from support.program import run_here
from support.times import SEED, TIMES, report

OWNER, ADVERSARY, GROUP = 7101, 7105, 7202
HOLDS, PAYLOAD = PROGRAM.ljust(256, b"\0"), TELLS_WHOSE.ljust(256, b"\0")
"""What the file holds at first, and what the adversary would have it hold: as long, so that sizes tell nothing."""

_RUNS = unlisted_user(ADVERSARY, (GROUP,))


class Adversary:
    """One who writes to a file whenever that can be done, keeps it open and mapped, and sets its times back."""

    def __init__(self, path: str, dice: random.Random) -> None:
        self.path = path
        self.dice = dice
        self.held: list[int] = []
        self.wrote = False

    def act(self) -> None:
        """Open it if that may be done; write at once, or later by the mapping, which nothing clears set-id bits for."""
        os.setegid(GROUP)
        os.seteuid(ADVERSARY)
        try:
            before = os.stat(self.path)
            with suppress(OSError):
                if self.dice.random() < 0.3:
                    os.chmod(self.path, 0o777)  # where it is theirs
                fd = os.open(self.path, os.O_RDWR)
                if self.dice.random() < 0.5:
                    self._write(fd)
                self.held.append(fd)
            with suppress(OSError):
                os.utime(self.path, ns=(before.st_atime_ns, before.st_mtime_ns))
        finally:
            os.seteuid(0)
            os.setegid(0)

    def _write(self, fd: int) -> None:
        if os.pread(fd, len(PAYLOAD), 0) != PAYLOAD:
            with mmap.mmap(fd, len(PAYLOAD)) as memory:
                memory[:] = PAYLOAD
        self.wrote = True

    def let_go(self) -> None:
        while self.held:
            os.close(self.held.pop())


def privileged(path: str) -> bool:
    return bool(mode_of(path) & 0o6000) or CAPABILITY_XATTR in os.listxattr(path)


def acts_as(path: str) -> int | None:
    """Whose number the file, run by the adversary, acts as; None where it does not run, or is not the payload."""

    def run() -> int | None:
        child = os.fork()
        if not child:
            with suppress(OSError):
                os.execv(path, [path])
            os._exit(RAN)
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])

    status = as_somebody(_RUNS, run)
    return None if status == RAN else status


class Sequence:
    """One file, set and put back in any order, while the adversary does what can be done."""

    def __init__(self, folder: str, dice: random.Random) -> None:
        self.folder, self.dice = folder, dice
        self.path = make(f"{folder}/tool", text=HOLDS)
        os.chown(self.path, dice.choice((0, 0, OWNER)), dice.choice((0, GROUP)))
        if dice.random() < 0.2:
            os.setxattr(self.path, CAPABILITY_XATTR, POWERS)
        os.chmod(self.path, dice.choice((0o4755, 0o4755, 0o6755, 0o2755, 0o4711, 0o4750)))
        self.adversary = Adversary(self.path, dice)
        self.given = 0
        self.words: list[str] = []
        self.fiat("save", folder, "--output", f"{folder}/then.jsonl")

    def fiat(self, *words: str) -> int:
        more = [] if words[0] == "save" else ["--history", f"{self.folder}/history.db"]
        if words[0] in ("set", "restore"):
            more += [word for guard in GUARDS if guard != "privilege" for word in ("--accept", guard)]
        status, _, errors = run_here(*words, *more)
        assert "Traceback" not in errors, errors
        self.words.append(" ".join(words))
        return status

    def step(self) -> None:
        """One step of root or of the adversary."""
        dice, kind = self.dice, self.dice.random()
        if kind < 0.25 or not self.words[1:]:
            self.fiat("set", self.path, *self.any_wish())
        elif kind < 0.45:
            more = dice.choice(((), (), ("--even-if-changed",), ("--run", "1..")))
            self.put_back("undo", *more)
        elif kind < 0.6:
            more = dice.choice(((), (), ("--only-lost",), ("--only-gained",)))
            self.put_back("restore", f"{self.folder}/then.jsonl", *more)
        elif kind < 0.68:  # root, by hand; what keeps its capabilities and is open to all would be lost already
            with suppress(OSError):
                os.removexattr(self.path, CAPABILITY_XATTR)
            os.chmod(self.path, dice.choice((0o777, 0o755, 0o700)))
            self.words.append(f"chmod {mode_of(self.path):o}")
        else:
            self.adversary.act()
            self.words.append(f"adversary: {len(self.adversary.held)} held, wrote: {self.adversary.wrote}")
            if dice.random() < 0.3:
                self.adversary.let_go()

    def any_wish(self) -> list[str]:
        dice = self.dice
        wishes = (
            ["--mode", dice.choice(("777", "777", "755", "u-s", "u-s", "g-s", "o+w,ug-s", "g+w"))],
            ["--owner", dice.choice(("0", str(OWNER), str(ADVERSARY), str(ADVERSARY)))],
            ["--group", dice.choice(("0", str(GROUP)))],
            ["--entry", dice.choice((f"user:{ADVERSARY}:rwx", f"user:{ADVERSARY}:rx", f"group:{GROUP}:rwx"))],
        )
        return dice.choice(wishes)

    def put_back(self, *words: str) -> None:
        """Nothing is privileged then that the adversary wrote, or could write to by what they hold open."""
        had = privileged(self.path)
        self.fiat(*words)
        has = privileged(self.path)
        assert not (has and self.adversary.wrote), (self.words, acts_as(self.path))
        if has and not had:
            self.given += 1
            assert not self.adversary.held, self.words


def sequences(count: int, seed: int) -> tuple[int, int, int]:
    dice = random.Random(seed)
    steps = given = wrote = 0
    for _ in range(count):
        with trusted_folder() as folder:
            one = Sequence(folder, dice)
            for _ in range(dice.randint(3, 9)):
                one.step()
                steps += 1
            one.adversary.let_go()
            given += one.given
            wrote += one.adversary.wrote
    return steps, given, wrote


ID, CAT = (Path(shutil.which(name) or "").resolve() for name in ("id", "cat"))
MODES = [
    special | bits for special in (0, 0o2000, 0o4000, 0o6000) for bits in (0o755, 0o745, 0o715, 0o701, 0o655, 0o005)
]


def acting(path: str, *words: str) -> str:
    """What a program prints that the adversary runs."""
    return as_somebody(_RUNS, lambda: subprocess.run([path, *words], capture_output=True, text=True).stdout)


@pytest.mark.root
@pytest.mark.parametrize("options", ["", "nosuid"])
def test_what_counts_of_set_id_and_capabilities_is_what_the_kernel_gives(options: str) -> None:
    with fresh("tmpfs", options) as top:
        for mode, script in itertools.product(MODES, (False, True)):
            if script and not mode & 0o004:
                continue  # the shell could not read it
            number = f"{mode:o}{script}"
            program = make(f"{top}/{number}", text=b"#!/bin/sh\nid $1\n" if script else ID.read_bytes())
            shown = make(f"{top}/{number}c", text=b"#!/bin/sh\ncat $1\n" if script else CAT.read_bytes())
            os.chown(program, OWNER, OWNER)
            os.setxattr(shown, CAPABILITY_XATTR, POWERS)
            os.chmod(shown, mode & 0o777)
            os.chmod(program, mode)
            found = walk(LiveHost(), program).objects[-1]
            assert found.posture.mode == mode
            counts = 0 if refuses_privilege(found.program, found.mount) else set_id_by_mode(mode)
            assert acting(program, "-u") == f"{OWNER if counts & 0o4000 else ADVERSARY}\n", f"{mode:o}"
            assert acting(program, "-g") == f"{OWNER if counts & 0o2000 else GROUP}\n", f"{mode:o}"
            found = walk(LiveHost(), shown).objects[-1]
            held = re.search(r"CapPrm:\s*(\w+)", acting(shown, "/proc/self/status"))
            assert held is not None
            assert bool(int(held[1], 16)) is not bool(refuses_privilege(found.program, found.mount))
            said = {one.code for one in remarks_on(found, LiveHost().accounts)}
            assert ("capabilities" in said) is bool(int(held[1], 16))


@pytest.mark.root
@pytest.mark.slow
def test_nothing_is_privileged_that_somebody_else_could_have_written() -> None:
    count = 60 * TIMES
    steps, given, wrote = sequences(count, SEED)
    report("privilege", sequences=count, steps=steps, given_back=given, written_to=wrote)
    assert min(given, wrote) > count // 15


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("fault", ["what others could write", "what it holds"])
def test_the_judge_of_privilege_notices(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    if fault == "what it holds":
        monkeypatch.setattr(Digests, "of", lambda *_: "0" * 64)
    else:
        for module in (undo, restore):
            monkeypatch.setattr(module, "may_come_back", lambda *_: True)
    with pytest.raises(AssertionError):
        sequences(1200, 10)  # one of some hundred is of the kind that only a digest tells apart

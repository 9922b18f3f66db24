"""Who swaps what is in a tree for something else while root changes it: at any time, or at a chosen moment."""

import ctypes
import mmap
import os
import random
import signal
import struct
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from fiat.cli.main import main
from fiat.core.change.guards import GUARDS
from fiat.core.model.principals import unlisted_user
from fiat.host.live.node import LiveNode
from support.files import State, change_flags, flags_of, in_child, make, states
from support.kernel import become, bind

ATTACKER, READERS = 7105, 7202
"""Who owns what is swapped, and a group that is let in and kept out by turns."""

_LIBC = ctypes.CDLL(None, use_errno=True)
_EXCHANGE = 2  # RENAME_EXCHANGE of renameat2(2)
_DETACH = 2  # MNT_DETACH of umount2(2)
_COUNT = struct.Struct("Q")


def exchange(one: str, other: str) -> None:
    """Give each of two paths what the other has, at one moment; OSError where that is refused."""
    if _LIBC.renameat2(-100, os.fsencode(one), -100, os.fsencode(other), _EXCHANGE):
        raise OSError(ctypes.get_errno(), one)


class Arena:
    """A tree, what is outside, and beside it for each object of the tree something that may take its place.

    ``tree`` is one that the attacker owns whole, or but for its top. The twins are symlinks to what has the same name
    outside and hard links to it, files and directories of the attacker's own, and a pipe.
    """

    def __init__(self, folder: str, *, owns_top: bool) -> None:
        self.folder = folder
        self.tree, self.outside, self.twins = f"{folder}/tree", f"{folder}/outside", f"{folder}/twins"
        for top in (self.tree, self.outside):
            make(top, 0o755, directory=True)
            for place in ("a", "a/b", "c"):
                make(f"{top}/{place}", 0o755, directory=True)
            for place in ("a/f", "a/g", "a/b/f", "a/b/g", "c/f", "c/g"):
                make(f"{top}/{place}", 0o644)
        # what is mounted for a while is at its path then, and may be changed like any other; not what is in it
        self.mounted = make(f"{folder}/mounted", 0o755, directory=True)
        for name in "fg":
            make(f"{self.mounted}/{name}", 0o644)
        make(self.twins, 0o755, directory=True)
        self.pairs: list[tuple[str, str]] = []
        for number, place in enumerate(("a/f", "a/g", "a/b/f", "a/b/g", "c/f", "c/g", "a/b", "a/b", "a/b")):
            twin = f"{self.twins}/{number}"
            if place == "a/b" and number % 3 == 0:
                make(twin, 0o755, directory=True)
            elif number % 3 == 1 and place != "a/b":
                os.link(f"{self.outside}/{place}", twin)
            elif number == 5:
                os.mkfifo(twin)
            else:
                os.symlink(f"{self.outside}/{place}", twin)
            self.pairs.append((f"{self.tree}/{place}", twin))
        mine = [self.twins, *(f"{self.tree}/{place}" for place in ("a", "a/b", "c", "a/f", "a/g", "a/b/f", "c/f"))]
        for path in [*mine, *([self.tree] if owns_top else [])]:
            os.lchown(path, ATTACKER, ATTACKER)
        if owns_top:  # and what lies right in it
            os.symlink(f"{self.outside}/a", f"{self.twins}/top")
            self.pairs.append((f"{self.tree}/a", f"{self.twins}/top"))
        self.history = f"{folder}/history.db"
        self.accounts = make(f"{folder}/accounts", 0o755, directory=True)
        make(f"{self.accounts}/passwd", text=b"root:x:0:0::/:/bin/sh\nstranger:x:7105:7105::/:/bin/sh\n"
             b"reader:x:7106:7202::/:/bin/sh\n")  # fmt: skip
        make(f"{self.accounts}/group", text=b"root:x:0:\nstranger:x:7105:\nreaders:x:7202:\n")
        for name, stated in (
            ("on", 'owner = "stranger"\nfile-mode = "0640"'),
            ("off", 'owner = "root"\nmode = "0700"'),
        ):
            allowed = "always" if name == "on" else "never"
            text = f'[[expect]]\nname = "it"\npaths = ["{self.tree}"]\nbelow = true\n'
            posture = f'[[expect]]\nname = "posture"\npaths = ["{self.tree}"]\nbelow = true\n{stated}\n'
            rights = "".join(f'{right} = {{ {allowed} = ["group:readers"] }}\n' for right in ("read", "list"))
            make(f"{folder}/rights-{name}.toml", text=(text + rights).encode())
            make(f"{folder}/posture-{name}.toml", text=posture.encode())
        for name, mode in (("on", 0o755), ("off", 0o700)):
            os.chmod(self.tree, mode)
            self.run("save", self.tree, "--output", f"{folder}/{name}.jsonl")

    def untouchable(self) -> dict[str, State]:
        """How everything is that no command may touch."""
        return {
            path: state for path, state in (states(self.outside) | states(self.mounted)).items() if path != self.mounted
        }

    def commands(self) -> dict[str, tuple[list[str], list[str]]]:
        """For each command that writes, two command lines that undo one another, mostly."""
        top, folder, flag = self.tree, self.folder, ("--flag", "append-only")
        return {
            "set": self._set("--below", "--mode", on="go=rX", off="go="),
            "owner": self._set("--below", "--owner", on="7106", off="7105"),
            "flags": (["set", top, "--below", *flag], ["set", top, "--below", f"--no{flag[0][1:]}", flag[1]]),
            "let": self._let("group:readers", "rw", top, "--below"),
            "one": self._let("reader", "read,write", f"{top}/a/b/f"),
            "check": (self._mend("rights-on"), self._mend("rights-off")),
            "posture": (self._mend("posture-on"), self._mend("posture-off")),
            "restore": (["restore", f"{folder}/on.jsonl"], ["restore", f"{folder}/off.jsonl"]),
            "arrange": self._set("--arrange", on="team:readers", off="private"),
            "undo": (["set", top, "--below", "--mode", "o=rX"], ["undo"]),
        }

    def _set(self, *words: str, on: str, off: str) -> tuple[list[str], list[str]]:
        return ["set", self.tree, *words, on], ["set", self.tree, *words, off]

    def _let(self, *words: str) -> tuple[list[str], list[str]]:
        return ["let", *words, "--do"], ["bar", *words, "--do"]

    def _mend(self, name: str) -> list[str]:
        return ["check", f"{self.folder}/{name}.toml", "--mend", "--do"]

    def run(self, *words: str) -> int:
        """Run one of them, guards accepted but for names elsewhere; its status, which no signal and no defect made."""
        more = ["--history", self.history] if words[0] not in ("save",) else []
        if words[0] in ("set", "let", "bar", "check", "restore"):
            more += [word for guard in GUARDS if guard != "hard-links" for word in ("--accept", guard)]
        status = main([*words, *more, "--accounts", self.accounts])
        assert status in (0, 1, 2, 3, 4), (status, words)
        return status


def _swap_for_ever(arena: Arena, seed: int, swaps: mmap.mmap) -> None:
    dice = random.Random(seed)
    become(unlisted_user(ATTACKER, (ATTACKER,)))
    while True:
        one, twin = dice.choice(arena.pairs)
        with suppress(OSError):
            exchange(one, twin)
            time.sleep(dice.random() ** 3 / 300)
            exchange(one, twin)
            _COUNT.pack_into(swaps, 8 * seed, _COUNT.unpack_from(swaps, 8 * seed)[0] + 2)
        time.sleep(dice.random() ** 3 / 600)


def _mount_for_ever(arena: Arena, seed: int, swaps: mmap.mmap) -> None:
    dice = random.Random(seed)
    while True:
        with suppress(OSError):
            bind(arena.mounted, f"{arena.tree}/c")
            time.sleep(dice.random() ** 3 / 300)
            _LIBC.umount2(os.fsencode(f"{arena.tree}/c"), _DETACH)
            _COUNT.pack_into(swaps, 8 * seed, _COUNT.unpack_from(swaps, 8 * seed)[0] + 2)
        time.sleep(dice.random() ** 3 / 600)


def signal_and_wait(child: int) -> None:
    """End a child process, whatever it does."""
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)


@contextmanager
def attacked(arena: Arena, seed: int) -> Iterator[Callable[[], int]]:
    """Two processes swap meanwhile, one as the attacker, one as root with mounts; how many swaps there were."""
    swaps = mmap.mmap(-1, 16)  # shared with them
    attackers = [in_child(lambda: _swap_for_ever(arena, 0, swaps)), in_child(lambda: _mount_for_ever(arena, 1, swaps))]
    try:
        yield lambda: sum(struct.unpack("2Q", swaps[:]))
    finally:
        for attacker in attackers:
            signal_and_wait(attacker)
        while not _LIBC.umount2(os.fsencode(f"{arena.tree}/c"), _DETACH):
            pass


@contextmanager
def swapped_at(arena: Arena, moment: int, pair: tuple[str, str]) -> Iterator[list[int]]:
    """A pair is exchanged just before a name is looked up for the ``moment``-th time; a number for each that was."""
    looked_up: list[int] = []
    swapped: list[int] = []
    before = LiveNode.child

    def child(self: LiveNode, name: str) -> LiveNode:
        looked_up.append(1)
        if len(looked_up) == moment:
            with suppress(OSError):  # it is append-only just now
                exchange(*pair)
                swapped.append(1)
        return before(self, name)

    LiveNode.child = child  # type: ignore[method-assign]
    try:
        yield looked_up
    finally:
        LiveNode.child = before  # type: ignore[method-assign]
        if swapped:
            for path in (arena.twins, os.path.dirname(pair[0]), *pair):
                if flags_of(path):
                    change_flags(path, 0)
            exchange(*pair)

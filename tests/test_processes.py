"""What Fiat says of running processes, against these very processes: they really try.

FIAT_JUDGE_PROCESSES sets how many there are, FIAT_JUDGE_SEED the first seed.
"""

import errno
import os
import random
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack

import pytest

from fiat.core.ask import caveats
from fiat.core.errors import UnknownAccount
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.capabilities import ALL as EVERY_POWER
from fiat.core.model.principals import Limits, Principal, Universe
from fiat.core.model.process import difference
from fiat.core.model.right import ALL, EXECUTE
from fiat.core.rules import running
from fiat.core.rules.access import Access
from fiat.core.tree.walk import route_for
from fiat.host.live import processes
from fiat.host.live.host import LiveHost
from support import kernel
from support.files import POWERS
from support.filesystems import fresh
from support.judging import differing
from support.kernel import MapIds, Subject, as_somebody, become
from support.program import fiat, machine
from support.trying import how_to_try
from support.worlds import GIDS, UIDS, World, protections

COUNT = int(os.environ.get("FIAT_JUDGE_PROCESSES", "40"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))

pytestmark = pytest.mark.root

_ABOUT_FILES = (
    capabilities.CHOWN,
    capabilities.DAC_OVERRIDE,
    capabilities.DAC_READ_SEARCH,
    capabilities.FOWNER,
    capabilities.FSETID,
)
_BOUNDS = (EVERY_POWER, EVERY_POWER & ~(1 << 10), EVERY_POWER & ~(1 << 13), 0, capabilities.DAC_OVERRIDE)
_OPTIONS = (
    kernel.READ_ONLY,
    kernel.NO_EXEC,
    kernel.NO_SUID,
    kernel.NO_DEV,
    kernel.NO_SYMFOLLOW,
    kernel.READ_ONLY | kernel.NO_EXEC | kernel.NO_SUID,
    0,
)


class Circumstances:
    """How one process lives, by dice: its ids, its powers and their bounds, its namespaces."""

    def __init__(self, world: World, seed: int) -> None:
        self.dice = dice = random.Random(seed)
        self.world = world
        self.uid = dice.choice((0, *UIDS, *UIDS))
        self.gids = sorted(dice.sample(GIDS, dice.randint(1, 3)))
        self.powers = sum(power for power in _ABOUT_FILES if dice.random() < 0.3) if dice.random() < 0.6 else 0
        self.ambient = self.powers & dice.choice((0, 0, EVERY_POWER))
        self.bounds = dice.choice(_BOUNDS)
        self.no_new_privileges = dice.random() < 0.3
        self.users = dice.choice((None, None, "own", "whole"))
        self.mounts = dice.choice((None, None, "own", "root"))
        if self.mounts == "root" and self.users == "own":
            self.users = None  # it would not be let into that root directory

    def become(self, map_ids: MapIds) -> list[str]:
        """Live so; returns the paths to try, as this process sees them."""
        if self.mounts is not None:
            kernel.unshare(kernel.NEW_MOUNTS)
            self._mount()
        paths = [*self.world.paths, *(_paths_under(self.world.top) if self.mounts else ())]
        uid, gids = self.uid, self.gids
        if self.users is not None:
            kernel.unshare(kernel.NEW_USERS)
            uid, gids = self._map(map_ids)
        else:
            kernel.bound_capabilities(self.bounds | self.ambient)
        if self.mounts == "root":  # who has another root directory may make no user namespace
            os.chroot(self.world.top)
            os.chdir("/")
            paths = [path.removeprefix(self.world.top) or "/" for path in paths]
        os.setgroups(gids)
        os.setresgid(gids[0], gids[0], gids[0])
        kernel.keep_capabilities(self.powers, uid, self.ambient)
        kernel.raise_ambient(self.ambient)
        if self.no_new_privileges:
            kernel.gain_no_privileges()
        return list(dict.fromkeys(paths))

    def _map(self, map_ids: MapIds) -> tuple[int, list[int]]:
        """A user namespace that knows some of the users and groups, or all of them."""
        if self.users == "whole":
            map_ids("0 0 4294967295", "0 0 4294967295")
            return self.uid, self.gids
        known = self.dice.randint(2, len(UIDS))
        whole = f"1000 {UIDS[0]} {known}\n65533 65533 1\n"
        map_ids(whole + ("0 0 1" if self.dice.random() < 0.3 else ""), f"1000 {GIDS[0]} {len(GIDS)}\n65533 65533 1\n")
        return 1000 + self.dice.randrange(known), [1000 + gid - GIDS[0] for gid in self.gids]

    def _mount(self) -> None:
        folders = [path for path in self.world.objects if os.path.isdir(path) and not os.path.islink(path)]
        for _ in range(self.dice.randint(1, 3)):
            point, other = self.dice.choice(folders), self.dice.choice(folders)
            if not (os.path.isdir(point) and os.path.isdir(other)) or point.startswith(f"{other}/"):
                continue  # covered by now, or it would hold itself
            if self.dice.random() < 0.3:
                kernel.mount_memory(point)
                for number in range(2):
                    _make(f"{point}/own{number}", self.dice)
            else:
                kernel.bind(self.dice.choice((point, point, other)), point, self.dice.choice(_OPTIONS))


def _make(path: str, dice: random.Random) -> None:
    with open(path, "wb") as file:
        file.write(kernel.PROGRAM)
    os.chmod(path, dice.choice((0o755, 0o640, 0o4711)))
    os.chown(path, dice.choice(UIDS), dice.choice(GIDS))


def _paths_under(top: str) -> Iterator[str]:
    for folder, folders, files in os.walk(top):
        yield from (f"{folder}/{name}" for name in (*folders, *files))


def disagreements(seed: int, top: str, seen: Counter[str]) -> list[str]:
    """What Fiat and one process differ about; ``seen`` counts the answers, also by circumstance and errno."""
    wrong: list[str] = []
    with World(top, seed) as world:
        life = Circumstances(world, seed)
        with Subject(life.become) as subject:
            host = LiveHost(world.people)
            process = host.process(subject.pid)
            sees = host.seen_by(process)
            assert (sees is not host) == (life.mounts is not None)
            judging = Access(Universe([process]), host.settings)
            asked = []
            for path in subject.made:
                for right in ALL:
                    how = how_to_try(right, sees, path, changes=life.mounts is None)
                    if how is not None:
                        asked.append((right, path, how))
            verdicts = [judging.verdict(route_for(sees, path, right), right, 0) for right, path, _ in asked]
            truth = subject.tries([(how, path) for _, path, how in asked], world.undo)
            for (right, path, how), verdict, number in zip(asked, verdicts, truth, strict=True):
                seen.update(("all", right.name, f"errno {number}", f"users {life.users}", f"mounts {life.mounts}"))
                seen[verdict.deciding.rule] += 1
                if verdict.deciding.rule == "mount-point" and number == errno.EPERM:
                    continue  # the sticky bit asks for the owner of what is covered, which nobody can see
                if life.mounts == "root" and number == errno.EBUSY:
                    continue  # what is mounted there cannot be seen from that root directory
                wrong += differing(f"seed {seed}: {process}", [(how, path)], [verdict], [number])
    return wrong


@pytest.mark.slow
def test_a_process_is_answered_for_as_it_really_fares(record_property: Callable[[str, object], None]) -> None:
    seen: Counter[str] = Counter()
    with protections():
        for seed in range(SEED, SEED + COUNT):
            with fresh("here" if seed % 2 else "tmpfs") as top:
                wrong = disagreements(seed, top, seen)
                assert not wrong, f"{len(wrong)} wrong, such as {wrong[0]}"
    record_property("compared", seen["all"])
    assert seen["all"] > 200 * COUNT
    for circumstance in ("users own", "users whole", "mounts own", "mounts root", "superuser"):
        assert seen[circumstance] >= 50 * COUNT // 40, (circumstance, seen)
    assert seen["beyond-bounds"] or COUNT < 40


def powers_count_everywhere(self: object, uid: int | None, gid: int | None) -> bool:
    return True


def sees_what_fiat_sees(self: LiveHost, who: Principal) -> LiveHost:
    return self


def root_keeps_everything(*sets: object, root: bool) -> int:
    return EVERY_POWER if root else 0


FAULTS: dict[str, tuple[object, str, object]] = {
    "capabilities of another user namespace": (Limits, "count_for", powers_count_everywhere),
    "mounts of its own": (LiveHost, "seen_by", sees_what_fiat_sees),
    "file capabilities beyond its bounds": (running, "may_not_hold", lambda held, limits: False),
    "what is left to the programs it runs": (processes, "left_after_exec", root_keeps_everything),
}


@pytest.mark.slow
@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_processes_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(*FAULTS[fault])
    with protections():
        for seed in range(1, 200):
            with fresh("tmpfs") as top:
                try:
                    if disagreements(seed, top, Counter()):
                        return
                except AssertionError:  # its own mounts were not seen at all
                    return
    pytest.fail("no disagreement in 200 processes")


# --- what is said of them --------------------------------------------------------------


def test_a_process_that_lacks_a_group_of_its_user_is_warned_of() -> None:
    with tempfile.TemporaryDirectory() as accounts:
        for name, text in (("passwd", "tidefeed:x:7106:7201::/:\n"), ("group", "watch:x:7201:\nnew:x:7299:tidefeed\n")):
            with open(f"{accounts}/{name}", "w") as file:
                file.write(text)
        who = Principal("user", "tidefeed", 7106, frozenset((7201, 7300)))
        with Subject(lambda _: become(who)) as subject:
            pid = subject.pid
            value = machine("who", "/etc/passwd", "--pid", str(pid), "--accounts", accounts)
            codes = {caveat["code"]: caveat["text"] for caveat in value["caveats"]}
            assert "is not in group new, though its user's account is" in codes["process-lacks-groups"]
            assert "number 7300" in codes["process-has-groups"]
            (process,) = value["results"][0]["processes"]
            assert (process["pid"], process["uid"], process["gids"]) == (pid, 7106, [7201, 7300])
            done = fiat("why", f"pid:{pid}", "write", "/etc/passwd", "--accounts", accounts)
            assert f"process {pid} (tidefeed) may not write /etc/passwd" in done.stdout
            assert "start it again" in done.stdout


def test_a_root_process_without_its_powers_is_told_apart() -> None:
    accounts = Accounts([User("root", 0, 0)], [Group("root", 0)], "x")
    bare = Principal("process", "root", 0, frozenset((0,)), 0, 7)
    found = difference(bare, accounts)
    assert found.lacks & capabilities.DAC_OVERRIDE
    assert [caveat.code for caveat in caveats.of_process(bare, found, accounts)] == ["process-lacks-capabilities"]
    whole = Principal("process", "root", 0, frozenset((0,)), capabilities.ALL, 7)
    assert not difference(whole, accounts)


def hardened(folder: str) -> Callable[[MapIds], None]:
    """A service with its own empty directory in place of ``folder``, and no new privileges."""

    def setup(_: MapIds) -> None:
        kernel.unshare(kernel.NEW_MOUNTS)
        kernel.mount_memory(folder)
        kernel.gain_no_privileges()
        become(Principal("user", None, 20001, frozenset((30001,))))

    return setup


def test_a_process_with_mounts_of_its_own_is_told_by_every_command() -> None:
    with fresh("here") as top:
        os.mkdir(f"{top}/shared", 0o755)
        with open(f"{top}/shared/note", "w"):
            pass
        with Subject(hardened(f"{top}/shared")) as subject:
            pid = str(subject.pid)
            done = fiat("why", f"pid:{pid}", "read", f"{top}/shared/note")
            assert done.returncode == 1
            assert "there is nothing of this name" in done.stdout
            assert "mounts, or a root directory, of its own" in done.stdout
            value = machine("who", f"{top}/shared/note", "--pid", pid, "--user", "root")
            (process,) = value["results"][0]["processes"]
            assert (process["read"], value["results"][0]["users"][0]["read"]) == (False, True)
            assert {"own-mounts", "no-new-privileges"} <= {caveat["code"] for caveat in value["caveats"]}
            below = machine("who", f"{top}/shared", "--below", "--pid", pid)
            assert below["results"][0]["entries"] == 1 if "entries" in below["results"][0] else below["results"]
            mixed = fiat("who", f"{top}/shared", "--below", "--pid", pid, "--user", "root")
            assert (mixed.returncode, f"--pid {pid} and nobody else" in mixed.stderr) == (2, True)


def test_a_tree_answers_for_a_bounded_process_as_its_paths_do() -> None:
    """A program with capabilities beyond its bounds, beside the same program without."""

    def bounded(_: MapIds) -> None:
        kernel.bound_capabilities(0)
        become(Principal("user", None, 20001, frozenset((30001,))))

    with fresh("here") as top, Subject(bounded) as subject:
        for name in ("with", "without"):
            with open(f"{top}/{name}", "wb") as file:
                file.write(kernel.PROGRAM)
            os.chmod(f"{top}/{name}", 0o755)
        os.setxattr(f"{top}/with", capabilities.CAPABILITY_XATTR, POWERS)
        pid = str(subject.pid)
        rows = machine("who", top, "--below", "--can", "execute", "--pid", pid)["results"]
        may = [row for row in rows if row["rights"]["execute"] and row["rights"]["execute"]["users"]]
        assert sum(row["others"] for row in may) == 1
        really = subject.tries([("execute", f"{top}/{name}") for name in ("with", "without")])
        assert really == [errno.EPERM, 0]
        for name, number in zip(("with", "without"), really, strict=True):
            (process,) = machine("who", f"{top}/{name}", "--pid", pid)["results"][0]["processes"]
            assert process["execute"] == (number == 0)


def test_what_an_ordinary_user_may_not_look_into_has_no_powers() -> None:
    def setup(_: MapIds) -> None:
        kernel.unshare(kernel.NEW_MOUNTS)

    nobody = Principal("user", None, 65534, frozenset((65534,)))
    with Subject(setup) as subject:

        def looked() -> tuple[int, tuple[str, ...]]:
            found = LiveHost(Accounts([], [], "none")).process(subject.pid)
            assert found.limits is not None
            return found.capabilities, found.limits.hidden

        assert as_somebody(nobody, looked) == (0, ("mounts and root directory",))
        powers, hidden = as_somebody(None, looked)
        assert powers & capabilities.DAC_OVERRIDE
        assert not hidden


def test_securebits_keep_root_from_gaining_anything() -> None:
    with fresh("here") as top:
        script = f"{top}/script"
        with open(script, "w") as file:
            file.write("#!/bin/sh\nexit 7\n")
        os.chmod(script, 0o711)
        os.chown(script, 20001, 30001)
        for prepare in (kernel.root_gains_nothing, lambda: None):

            def both(prepare: Callable[[], None] = prepare) -> tuple[int, int]:
                prepare()
                host = LiveHost(Accounts([], [], "none"))
                route = route_for(host, script, EXECUTE)
                verdict = Access(Universe([host.actor()]), host.settings).verdict(route, EXECUTE, 0)
                return verdict.errno, kernel.errno_of("execute", script)

            said, really = as_somebody(None, both)
            assert (said, really) == ((0, 0) if prepare is not kernel.root_gains_nothing else (errno.EACCES,) * 2)


def test_no_other_process_is_taken_for_one_that_has_ended() -> None:
    """The handle on /proc leads to one process, though its number be in use again."""
    with ExitStack() as held:
        with Subject(lambda _: None) as subject:
            folder = held.enter_context(processes._folder(subject.pid))
            assert processes._status(folder, subject.pid)["State"]
        with pytest.raises(UnknownAccount, match="any more"):
            processes._status(folder, subject.pid)
    assert "no process has the number" in fiat("why", f"pid:{subject.pid}", "read", "/").stderr

"""Undoing several runs as one: each path is what it was before the first of them, whatever happened in between."""

import os
import pwd
import random
from pathlib import Path

import pytest

from fiat.app.undo import put_back, undoing
from fiat.core.change.history import Run
from fiat.core.errors import PathError
from fiat.host.accounts.nameservice import NameService
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.live.behind import who_is_behind
from fiat.host.live.host import LiveHost
from support.files import State, make, mode_of, states
from support.kernel import PROGRAM
from support.places import trusted_folder
from support.program import answer, fiat, run_here

SEEDS = int(os.environ.get("FIAT_JUDGE_UNDO", "6"))

_CHANGES = (
    ("--mode", "o+w", "--accept", "everyone-writes"),
    ("--mode", "g=u"),
    ("--file-mode", "640"),
    ("--dir-mode", "2750"),
    ("--entry", "user:21001:rwX", "--accept", "shows-group-bits"),
    ("--no-list",),
    ("--owner", "21001", "--accept", "no-way-back", "--accept", "lockout"),
    ("--mode", "700"),
    ("--flag", "immutable", "--accept", "held-by-flags"),
    ("--no-flag", "immutable"),
    ("--mode", "751", "--through-flags"),
)


class Past:
    """A small tree with a history of runs: the tree as it was before each."""

    def __init__(self, top: str, history: str, dice: random.Random) -> None:
        self.top, self.history, self.dice = top, history, dice
        self.paths = [top]
        for name in ("a", "a/b", "c"):
            os.mkdir(f"{top}/{name}", 0o755)
            self.paths.append(f"{top}/{name}")
        self.paths += [make(f"{top}/{name}", 0o644) for name in ("one", "a/two", "a/b/three", "c/four")]
        self.before: dict[int, dict[str, State]] = {}

    def run(self) -> None:
        """Change something; a run that changes nothing is none."""
        before, known = states(self.top), len(self.before)
        words = ("set", self.dice.choice(self.paths), *self.dice.choice(_CHANGES), "--history", self.history)
        run_here(*words, *(("--below",) if self.dice.random() < 0.5 else ()))
        if states(self.top) != before:
            self.before[known + 1] = before


@pytest.mark.root
@pytest.mark.parametrize("seed", range(SEEDS))
def test_several_runs_are_put_back_as_one(seed: int) -> None:
    """All from some run on; then that undo is undone itself; then only what lies below a path."""
    dice = random.Random(seed)
    with trusted_folder() as folder:
        os.mkdir(f"{folder}/tree")
        history = f"{folder}/history.db"
        past = Past(f"{folder}/tree", history, dice)
        while len(past.before) < 6:
            past.run()
        now = states(past.top)
        first = dice.randint(1, 5)
        shown = answer(
            ("undo", "--accept", "privilege", "--run", f"{first}..", "--preview", "--history", history, "--json")
        )
        assert states(past.top) == now
        done = answer(("undo", "--accept", "privilege", "--run", f"{first}..", "--history", history, "--json"))
        assert states(past.top) == past.before[first]
        assert [one["path"] for one in shown["results"]] == [one["path"] for one in done["results"]]
        assert (shown["gains"], shown["losses"]) == (done["gains"], done["losses"])
        assert [done["undoes"], *done["undoes_also"]] == list(range(6, first - 1, -1))
        runs = {run["run"]: run for run in answer(("history", "--history", history, "--json"))["results"]}
        assert {number for number, run in runs.items() if run["undone_by"] == 7} == set(range(first, 7))
        assert run_here("undo", "7", "--accept", "privilege", "--history", history)[0] == 0
        assert states(past.top) == now

        below = f"{past.top}/a"
        run_here("undo", "--accept", "privilege", "--path", below, "--since", "1 hour ago", "--history", history)
        for path, state in states(past.top).items():
            under = f"{path}/".startswith(f"{below}/")
            assert state == (past.before[1] if under else now)[path], path


@pytest.mark.root
def test_setuid_is_left_off_what_somebody_else_had_and_that_is_said() -> None:
    with trusted_folder() as folder:
        path, history = make(f"{folder}/tool", 0o755), ("--history", f"{folder}/history.db")
        os.chmod(path, 0o4755)
        away = ("set", path, "--owner", "21001", "--accept", "from-root", "--accept", "clears-special", *history)
        assert fiat(*away).returncode == 0
        shown, done = fiat("undo", "--preview", *history), fiat("undo", *history)
        assert (shown.returncode, done.returncode) == (3, 3)
        assert "1 path would be put back, 1 of them in part." in shown.stdout
        assert "0 of 1 path put back, and 1 in part." in done.stdout
        assert f"cannot give setuid back to '{path}'" in done.stderr
        assert "--accept privilege" in done.stderr
        assert (mode_of(path), os.stat(path).st_uid) == (0o755, 0)
        assert fiat("undo", "1", "--accept", "privilege", *history).returncode == 0
        assert mode_of(path) == 0o4755


@pytest.mark.root
def test_the_history_is_read_as_often_for_many_runs_as_for_few(monkeypatch: pytest.MonkeyPatch) -> None:
    from fiat.host.history.sqlite import SqliteHistory

    read = SqliteHistory.runs
    reads: list[int] = []

    def counted(history: SqliteHistory) -> list[Run]:
        reads[-1] += 1
        return read(history)

    monkeypatch.setattr(SqliteHistory, "runs", counted)
    with trusted_folder() as folder:
        path, history = make(f"{folder}/file", 0o644), ("--history", f"{folder}/history.db")
        for number in range(1, 25):
            assert run_here("set", path, f"6{number // 8}{number % 8}", "--accept", "everyone-writes", *history)[0] == 0
            if number in (3, 24):
                reads.append(0)
                status, found, errors = run_here("undo", "--run", "1..", "--preview", *history)
                assert (status, "0644" in found) == (0, True), errors
    assert reads[0] == reads[1] > 0


@pytest.mark.root
def test_what_others_changed_is_overwritten_only_if_that_is_said() -> None:
    """Without the option it is named and left alone; with it, it is shown, and an undo of that brings it back."""
    with trusted_folder() as folder:
        path, history = make(f"{folder}/file", 0o644), ("--history", f"{folder}/history.db")
        assert fiat("set", path, "600", *history).returncode == 0
        os.chmod(path, 0o640)
        assert fiat("undo", "1", *history).returncode == 3
        assert mode_of(path) == 0o640
        shown = fiat("undo", "1", "--even-if-changed", "--preview", *history)
        assert "would be overwritten too" in shown.stdout
        assert "0640" in shown.stdout
        assert fiat("undo", "1", "--even-if-changed", *history).returncode == 0
        assert mode_of(path) == 0o644
        assert fiat("undo", "2", *history).returncode == 0
        assert mode_of(path) == 0o640
        Path(path).unlink()
        make(path, 0o600)
        assert fiat("undo", "1", "--even-if-changed", *history).returncode == 3
        assert mode_of(path) == 0o600, "another object is never touched"


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("--since", "soon"), "is no time"),
        (("--run", "9..3"), "write 3..9"),
        (("--since", ""), "is no time"),
        (("--run", ""), "the word after it is empty"),
        (("--path", ""), "the word after it is empty"),
        (("--by", ""), "the word after it is empty"),
        (("--last", "0"), "no count of runs"),
        (("--run", "x.."), "no number of a run"),
        (("--run", "900001..900002"), "no run that is left to undo"),
        (("3", "--run", "3..4"), "does not go with"),
    ],
)
def test_wrong_words(words: tuple[str, ...], says: str) -> None:
    done = fiat("undo", *words)
    assert done.returncode == 2
    assert says in done.stderr


@pytest.mark.root
@pytest.mark.parametrize("written", [False, True])
def test_what_is_written_between_the_look_and_the_deed_gets_no_privilege_back(*, written: bool) -> None:
    with trusted_folder() as place:
        path = make(f"{place}/program", 0o4755, text=PROGRAM)
        assert fiat("set", path, "--mode", "755", "--history", f"{place}/h.db").returncode == 0
        history, problems = SqliteHistory(f"{place}/h.db"), list[PathError]()
        undone = undoing(LiveHost(), history)
        if written:
            with open(path, "r+b") as file:
                file.write(b"#!/bin/false")
        put_back(undone, history, problem=problems.append)
        assert (mode_of(path), bool(problems)) == ((0o755, True) if written else (0o4755, False))


@pytest.mark.root
@pytest.mark.parametrize("seed", range(SEEDS))
def test_undoing_again_and_again_ends_where_it_began(seed: int) -> None:
    """Whatever was changed and put back before, in whole or in part, by paths and ranges, and made again.

    A run in the middle is not put back by its number: what an earlier one did may come back with it then.
    """
    dice = random.Random(seed)
    with trusted_folder() as folder:
        os.mkdir(f"{folder}/tree")
        past = Past(f"{folder}/tree", f"{folder}/history.db", dice)
        first = states(past.top)
        for _ in range(12):
            past.run()
            number = str(dice.randint(1, 12))
            for words in (
                ("--path", dice.choice(past.paths)), ("--last", number), ("--run", f"{number}.."), (), ("the latest",),
            ):  # fmt: skip
                if dice.random() < 0.15:
                    latest = [str(run.number) for run in SqliteHistory(past.history).runs()[:1]]
                    given = latest if words == ("the latest",) else words  # an undo is made again so
                    run_here("undo", *given, "--accept", "privilege", "--history", past.history)
        marks = []
        for _ in range(40):
            status, _, errors = run_here("undo", "--accept", "privilege", "--history", past.history)
            if status == 2:
                break
            listed = answer(("history", "--history", past.history, "--json"))["results"]
            marks.append(sum(run["state"] == "undone" for run in listed))
        assert "nothing is left to undo" in errors
        assert states(past.top) == first
        assert marks == sorted(marks)


@pytest.mark.root
def test_who_had_logged_in_is_kept_and_undo_by_time_leaves_what_is_others(monkeypatch: pytest.MonkeyPatch) -> None:
    """By the login id of the kernel, which whoever runs this sets in a child; else what the environment claims."""
    for claim in ("SUDO_USER", "SUDO_UID", "DOAS_USER", "PKEXEC_UID"):
        monkeypatch.delenv(claim, raising=False)
    if who_is_behind(NameService(), {}) is not None:
        pytest.skip("the kernel knows who logged in here, and what is claimed is not asked for")
    with trusted_folder() as folder:
        paths, history = [make(f"{folder}/{name}", 0o644) for name in "abc"], ("--history", f"{folder}/h.db")
        logged_in = _as_login(33, "set", paths[0], "600", *history)
        for path, variable in ((paths[1], {"SUDO_USER": "nobody"}), (paths[2], {})):
            assert fiat("set", path, "600", *history, env=variable).returncode == 0
        runs = {run["run"]: run["behind"] for run in answer(("history", *history, "--json"))["results"]}
        if logged_in:
            assert runs[1] == {"uid": 33, "name": pwd.getpwuid(33).pw_name, "said_by": ""}
        nobody = {"uid": pwd.getpwnam("nobody").pw_uid, "name": "nobody", "said_by": "SUDO_USER"}
        assert runs[2] == nobody
        listed = [run["run"] for run in answer(("history", "--by", "nobody", *history, "--json"))["results"]]
        assert listed == [2]
        shown = fiat("undo", "--since", "1h", "--preview", *history, env={})
        if logged_in and runs[3] is None:
            assert "Of others, and left as they are: 2 runs" in shown.stdout
            assert "Run 3, of " in shown.stdout
        assert fiat("undo", "--since", "5m", *history, env={"SUDO_USER": "nobody"}).returncode == 0
        assert [mode_of(path) for path in paths[1:]] == [0o644, 0o600 if runs[3] != nobody else 0o644]
        assert fiat("undo", "--since", "today", "--by", "everyone", *history).returncode == 0
        assert {mode_of(path) for path in paths} == {0o644}
        assert fiat("undo", "--last", "2", *history).returncode == 2


def _as_login(uid: int, *words: str) -> bool:
    """Run ``fiat`` where the kernel knows that this user logged in; whether it lets that be set here."""
    child = os.fork()
    if not child:
        try:
            with open("/proc/self/loginuid", "w", encoding="ascii") as file:
                file.write(str(uid))
            done = fiat(*words, env={})
            os._exit(done.returncode)
        except OSError:
            os._exit(77)
        finally:
            os._exit(70)
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    if status == 77:
        assert fiat(*words).returncode == 0
    else:
        assert status == 0
    return status != 77


@pytest.mark.root
def test_what_another_run_changed_since_is_said_of_that_very_path() -> None:
    """And of no other; nor of a run that failed there, or was for it and did nothing."""
    with trusted_folder() as folder:
        one, other, history = (
            make(f"{folder}/one", 0o644),
            make(f"{folder}/other", 0o644),
            ("--history", f"{folder}/h.db"),
        )
        assert fiat("set", one, other, "600", *history).returncode == 0
        assert fiat("set", one, "640", *history).returncode == 0
        os.chmod(other, 0o604)
        done = fiat("undo", "1", *history)
        assert done.returncode == 3
        lines = {line.split("'")[1]: line for line in done.stderr.splitlines()}
        assert lines[one].endswith("run 2 changed it since: fiat undo 2 comes first")
        assert "it was changed since by someone else" in lines[other]
        assert "busy" not in done.stderr.lower()
        (problem, _) = answer(("undo", "1", "--preview", *history, "--json"))["problems"]
        assert problem["errno"] is None

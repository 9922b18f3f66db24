"""Immutable and append-only: set, cleared, gone through for another change, and never lost on the way."""

import errno
import os
from pathlib import Path

import pytest

from fiat.cli.main import main
from fiat.core.change.rewriting import take
from fiat.core.change.steps import Steps
from fiat.core.model.host import Node
from fiat.core.model.principals import Principal
from fiat.host.live.host import LiveHost
from fiat.host.live.node import LiveNode
from support.files import (
    APPEND_ONLY,
    IMMUTABLE,
    NODUMP,
    change_flags,
    flags_of,
    in_child,
    make,
    mode_of,
    state_of,
    states,
)
from support.program import fiat, fiat_as, machine

pytestmark = pytest.mark.root


def test_flags_are_set_and_keep_everything_as_it_is_until_they_may_be_gone_through(folder: str) -> None:
    path, history = make(f"{folder}/key", 0o644), ("--history", f"{folder}/history.db")
    done = machine("set", path, "--flag", "immutable", *history)
    assert {(one["who"], one["right"]) for one in done["losses"]} >= {("root", "write"), ("root", "delete")}
    with pytest.raises(PermissionError):
        os.chmod(path, 0o600)
    before = state_of(path)
    refused = fiat("set", path, "--mode", "600", *history)
    assert (refused.returncode, "it is immutable" in refused.stderr) == (4, True)
    assert "--through-flags" in refused.stderr
    assert fiat("set", path, "--mode", "600", "--accept", "held-by-flags", *history).returncode == 3
    assert state_of(path) == before
    words = ("--mode", "600", "--owner", "20001", "--through-flags", "--accept", "from-root")
    assert "immutable is cleared for the change, and set again" in fiat("set", path, *words, "--preview").stdout
    through = fiat("set", path, *words, *history)
    assert through.returncode == 0, through.stderr
    assert (mode_of(path), os.stat(path).st_uid, flags_of(path)) == (0o600, 20001, IMMUTABLE)
    assert fiat("undo", *history).returncode == 0
    assert state_of(path) == before
    assert fiat("undo", "1", *history).returncode == 0
    assert flags_of(path) == 0


def test_a_tree_whose_flags_differ_gets_just_what_is_asked_for(folder: str) -> None:
    top, history = make(f"{folder}/tree", 0o755, directory=True), ("--history", f"{folder}/history.db")
    flags = {"none": 0, "fixed": IMMUTABLE, "growing": APPEND_ONLY, "both": IMMUTABLE | APPEND_ONLY}
    for name, value in flags.items():
        change_flags(make(f"{top}/{name}", 0o644), value)
    os.mkfifo(f"{top}/pipe", 0o600)
    os.symlink("none", f"{top}/link")
    before = states(top)
    words = ("set", top, "--contents", "--flag", "append-only", "--mode", "640")
    assert fiat(*words, *history).returncode == 4, "both and growing stay append-only, and so held"
    assert fiat(*words, "--no-flag", "immutable", "--through-flags", *history).returncode == 0
    assert {name: (mode_of(f"{top}/{name}"), flags_of(f"{top}/{name}")) for name in flags} == dict.fromkeys(
        flags, (0o640, APPEND_ONLY)
    )
    assert fiat("undo", *history).returncode == 0
    assert states(top) == before


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("--flag", "immutable", "--no-flag", "immutable"), "contradict each other"),
        (("--flag", "hidden"), "it is one of immutable, append-only"),
    ],
)
def test_wrong_words(folder: str, words: tuple[str, ...], says: str) -> None:
    done = fiat("set", make(f"{folder}/f"), *words)
    assert (done.returncode, says in done.stderr) == (2, True), done.stderr


def test_what_has_no_flags_and_who_may_not_set_them(folder: str) -> None:
    os.mkfifo(f"{folder}/pipe", 0o666)
    assert "only files and directories have such flags" in fiat("set", f"{folder}/pipe", "--flag", "immutable").stderr
    assert "keeps no such flags" in fiat("set", "/proc/1/status", "--flag", "immutable", "--preview").stderr
    mine = make(f"{folder}/mine", 0o644)
    os.chown(mine, 20001, 20001)
    status, _, errors = fiat_as(Principal("user", None, 20001, frozenset()), "set", mine, "--flag", "immutable")
    assert (status, "only root sets and clears such flags" in errors) == (3, True)
    assert flags_of(mine) == 0


STEPS = ("change_flags", "change_owner", "change_mode", "change_default", "last")


@pytest.mark.parametrize("step", STEPS)
def test_killed_after_any_step_undo_sets_them_again(folder: str, step: str, monkeypatch: pytest.MonkeyPatch) -> None:
    path, history = make(f"{folder}/tree", 0o755, directory=True), f"{folder}/history.db"
    change_flags(path, IMMUTABLE)
    before = state_of(path)
    words = ["set", path, "--mode", "750", "--owner", "20001", "--default-entry", "user:20002:rx", "--through-flags"]
    accepted = ["--accept", "from-root", "--accept", "lockout", "--history", history]

    def change() -> None:
        whole = getattr(LiveNode, step, None)

        def and_die(node: LiveNode, *values: object) -> None:
            assert whole is not None
            whole(node, *values)
            os._exit(9)

        if whole is not None:
            monkeypatch.setattr(LiveNode, step, and_die)
        main([*words, *accepted])

    os.waitpid(in_child(change), 0)
    assert flags_of(path) == (IMMUTABLE if step == "last" else 0), "killed where it was meant to be"
    assert fiat("undo", "--history", history).returncode == 0
    assert state_of(path) == before


@pytest.mark.parametrize("refused", ["change_owner", "change_mode", "change_default"])
def test_where_a_step_is_refused_they_are_set_again_at_once(
    folder: str, refused: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    path = make(f"{folder}/tree", 0o755, directory=True)
    change_flags(path, IMMUTABLE | APPEND_ONLY)
    before = state_of(path)
    whole = getattr(LiveNode, refused)
    tried = []

    def no_space(node: LiveNode, *values: object) -> None:
        tried.append(flags_of(path))
        if len(tried) == 1:
            raise OSError(errno.ENOSPC, "no space")
        whole(node, *values)

    monkeypatch.setattr(LiveNode, refused, no_space)
    words = ["set", path, "--mode", "750", "--owner", "20001", "--default-entry", "user:20002:rx", "--through-flags"]
    assert main([*words, "--accept", "from-root", "--accept", "lockout", "--history", f"{folder}/history.db"]) == 3
    assert tried[0] == 0
    assert "No space left" in capsys.readouterr().err
    assert state_of(path) == before


def test_a_pipe_that_took_the_place_of_a_file_is_not_opened(folder: str) -> None:
    """The object is known before it is opened: opening a pipe for reading would wait, or wake who writes to it."""
    os.mkfifo(f"{folder}/pipe")
    node: Node = LiveHost().root()
    for name in f"{folder}/pipe".strip("/").split("/"):
        node = node.child(name)
    with pytest.raises(OSError, match="not supported"):
        take(node, Steps(flags=("immutable",)))
    assert Path(f"{folder}/pipe").is_fifo()


def test_other_flags_are_told_and_compared_and_not_put_back(folder: str) -> None:
    path, held = make(f"{folder}/tree", 0o755, directory=True), f"{folder}/held.jsonl"
    make(f"{path}/file", 0o640)
    change_flags(path, NODUMP)
    assert fiat("save", path, "-o", held).returncode == 0
    assert machine("show", path)["results"][0]["other_flags"] == ["nodump"]
    change_flags(path, IMMUTABLE)
    (changed,) = machine("compare", held, "live", status=1)["results"]
    assert changed["other_flags"] == {"before": ["nodump"], "after": []}
    assert "other flags" in fiat("compare", held, "live").stdout
    assert machine("restore", held, "--no-history")["left_alone"] == {}
    assert flags_of(path) == 0, "immutable went, and the other flag stayed as it is"
    assert machine("restore", held, "--no-history")["left_alone"] == {"other-flags": [path]}

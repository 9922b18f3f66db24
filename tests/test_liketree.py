"""A tree like another, name by name, where the kernel makes what is new; two directories compared by their names."""

import json
import os
import random
import stat
from pathlib import Path
from typing import Any

import pytest

from fiat.core.change import liketree
from fiat.core.model.listbytes import DEFAULT_XATTR
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal
from fiat.core.rules import inheritance
from support.files import PRIVATE_KEY, give_list, make, state_of, states
from support.places import trusted_folder
from support.program import fiat, fiat_as, machine

SEEDS = int(os.environ.get("FIAT_JUDGE_LIKE", "12"))
ACCEPT = ("--accept", "from-root", "--accept", "everyone-writes", "--accept", "privilege", "--accept", "opens-secret",
          "--accept", "unmasks", "--accept", "shows-group-bits", "--accept", "clears-special", "--accept", "lockout",
          "--accept", "hard-links")  # fmt: skip
_LISTS = (
    "user::rwx,user:20005:r-x,group::r-x,mask::r-x,other::---",
    "user::rw-,group::rwx,group:30003:rwx,mask::rwx,other::r--",
    "user::rwx,group::r-x,other::---",
)


def _tree(top: str, dice: random.Random) -> None:
    """A small tree; two of them share about half of their names, and some are of another kind in either."""
    os.mkdir(top)
    places = [top]
    for name in ("a", "b", "c", "d"):
        if dice.random() < 0.8:
            path = f"{dice.choice(places)}/{name}"
            if os.path.lexists(path):
                continue
            os.mkdir(path)
            places.append(path)
    for place in places:
        for name in ("a", "run", "notes", "key", "pipe", "way"):
            path = f"{place}/{name}"
            if dice.random() < 0.5 or os.path.lexists(path):
                continue
            if name == "pipe":
                os.mkfifo(path)
            elif name == "way":
                os.symlink("notes", path)
            else:
                make(path, text=b"#!/bin/sh\n" if name == "run" else b"")
    for folder, _, names in os.walk(top, topdown=False):
        for path in (*(f"{folder}/{name}" for name in names), folder):
            _any_posture(path, dice)


def _any_posture(path: str, dice: random.Random) -> None:
    os.lchown(path, dice.choice((20001, 20002)), dice.choice((30001, 30002)))
    kind = stat.S_IFMT(os.lstat(path).st_mode)
    if kind == stat.S_IFLNK:
        return
    if dice.random() < 0.3 and kind != stat.S_IFIFO:
        give_list(path, dice.choice(_LISTS[:2]))
    usual = (0o755, 0o2750, 0o700, 0o1777) if kind == stat.S_IFDIR else (0o644, 0o600, 0o755, 0o640, 0o4755)
    os.chmod(path, dice.choice(usual) & (0o7777 if kind != stat.S_IFIFO else 0o777))
    if kind == stat.S_IFDIR and dice.random() < 0.4:
        give_list(path, dice.choice(_LISTS), DEFAULT_XATTR)


@pytest.mark.root
@pytest.mark.parametrize("seed", range(SEEDS))
def test_what_has_the_name_is_alike_and_what_is_there_besides_is_as_if_made_there(seed: int) -> None:
    dice = random.Random(seed)
    with trusted_folder() as folder:
        model, mine = f"{folder}/model", f"{folder}/mine"
        _tree(model, dice)
        _tree(mine, dice)
        before, like = states(mine), states(model)
        history = ("--history", f"{folder}/h.db")
        shown = machine("set", mine, "--like", model, "--below", "--preview", *ACCEPT, *history)
        assert states(mine) == before
        done = fiat("set", mine, "--like", model, "--below", *ACCEPT, *history)
        assert done.returncode == 0, done.stderr
        after = states(mine)
        assert states(model) == like
        foretold = {one["path"]: int(one["after"]["mode"], 8) for one in shown["results"]}
        for path, state in after.items():
            other = path.replace(mine, model, 1)
            assert foretold[path] == stat.S_IMODE(os.lstat(path).st_mode) or os.path.islink(path), path
            if other in like and stat.S_IFMT(_mode(like[other])) == stat.S_IFMT(_mode(state)):
                assert state == like[other], path
            elif os.path.islink(path):
                assert state == before[path]
            elif stat.S_IFMT(_mode(state)) in (stat.S_IFREG, stat.S_IFDIR):
                assert _as_made(os.path.dirname(path), before[path]) == state, path
        assert fiat("undo", "--accept", "privilege", *history).returncode == 0
        assert states(mine) == before
        differing = {one["path"] for one in machine("compare", model, mine, status=1)["results"]}
        assert differing == {
            path if path in before else other
            for path in {*before, *(one.replace(model, mine, 1) for one in like)}
            for other in [path.replace(mine, model, 1)]
            if before.get(path) != like.get(other)
        }
        assert fiat("compare", model, model).returncode == 0


def _mode(state: tuple[object, ...]) -> int:
    assert isinstance(state[0], int)
    return state[0]


def _as_made(directory: str, was: tuple[object, ...]) -> tuple[object, ...]:
    """What the kernel makes of a new object of that kind in ``directory``, for the same owner and group."""
    mode, uid, gid = _mode(was), was[1], was[2]
    assert isinstance(uid, int)
    assert isinstance(gid, int)
    path, umask = f"{directory}/.made", os.umask(0o022)
    try:
        os.setegid(gid)
        if stat.S_ISDIR(mode):
            os.mkdir(path, 0o777)
        else:
            os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o777 if mode & 0o111 else 0o666))
    finally:
        os.setegid(0)
        os.umask(umask)
    made = os.lstat(path)
    os.chown(path, uid, -1)
    os.chmod(path, stat.S_IMODE(made.st_mode))  # a change of owner takes special bits away
    try:
        return state_of(path)
    finally:
        os.rmdir(path) if stat.S_ISDIR(mode) else os.remove(path)


def _as_if_nothing_were_handed_on(parent: Posture, *rest: Any, **more: Any) -> Posture:
    return inheritance.made(parent._replace(default=None), *rest, **more)


def _whatever_its_kind(posture: Posture, *rest: Any) -> Posture:
    return posture._replace(mode=0o644)


@pytest.mark.root
@pytest.mark.parametrize("fault", [("made", _as_if_nothing_were_handed_on), ("wanted", _whatever_its_kind)])
def test_a_wrong_rule_is_noticed(fault: tuple[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(liketree, *fault)
    for seed in range(8):
        try:
            test_what_has_the_name_is_alike_and_what_is_there_besides_is_as_if_made_there(seed)
        except AssertionError:
            return
    pytest.fail("nothing was noticed in 8 pairs of trees")


@pytest.mark.root
def test_a_key_is_not_opened_without_a_word() -> None:
    """In a tree that is made like another, and by a mode; by an entry for somebody it is what was asked for."""
    with trusted_folder() as folder:
        for name in ("model", "mine"):
            make(f"{folder}/{name}", 0o755, directory=True)
        make(f"{folder}/model/key", 0o644)
        key = make(f"{folder}/mine/key", 0o600, text=PRIVATE_KEY)
        plain = make(f"{folder}/mine/plain", 0o600)
        before = states(folder)
        for words in (
            ("set", f"{folder}/mine", "--like", f"{folder}/model", "--below"),
            ("set", key, "--mode", "o+r"),
            ("set", f"{folder}/mine", "--below", "--file-mode", "640"),
        ):
            done = fiat(*words, "--no-history")
            assert (done.returncode, "guard opens-secret: " in done.stderr or "opens-secret" in done.stderr) == (
                4,
                True,
            )
            assert states(folder) == before
        for path in (key, plain):
            done = fiat("set", path, "--entry", "user:20005:r", "--preview")
            assert ("shows-group-bits" in done.stdout) == (path == key)
            assert "opens-secret" not in done.stdout
        assert fiat("set", plain, "--mode", "644", "--no-history").returncode == 0


def test_what_cannot_be_like_a_tree_is_told(tmp_path: Path) -> None:
    for name in ("one", "other"):
        (tmp_path / name / "in").mkdir(parents=True)
    (tmp_path / "file").touch()
    one = str(tmp_path / "one")
    for words, says in (
        ((one, "--like", str(tmp_path / "file"), "--below"), "is no directory"),
        ((one, "--like", f"{one}/in", "--below"), "are not apart"),
        ((f"{one}/in", "--like", one, "--below"), "are not apart"),
        ((one, "--like", str(tmp_path / "other"), "--below", "--mode", "700"), "does not go with"),
    ):
        done = fiat("set", *words, "--preview")
        assert (done.returncode, says in done.stderr) == (2, True), done


@pytest.mark.root
def test_what_lies_where_the_model_cannot_be_read_is_left_alone() -> None:
    """Nobody knows whether it is there besides: another user's directory in the model, and the same names in mine."""
    with trusted_folder() as folder:
        for name in ("model", "mine"):
            for path in (f"{folder}/{name}", f"{folder}/{name}/closed", f"{folder}/{name}/closed/in"):
                make(path, 0o755, directory=True)
            make(f"{folder}/{name}/closed/in/file", 0o600)
        for path, _, names in os.walk(f"{folder}/mine"):
            for one in (path, *(f"{path}/{name}" for name in names)):
                os.chown(one, 20001, 30001)
        os.chmod(f"{folder}/mine", 0o700)
        os.chmod(f"{folder}/model/closed", 0o700)
        words = ("set", f"{folder}/mine", "--like", f"{folder}/model", "--below", "--preview", "--json")
        _, out, err = fiat_as(Principal("user", "20001", 20001, frozenset({30001})), *words)
        assert f"{folder}/model/closed" in err
        assert {one["path"] for one in json.loads(out)["results"]} == {f"{folder}/mine", f"{folder}/mine/closed"}


def test_a_missing_directory_is_named(tmp_path: Path) -> None:
    for words in ((str(tmp_path), f"{tmp_path}/none"), (f"{tmp_path}/none", str(tmp_path))):
        done = fiat("compare", *words)
        assert done.returncode == 2
        assert f"{tmp_path}/none" in done.stderr
        assert "No such file" in done.stderr or "does not exist" in done.stderr

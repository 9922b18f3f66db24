"""``fiat set``, ``fiat history`` and ``fiat undo`` as their user runs them, on real files."""

import json
import os
import subprocess
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import pytest

from fiat.core.change.guards import GUARDS
from fiat.core.model import capabilities
from fiat.core.model.listbytes import DEFAULT_XATTR
from fiat.core.model.principals import Principal
from support.files import (
    IMMUTABLE,
    POWERS,
    PRIVATE_KEY,
    change_flags,
    give_list,
    list_of,
    make,
    mode_of,
    state_of,
    states,
)
from support.filesystems import ROOT, fresh
from support.program import fiat, fiat_as, machine, run_here, sample


def history(folder: str) -> tuple[str, str]:
    return "--history", f"{folder}/history.db"


def test_a_tree_with_names_of_any_bytes(folder: str) -> None:
    top = make(f"{folder}/tree", 0o700, directory=True)
    deep = top
    for name in (b"line\nbreak", b"\x1b[31mred", b"\xff\xfe", b"-rf", "ж".encode(), b"x" * 250):
        deep = make(os.path.join(deep, os.fsdecode(name)), 0o700, directory=True)
        make(f"{deep}/data", 0o600)
        make(f"{deep}/tool", 0o700)
        os.symlink("/etc/passwd", f"{deep}/link")
    before = states(top)
    passwd = state_of("/etc/passwd")
    where = history(folder)
    done = fiat("set", top, "--below", "--mode", "go=rX", *where)
    assert done.returncode == 0, done.stderr
    assert "19 paths changed." in done.stdout
    after = {path: mode_of(path) for path in before if not os.path.islink(path)}
    for path, mode in after.items():
        assert mode == (0o755 if os.path.isdir(path) or path.endswith("tool") else 0o644)
    assert states(top) != before
    value = machine("history", "1", *where)
    assert [row["path"] for row in value["results"]] == sorted(after, reverse=True)
    undone = fiat("undo", *where)
    assert undone.returncode == 0, undone.stderr
    assert states(top) == before
    assert fiat("undo", *where).returncode == 2  # nothing is left
    assert fiat("undo", "2", *where).returncode == 0
    assert {path: mode_of(path) for path in after} == after
    assert [run["state"] for run in machine("history", *where)["results"]] == ["done", "undone", "done"]
    assert state_of("/etc/passwd") == passwd


def test_files_and_directories_apart_and_chosen(folder: str) -> None:
    top = make(f"{folder}/tree", 0o711, directory=True)
    inner = make(f"{top}/in", 0o711, directory=True)
    accept = ("--accept", "from-root")  # tool.sh is no longer one
    report, tool = make(f"{inner}/report.txt", 0o600), make(f"{inner}/tool.sh", 0o700)
    assert fiat("set", top, "--contents", "--file-mode", "640", "--dir-mode", "2750", *accept).returncode == 0
    assert [mode_of(path) for path in (top, inner, report, tool)] == [0o711, 0o2750, 0o640, 0o640]
    assert fiat("set", top, "--below", "--name", "*.sh", "--mode", "u+x").returncode == 0
    assert [mode_of(path) for path in (top, inner, report, tool)] == [0o711, 0o2750, 0o640, 0o740]
    assert fiat("set", top, "--contents", "--only", "dirs", "--mode", "-w").returncode == 0
    assert [mode_of(path) for path in (top, inner, report)] == [0o711, 0o2550, 0o640]
    value = machine("set", top, "--below", "--mode", "o=", "--with", "o+x")
    assert [row["path"] for row in value["results"]] == [top]
    assert value["changed"] == 1
    assert "nothing to change" in fiat("set", top, "--mode", "710").stdout
    assert (
        "no path is what the options choose" in fiat("set", top, "--below", "--name", "nothing", "--mode", "0").stdout
    )


def test_lists_and_defaults(folder: str) -> None:
    top = make(f"{folder}/tree", 0o750, directory=True)
    tool, data = make(f"{top}/tool", 0o750), make(f"{top}/data", 0o640)
    words = ("--entry", "user:7105:rX", "--entry", "group:7201:rw", "--default-entry", "user:7105:rwx")
    assert fiat("set", top, "--below", *words).returncode == 0
    assert list_of(data) == ["user::rw-", "user:7105:r--", "group::r--", "group:7201:rw-", "mask::rw-", "other::---"]
    assert list_of(tool)[1] == "user:7105:r-x"
    assert list_of(top, DEFAULT_XATTR) == ["user::rwx", "user:7105:rwx", "group::r-x", "mask::rwx", "other::---"]
    assert fiat("set", data, "--mask", "r--").returncode == 0
    assert list_of(data)[-2] == "mask::r--"
    assert fiat("set", data, "--entry", "group:7202:rw-").returncode == 4  # it would unmask another's w
    assert fiat("set", data, "--entry", "group:7202:rw-", "--mask", "r--").returncode == 0
    assert fiat("set", data, "--no-entry", "user:7105", "--no-entry", "group:7202", "--mask=---").returncode == 0
    assert list_of(data) == ["user::rw-", "group::r--", "group:7201:rw-", "mask::---", "other::---"]
    assert fiat("set", data, "--no-list").returncode == 0
    assert mode_of(data) == 0o600  # its group keeps what the mask left it, which is nothing
    with pytest.raises(OSError, match="No data"):
        list_of(data)
    assert fiat("set", top, "--default-mask", "r-x", "--no-default-entry", "user:7105").returncode == 0
    assert list_of(top, DEFAULT_XATTR) == ["user::rwx", "group::r-x", "mask::r-x", "other::---"]
    assert fiat("set", top, "--no-default-list").returncode == 0
    assert machine("show", top)["results"][0]["default"] is None
    done = fiat("set", data, "--default-entry", "user:7105:r")
    assert (done.returncode, "Not a directory" in done.stderr) == (3, True)


def test_like_another_path(folder: str) -> None:
    model, other = make(f"{folder}/model", 0o2750, directory=True), make(f"{folder}/other", 0o700, directory=True)
    give_list(model, "user::rwx,user:7105:rwx,group::r-x,mask::r-x,other::---")
    give_list(model, "user::rwx,user:7105:r-x,group::r-x,mask::r-x,other::---", DEFAULT_XATTR)
    inside = make(f"{other}/data", 0o600)
    assert fiat("set", other, "--below", "--like", model, "--accept", "shows-group-bits").returncode == 0
    assert state_of(other)[1:] == state_of(model)[1:]
    assert mode_of(other) == 0o2750
    made = ["user::rw-", "user:7105:r-x", "group::r-x", "mask::r--", "other::---"]  # there is none of the name
    assert list_of(inside) == made


def test_a_named_link_and_a_link_in_a_tree(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    outside = make(f"{folder}/outside", 0o644)
    os.symlink("../outside", f"{top}/link")
    assert fiat("set", top, "--below", "--mode", "700").returncode == 0
    assert mode_of(outside) == 0o644
    done = fiat("set", f"{top}/link", "--mode", "600")
    assert f"{top}/link leads to {outside}, which is what changes" in done.stdout
    assert mode_of(outside) == 0o600
    assert fiat("set", f"{top}/link", "--link-itself", "--mode", "640").returncode == 3
    if ROOT:
        before = state_of(outside)
        assert fiat("set", f"{top}/link", "--link-itself", "--owner", "7101", "--accept", "from-root").returncode == 0
        assert (os.lstat(f"{top}/link").st_uid, state_of(outside)) == (7101, before)
        assert fiat("set", top, "--below", "--owner", "7102", "--accept", "from-root").returncode == 0
        assert (os.lstat(f"{top}/link").st_uid, state_of(outside)) == (7102, before)


@pytest.mark.root
@pytest.mark.parametrize("guard", [guard for guard in GUARDS if guard != "no-way-back"])
def test_every_guard_refuses_until_it_is_accepted(folder: str, guard: str, request: pytest.FixtureRequest) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    path, place = make(f"{top}/f", 0o755), top
    words: tuple[str, ...]
    partly = 0
    if guard == "lockout":
        os.chown(top, 7101, 7101)
        words, said = (top, "--mode", "u-x"), "its owner number 7101 could no longer traverse it"
    elif guard == "everyone-writes":
        words, said, place = (path, "--mode", "o+w"), "everyone who gets there could write to it", path
    elif guard == "privilege":
        words, said, place = (path, "--mode", "u+s"), "whoever runs it would act as user root (setuid)", path
    elif guard == "system-path":
        words, said, place = ("/boot", "--group", "7201"), "the system depends on how this is set", "/boot"
    elif guard == "from-root":
        words, said, place = (path, "--owner", "7101"), "it would belong to number 7101", path  # a program
    elif guard == "clears-special":
        os.chown(path, 7101, 7101)
        os.setxattr(path, capabilities.CAPABILITY_XATTR, POWERS)
        os.chmod(path, 0o4755)
        words, place = (path, "--owner", "7102"), path
        said = "the kernel drops setuid and its file capabilities as the owner or group changes"
    elif guard == "opens-secret":
        Path(path).write_bytes(PRIVATE_KEY)
        os.chmod(path, 0o600)
        words, said, place = (path, "--mode", "640"), "it holds a private key, and more people could read it", path
    elif guard == "shows-group-bits":
        Path(path).write_bytes(PRIVATE_KEY)
        os.chmod(path, 0o600)
        words, said, place = (
            (path, "--entry", "user:7105:r"),
            "0600 becomes 0640, for the middle letters show the mask",
            path,
        )
    elif guard == "hard-links":
        os.link(path, f"{folder}/elsewhere")
        words, said, place = (top, "--below", "--mode", "o-x"), "1 other name elsewhere would change with it", path
    elif guard == "breaks-expectation":
        os.chmod(path, 0o640)
        expected = f"{folder}/expected.toml"
        Path(expected).write_text(f'[[expect]]\nname = "as agreed"\npaths = ["{path}"]\nmode = "0640"\n')
        words = (path, "--mode", "600", "--check", expected)
        said, place = "'as agreed' would no longer hold: its mode is 0600, not 0640", path
    elif guard == "held-by-flags":
        other = make(f"{top}/g", 0o755)
        change_flags(other, IMMUTABLE)
        partly = 3
        words, said, place = (top, "--below", "--mode", "700"), "1 of 3 paths is immutable", other
    elif guard == "partly-forbidden":
        other, partly = f"{top}/pipe", 3
        os.mkfifo(other)
        words, said, place = (path, other, "--flag", "immutable"), "1 of 2 paths cannot be changed by", other
    else:
        give_list(path, "user::rw-,user:7105:rw-,group::r--,mask::r--,other::---")
        words, said, place = (path, "--mode", "g+w"), "user:7105:rw- gets w; --mask=r-- keeps it", path
    seen = {"partly-forbidden": path, "held-by-flags": top}.get(guard, place)
    before = state_of(seen)
    where = history(folder)
    done = fiat("set", *words, *where)
    assert done.returncode == 4
    assert f"guard {guard}: " in done.stderr
    assert f"'{place}'" in done.stderr
    assert said in done.stderr
    assert f"--accept {guard}" in done.stderr
    assert "Refused: nothing is written" in done.stdout
    assert state_of(seen) == before
    assert not os.path.exists(where[1])
    preview = fiat("set", *words, "--preview", *where)
    assert (preview.returncode, f"Would be refused by guard {guard}: " in preview.stdout) == (4, True)
    found = machine("set", *words, "--preview", status=4)["guards"]
    assert guard in [one["name"] for one in found]
    assert fiat("set", *words, "--accept", guard, "--preview").returncode == partly
    accepted = fiat("set", *words, "--accept", guard, *where)
    assert accepted.returncode == partly, accepted.stderr
    assert state_of(seen) != before
    assert fiat("undo", "--accept", "privilege", *where).returncode == 0
    assert state_of(seen) == before


@pytest.mark.root
def test_what_an_ordinary_user_could_not_put_back_is_guarded(folder: str) -> None:
    """A group that is not theirs, setgid for it, and the names of a file in two directories that close together."""
    os.chmod(folder, 0o755)
    top = make(f"{folder}/tree", 0o755, directory=True)
    path, inside = make(f"{top}/f", 0o644), make(f"{top}/d", 0o2755, directory=True)
    for one in (top, path, inside):
        os.chown(one, 20001, 30002)
    os.chmod(inside, 0o2755)
    owner = Principal("user", None, 20001, frozenset((30001,)))
    status, _, errors = fiat_as(owner, "set", path, "--group", "30001")
    assert (status, "group number 30002, gives it to that group again" in errors) == (4, True)
    status, _, errors = fiat_as(owner, "set", inside, "--mode", "0755")
    assert (status, "setgid for group number 30002 is left out for those who are not in it" in errors) == (4, True)
    assert fiat_as(owner, "set", path, "--mode", "600", "--preview")[0] == 0
    other = make(f"{top}/e", 0o755, directory=True)
    os.chown(other, 20001, 30001)
    os.link(path, f"{inside}/f")
    os.link(path, f"{other}/f")
    before = states(top)
    words = ("set", top, "--below", "--mode", "0000", "--accept", "lockout", "--accept", "no-way-back")
    promised, _, _ = fiat_as(owner, *words, "--preview")
    assert (promised, fiat_as(owner, *words)[0]) == (0, 0)
    assert {mode_of(path) & 0o777 for path in before} == {0}
    foretold, out, told = fiat_as(owner, "undo", "--preview")
    assert "of which a part would not be put back" in out
    status, _, met = fiat_as(owner, "undo")
    assert (foretold, told) == (status, met)
    assert status == 3  # as it was said before: setgid is not theirs to set
    after = states(top)
    assert {path for path, state in before.items() if after[path] != state} == {inside}


def test_undo_passes_over_what_nobody_can_put_back(folder: str) -> None:
    where = history(folder)
    one, two = make(f"{folder}/one", 0o644), make(f"{folder}/two", 0o644)
    for path in (one, two):
        assert fiat("set", path, "--mode", "600", *where).returncode == 0
    os.unlink(two)
    done = fiat("undo", *where)
    assert (done.returncode, "Passed over: run 2" in done.stdout, mode_of(one)) == (0, True, 0o644)
    for _ in range(2):
        done = fiat("undo", *where)
        assert "of what is left to undo (run 2) nothing can be put back" in done.stderr
    done = fiat("undo", "2", *where)
    assert (done.returncode, f"'{two}': No such file or directory" in done.stderr) == (3, True)
    assert [run["run"] for run in machine("history", *where)["results"]] == [3, 2, 1]


@pytest.mark.root
def test_with_a_full_disk_a_run_can_be_put_back(folder: str) -> None:
    path = make(f"{folder}/f", 0o644)
    with fresh("tmpfs", "size=256k") as small:
        where = history(small)
        assert fiat("set", path, "--mode", "600", *where).returncode == 0
        with (Path(small) / "filler").open("wb", buffering=0) as filler, suppress(OSError):
            while True:
                filler.write(bytes(4096))
        done = fiat("undo", *where)
        assert (done.returncode, "--no-history puts back without" in done.stderr, mode_of(path)) == (4, True, 0o600)
        assert fiat("undo", "--no-history", *where).returncode == 0
        assert mode_of(path) == 0o644


@pytest.mark.root
def test_what_is_no_danger_is_not_objected_to(folder: str) -> None:
    """Root loses no program that is none; every name of a file may be named; capabilities on a directory do nothing."""
    where = history(folder)
    text = make(f"{folder}/text", 0o744, text=b"words\n")
    script = make(f"{folder}/script", 0o744, text=b"#!/bin/sh\n")
    assert fiat("set", text, "--mode", "600", *where).returncode == 0
    done = fiat("set", script, "--mode", "600", *where)
    assert (done.returncode, "guard from-root" in done.stderr) == (4, True)
    names = [text, f"{folder}/second", f"{make(f'{folder}/d', 0o755, directory=True)}/third"]
    for name in names[1:]:
        os.link(text, name)
    assert fiat("set", *names, "--mode", "640", *where).returncode == 0
    assert fiat("set", *names[:2], "--mode", "644", *where).returncode == 4
    inside = make(f"{folder}/with", 0o755, directory=True)
    os.setxattr(inside, capabilities.CAPABILITY_XATTR, POWERS)
    before = state_of(inside)
    assert fiat("set", inside, "--mode", "700", *where).returncode == 0
    assert fiat("set", inside, "--group", "7201", *where).returncode == 0
    assert [fiat("undo", *where).returncode for _ in range(2)] == [0, 0]
    assert state_of(inside) == before


@pytest.mark.root
def test_a_mount_that_is_named_changes_with_the_tree_around_it(folder: str) -> None:
    tree = make(f"{folder}/tree", 0o755, directory=True)
    point = make(f"{tree}/a\u2028b\x85c\fd", 0o755, directory=True)
    subprocess.run(["mount", "-t", "tmpfs", "none", point], check=True)
    try:
        os.chmod(point, 0o755)
        inside = make(f"{point}/f", 0o644)
        done = fiat("set", tree, point, "--below", "--mode", "o-r", *history(folder))
        assert (done.returncode, "other file systems" in done.stdout) == (0, False)
        assert [mode_of(path) for path in (tree, point, inside)] == [0o751, 0o751, 0o640]
        assert (
            machine("show", point)["results"][0]["mount"]["point"] == point
        )  # to the kernel nothing there ends a line
        rows = machine("who", tree, "--below", "--can", "delete")["results"]
        assert machine("who", point, "--can", "delete", status=1)["results"][0]["users"][0]["delete"] is False
        assert {row["first"][0]: row["rights"]["delete"]["users"] for row in rows} == {tree: ["root"], point: []}
    finally:
        subprocess.run(["umount", point], check=True)


@pytest.mark.root
def test_undo_leaves_alone_what_is_no_longer_what_it_was(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    names = [make(f"{top}/{name}", 0o644) for name in "abcdef"]
    where = history(folder)
    assert fiat("set", top, "--below", "--mode", "o=", *where).returncode == 0
    os.chmod(names[0], 0o664)  # changed since
    os.unlink(names[1])  # gone
    os.unlink(names[2])
    make(names[2], 0o640)  # another file, which may well get the same inode number
    os.unlink(names[3])
    os.symlink("/etc/passwd", names[3])
    passwd = state_of("/etc/passwd")
    preview = fiat("undo", *where, "--preview")
    assert preview.returncode == 3
    assert "3 paths would be put back" in preview.stdout
    done = fiat("undo", *where)
    assert done.returncode == 3
    reasons = ("changed since by someone", "No such file", "another object", "another object")
    for path, why in zip(names[:4], reasons, strict=True):
        assert any(path in line and why in line for line in done.stderr.splitlines()), done.stderr
    assert "3 of 7 paths put back." in done.stdout
    assert [mode_of(path) for path in (top, *names[4:])] == [0o755, 0o644, 0o644]
    assert [mode_of(path) for path in (names[0], names[2])] == [0o664, 0o640]
    assert state_of("/etc/passwd") == passwd
    runs = machine("history", *where)["results"]
    assert [(run["state"], run["changed"]) for run in runs] == [("partial", 3), ("done", 7)]


@pytest.mark.root
def test_a_failure_does_not_stop_the_others_unless_asked(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    names = [make(f"{top}/{name}", 0o644) for name in "abc"]
    change_flags(names[1], IMMUTABLE)
    try:
        assert fiat("set", *names, "--mode", "600", "--stop", "--accept", "held-by-flags").returncode == 3
        assert [mode_of(path) for path in names] == [0o644] * 3
        assert fiat("set", *names, "--mode", "600").returncode == 4
        done = fiat("set", *names, "--mode", "600", "--accept", "held-by-flags")
        assert (done.returncode, f"cannot change '{names[1]}': Operation not permitted" in done.stderr) == (3, True)
        assert [mode_of(path) for path in names] == [0o600, 0o644, 0o600]
    finally:
        change_flags(names[1], 0)


@pytest.mark.root
def test_where_no_history_can_be_written_nothing_changes(folder: str) -> None:
    path = make(f"{folder}/f", 0o644)
    with fresh("tmpfs", "size=64k") as full:
        (Path(full) / "filler").write_bytes(bytes(48 * 1024))
        done = fiat("set", path, "--mode", "600", *history(full))
        assert (done.returncode, "full" in done.stderr, "--no-history" in done.stderr) == (4, True, True)
        subprocess.run(["mount", "-o", "remount,ro", os.path.dirname(full)], check=True)
        try:
            done = fiat("set", path, "--mode", "600", *history(full))
        finally:
            subprocess.run(["mount", "-o", "remount,rw", os.path.dirname(full)], check=True)
        assert (done.returncode, "nothing was changed" in done.stderr) == (4, True)
    assert mode_of(path) == 0o644
    for bad in (f"{folder}/no/such/history", "/proc/history", folder):
        assert fiat("set", path, "--mode", "600", "--history", bad).returncode == 4
    open_to_all = make(f"{folder}/open.db", 0o666)
    assert "open to others" in fiat("set", path, "--mode", "600", "--history", open_to_all).stderr
    os.chmod(open_to_all, 0o600)
    os.chown(open_to_all, 7101, 7101)
    assert "belongs to another user" in fiat("undo", "--history", open_to_all).stderr
    Path(f"{folder}/garbage").write_bytes(b"no database" * 100)
    os.chmod(f"{folder}/garbage", 0o600)
    assert fiat("set", path, "--mode", "600", "--history", f"{folder}/garbage").returncode == 4
    assert mode_of(path) == 0o644
    done = fiat("set", path, "--mode", "600", "--no-history")
    assert (done.returncode, "undo" in done.stdout) == (0, False)
    assert mode_of(path) == 0o600


@pytest.mark.slow
def test_many_at_once_share_one_history(folder: str) -> None:
    trees = []
    for number in range(8):
        trees.append(make(f"{folder}/t{number}", 0o755, directory=True))
        for name in range(40):
            make(f"{trees[-1]}/{name}", 0o644)
    before = {tree: states(tree) for tree in trees}
    where = history(folder)
    with ThreadPoolExecutor(8) as pool:
        done = list(pool.map(lambda tree: fiat("set", tree, "--below", "--mode", "go=", *where), trees))
    assert [one.returncode for one in done] == [0] * 8
    runs = machine("history", *where)["results"]
    assert sorted(run["run"] for run in runs) == list(range(1, 9))
    assert {run["paths"] for run in runs} == {41}
    with ThreadPoolExecutor(8) as pool:
        done = list(pool.map(lambda run: fiat("undo", str(run["run"]), *where), runs))
    assert [one.returncode for one in done] == [0] * 8
    assert {tree: states(tree) for tree in trees} == before
    assert mode_of(where[1]) == 0o600


def test_words_that_are_wrong(folder: str) -> None:
    path = make(f"{folder}/f", 0o644)
    words: tuple[str, ...]
    for words, said in (
        ((), "what shall be set?"),
        (("--mode", "89"), "'89' has a digit over 7"),
        (("--owner", "nobody-at-all"), "'nobody-at-all'"),
        (("--entry", "user:7105"), "has 2 fields"),
        (("--entry", "user:7105:rXx"), "'X' is no permission"),
        (("--mask", "rq"), "'q' is no permission"),
        (("--like", f"{folder}/missing"), "No such file"),
        (("--mode", "600", "--accept", "everything"), "'everything'"),
        (("--no-entry", "other:"), "needs one entry for the other"),
        (("--from", "skerry", "--mode", "600"), "a snapshot cannot be changed"),
    ):
        done = fiat("set", path, *words)
        assert (done.returncode, said in done.stderr) == (2, True), done.stderr
        assert len(done.stderr.splitlines()) == 1
    for words, said in (
        (("undo",), "nothing is left to undo"),
        (("undo", "3"), "has the number 3; it is empty"),
        (("undo", "x"), "'x' is no number of a run"),
        (("history", "-1"), "-1"),
        (("history", "--last", "0"), "'0' is no count of runs"),
        (("history", "--last=-2"), "'-2' is no count of runs"),
        (("undo", "--from", "skerry"), "a snapshot was never changed"),
    ):
        done = fiat(*words, *history(folder))
        assert (done.returncode, said in done.stderr) == (2, True), done.stderr
    assert "Nothing has been changed yet" in fiat("history", *history(folder)).stdout
    assert mode_of(path) == 0o644


def test_an_empty_path_is_not_the_current_directory(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    for how in ((), ("--below",), ("--preview",)):
        done = fiat("set", "", "--mode", "750", *how, cwd=top)
        assert (done.returncode, done.stdout, "''" in done.stderr) == (2, "", True)
    assert mode_of(top) == 0o755


def test_the_plan_for_a_tree_of_the_sample_host() -> None:
    done = sample("set", "/srv/skerry", "--below", "--group", "survey", "--preview", "--format", "json")
    value = json.loads(done.stdout)
    everything = json.loads(sample("show", "/srv/skerry", "--below", "--format", "json").stdout)["results"]
    assert {row["path"] for row in value["results"]} == {"/srv/skerry", *(row["path"] for row in everything)}
    for row in value["results"]:
        before, after = row["before"]["group"], row["after"]["group"]
        assert before == after or after["name"] == "survey"
    assert value["applied"] is False
    assert {guard["name"] for guard in value["guards"]} == {"clears-special", "held-by-flags"}


@pytest.mark.root
def test_what_another_mount_shows_is_said_to_change_there_too(folder: str) -> None:
    inner, beside = make(f"{folder}/inner", 0o755, directory=True), make(f"{folder}/beside", 0o755, directory=True)
    subprocess.run(["mount", "--bind", inner, beside], check=True)
    try:
        told = run_here("set", inner, "--mode", "700", "--preview")[1]
    finally:
        subprocess.run(["umount", beside], check=True)
    assert f"what changes is shown by another mount too, and is other there as well: {beside}" in told
    assert "another mount" not in run_here("set", inner, "--mode", "700", "--preview")[1]


@pytest.mark.root
def test_what_its_owner_may_not_read_may_be_a_script(folder: str) -> None:
    """It is made executable by its owner: others may run a program, and a script only if they may read it."""
    path = make(f"{folder}/tool", 0o700, text=b"#!/bin/sh\n")
    who = Principal("user", "keeper", 21001, frozenset((31001,)))
    os.chown(path, 21001, 31001)
    os.chmod(path, 0o200)
    words = ("set", path, "--mode", "ug+x", "--preview")
    said = f"{path} may not be read here: a script runs for nobody but those who may read it as well"
    assert said in fiat_as(who, *words)[1]
    os.chmod(path, 0o600)
    assert "may not be read here" not in fiat_as(who, *words)[1]

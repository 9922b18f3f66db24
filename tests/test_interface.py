"""``import fiat`` does what the commands do, on real files and as the README has it."""

import io
import os
import re
import shlex
from contextlib import redirect_stdout
from pathlib import Path

import pytest

import fiat
from support.program import fiat as run_program
from support.program import machine

README = Path(__file__).parent.parent / "README.md"


@pytest.fixture
def tree(folder: str) -> str:
    """A directory with two files."""
    top = f"{folder}/top"
    os.mkdir(top, 0o755)
    for name in ("one", "two"):
        os.close(os.open(f"{top}/{name}", os.O_CREAT | os.O_WRONLY, 0o600))
        os.chmod(f"{top}/{name}", 0o644)
    return top


def modes(top: str) -> list[int]:
    return [os.stat(path).st_mode & 0o7777 for path in (top, f"{top}/one", f"{top}/two")]


def test_the_example_of_the_readme_prints_what_it_says() -> None:
    code, said = re.findall(r"```python\n(.*?)```\s+prints\s+```\n(.*?)```", README.read_text(), re.S)[0]
    with redirect_stdout(io.StringIO()) as out:
        exec(compile(code, "README.md", "exec"), {})
    assert out.getvalue() == said


@pytest.mark.parametrize("page", [README, README.parent / "docs" / "guide.md"], ids=lambda page: page.name)
def test_recipes_print_what_they_say(page: Path) -> None:
    """Each line that is shown comes, in this order, and nothing between two lines that are not parted by dots."""
    shown = re.findall(r"^\$ fiat (.*)\n((?:(?!\$ |```).*\n)+)", page.read_text(), re.M)
    assert len(shown) >= 7
    for command, said in shown:
        printed = run_program(*shlex.split(command)).stdout
        for part in said.split("…\n"):
            assert part in printed, command
            printed = printed[printed.index(part) + len(part) :]


def test_all_that_is_promised_is_there() -> None:
    for name in fiat.__all__:
        found: dict[str, object] = {}
        exec(f"from fiat import {name}", found)
        assert found[name].__doc__, name
    with pytest.raises(AttributeError):
        _ = fiat.nothing_of_this_name  # type: ignore[attr-defined]


def test_what_is_printed_is_what_the_commands_show() -> None:
    """A plan with its host and the ways whole; of others what belongs to them; a survey yields its paths."""
    host, path = fiat.open_host("skerry"), "/srv/skerry/observatory"
    planned = fiat.plan(host, [path], mode="o+rx")
    shown = run_program("set", path, "--mode", "o+rx", "--preview", "--from", "skerry").stdout
    assert f"{planned}\n" == shown
    assert str(planned.plan) in shown
    assert planned.plan.effects is not None
    assert str(planned.plan.effects) in shown
    barometer = f"{path}/2026/november/barometer.csv"
    meant = fiat.let(host, "auditor", "read", [barometer])
    told = run_program("let", "auditor", "read", barometer, "--from", "skerry").stdout
    assert str(meant).splitlines()[:4] == told.splitlines()[:4]
    assert meant.best is not None
    assert str(meant.best).startswith(f"entry, at {path}\n")
    assert "Gains  read on 3 paths and traverse on 3 paths: auditor" in str(meant.best)
    table = {one["path"]: one["mode"] for one in machine("show", path, "--below", "--from", "skerry")["results"]}
    assert {found: f"{posture.mode:04o}" for found, posture in fiat.survey(host, path) if found != path} == table
    assert {"open_host", "survey", "let", "__version__"} <= set(dir(fiat))


def test_it_answers_as_the_commands_do(tree: str) -> None:
    host = fiat.open_host()
    path = f"{tree}/one"
    (told,) = machine("who", path)["results"]
    having = {who.name for who in fiat.who(host, path).who_can("read") if who.kind == "user"}
    assert having == {user["name"] for user in told["users"] if user["read"]}
    found = fiat.why(host, "anyone-else", "write", path)
    (told,) = machine("why", "anyone-else", "write", path, status=1)["results"]
    assert found.verdict.allowed == told["allowed"]
    assert [one.effect for one in found.advice if one.others == 0] == [
        one["effect"] for one in told["changes"] if one["others"] == 0
    ]
    assert len(fiat.survey(host, tree)) == 3
    assert fiat.look(host, path).object.posture.mode == 0o644
    groups = fiat.who_below(host, tree).groups()
    assert sum(group.directories + group.others for group in groups) == 3


def test_it_changes_and_puts_back(tree: str, folder: str) -> None:
    host, history = fiat.open_host(), fiat.open_history(f"{folder}/history")
    planned = fiat.plan(host, [tree], file_mode="o=", below=True)
    assert {(loss.right.name, loss.paths) for loss in planned.plan.losses} >= {("read", 2)}
    assert modes(tree) == [0o755, 0o644, 0o644]
    result = fiat.apply(planned, history)
    assert (result.changed, modes(tree)) == (2, [0o755, 0o640, 0o640])
    (run,) = machine("history", "--history", f"{folder}/history")["results"]
    assert (run["paths"], run["state"]) == (2, "done")
    assert fiat.undo(host, history).changed == 2
    assert modes(tree) == [0o755, 0o644, 0o644]


@pytest.mark.root
def test_it_finds_ways_and_arranges(tree: str) -> None:
    host = fiat.open_host()
    os.chmod(f"{tree}/one", 0o640)
    meant = fiat.let(host, "nobody", "read", [f"{tree}/one"])
    assert meant.found.ways[0].means == ("entry",)
    fiat.apply(fiat.way_as_plan(meant, meant.found.ways[0]), None)
    assert fiat.why(host, "nobody", "read", f"{tree}/one").verdict.allowed
    assert fiat.bar(host, "nobody", "write", [tree], below=True).found.already
    fiat.apply(fiat.arrange(host, [tree], "private"), None, accept=["lockout"])
    assert modes(tree) == [0o700, 0o600, 0o600]


def test_what_goes_wrong_is_raised(tree: str, folder: str) -> None:
    host = fiat.open_host()
    with pytest.raises(fiat.PathError, match="gone"):
        fiat.who(host, f"{tree}/gone")
    with pytest.raises(fiat.NotationError, match="o=q"):
        fiat.plan(host, [tree], mode="o=q")
    with pytest.raises(fiat.UnknownAccount, match="nobody-of-this-name"):
        fiat.why(host, "nobody-of-this-name", "read", tree)
    with pytest.raises(fiat.SnapshotError):
        fiat.open_host(f"{tree}/one")
    with pytest.raises(fiat.FiatError, match="everyone-writes"):
        fiat.apply(fiat.plan(host, [tree], mode="o+w"), None)
    assert modes(tree) == [0o755, 0o644, 0o644]


def test_a_state_is_kept_compared_and_put_back(tree: str, folder: str) -> None:
    held = f"{folder}/before.jsonl.zst"
    fiat.save(fiat.open_host(), [tree], held)
    os.chmod(f"{tree}/one", 0o600)
    found = fiat.compare(held)
    assert [one.alike for one in found.cells if not one.gained]
    planned = fiat.restore(held)
    assert planned.plan.change_count == 1
    fiat.apply(planned, None)
    assert modes(tree) == [0o755, 0o644, 0o644]
    assert not fiat.compare(held).differs

"""Check: what a file expects, against what the kernel lets everybody do; mended, it really holds."""

import json
import os
import random
import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from fiat.app.check import Checked, check, read_expectations
from fiat.core.errors import ExpectationError
from fiat.core.expect import holding, mending
from fiat.core.expect.expectation import NamedPeople
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.search import SearchResult, search
from fiat.host.accounts.folder import from_folder
from fiat.host.live.host import LiveHost
from support.estates import (
    ACCEPT,
    GROUPS,
    MEMBERS,
    PRIMARY,
    USERS,
    Crowd,
    Estate,
    bring_back,
    crowd,
    having,
    keep,
    remember,
    write_accounts,
)
from support.files import IMMUTABLE, change_flags, give_list, make, mode_of, set_state, state_of, states
from support.filesystems import fresh
from support.places import trusted_folder
from support.program import fiat, fiat_as, machine, run_here
from support.times import report
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_CHECK", "8"))
FIRST = int(os.environ.get("FIAT_JUDGE_SEED", "0"))

RIGHTS = ("read", "write", "execute", "traverse", "list", "append", "create", "delete", "change-mode")
PEOPLE = (*USERS, *(f"group:{name}" for name in GROUPS), "anyone-else", "root", "everyone")


@pytest.fixture(scope="module")
def everyone() -> Iterator[Crowd]:
    with crowd() as found:
        yield found


def some_expectations(estate: Estate, dice: random.Random) -> str:
    """A file of random expectations of an estate."""
    lines = []
    for number in range(6):
        tree = dice.random() < 0.5
        path = dice.choice(estate.directories if tree else [*estate.directories, *estate.files])
        lines += ["[[expect]]", f'name = "number {number}"', f'paths = ["{path}"]', f"below = {str(tree).lower()}"]
        for right in dice.sample(RIGHTS, dice.randint(1, 2)):
            parts = []
            for kind in dice.sample(("only", "always", "never"), dice.randint(1, 2)):
                some = dice.sample(PEOPLE, dice.randint(0 if kind == "only" else 1, 4))
                parts.append(f"{kind} = [{', '.join(f'{chr(34)}{one}{chr(34)}' for one in some)}]")
            lines.append(f"{right} = {{ {', '.join(parts)} }}")
    return "\n".join(lines) + "\n"


def named(words: list[str], members: dict[str, set[str]]) -> set[str]:
    """Those whom the words of a file mean, by the words for them; anyone else stands for itself."""
    every = {*USERS, "root", "anyone-else"}
    found: set[str] = set()
    for word in words:
        found |= every if word == "everyone" else members[word] if word.startswith("group:") else {word}
    return found


def by_the_kernel(text: str, estate: Estate, having_now: frozenset[tuple[str, str, str]]) -> list[bool]:
    """Which of the expectations hold by what the kernel grants."""
    members = {
        f"group:{name}": {user for user in USERS if PRIMARY[user] == name or user in MEMBERS[name]} for name in GROUPS
    }
    asked = {(right, path) for _, right, path in having_now}
    held = []
    for table in text.split("[[expect]]")[1:]:
        (top,) = re.findall(r'paths = \["(.*)"\]', table)
        below = "below = true" in table
        ok = True
        for right, demand in re.findall(r"(?m)^([\w-]+) = \{ (.*) \}$", table):
            said = {kind: re.findall(r'"([^"]+)"', some) for kind, some in re.findall(r"(\w+) = \[(.*?)\]", demand)}
            for path in estate.paths:
                if path != top and not (below and path.startswith(f"{top}/")):
                    continue
                if not applies(right, path):
                    continue
                can = {who for who, one, place in having_now if (one, place) == (right, path)} & {
                    *USERS,
                    "root",
                    "anyone-else",
                }
                ok &= "only" not in said or can <= named(said["only"], members)
                ok &= named(said.get("always", []), members) <= can
                ok &= not named(said.get("never", []), members) & can
        held.append(ok)
    assert asked
    return held


def applies(right: str, path: str) -> bool:
    if os.path.islink(path):
        return right == "delete"
    if os.path.isdir(path):
        return right not in ("execute", "append")
    return right not in ("traverse", "list")


@pytest.mark.root
def test_what_holds_is_what_the_kernel_says(tmp_path: Path, everyone: Crowd) -> None:
    """Random expectations of estates; then mended as one change, and what is said to hold then is asked again."""
    write_accounts(str(tmp_path))
    accounts = from_folder(str(tmp_path))
    answers = {True: 0, False: 0}
    mended = 0
    with protections(), fresh("here") as top:
        for seed in range(FIRST + 1700, FIRST + 1700 + SEEDS):
            with Estate(top, seed) as estate:
                dice = random.Random(seed)
                file = tmp_path / f"{seed}.toml"
                file.write_text(some_expectations(estate, dice))
                remember(estate)
                kept = keep(estate)
                real = by_the_kernel(file.read_text(), estate, having(estate, everyone))
                found = checked(file, LiveHost(accounts))
                assert [one.held for one in found.found] == real, (seed, file.read_text())
                for held in real:
                    answers[held] += 1
                if not found.contradictions:
                    words = ("check", str(file), "--mend", "--do", "--accounts", str(tmp_path), "--no-history", *ACCEPT)
                    _, _, errors = run_here(*words)
                    remember(estate)
                    after = by_the_kernel(file.read_text(), estate, having(estate, everyone))
                    left = set(re.findall(r"'number (\d)' \(", errors))
                    assert [str(number) in left for number, held in enumerate(after) if not held] == [True] * (
                        len(after) - sum(after)
                    ), (seed, errors)
                    mended += sum(after) - sum(real)
                bring_back(estate, kept)
    report("expectations", held=answers[True], broken=answers[False], mended=mended)
    assert answers[True] > SEEDS // 2
    assert answers[False] > SEEDS


def checked(file: Path, host: LiveHost) -> Checked:
    return check(host, read_expectations([str(file)], host), problem=lambda _: None)


FAULTS: dict[str, tuple[object, str, object]] = {
    "groups without members": (NamedPeople, "among", lambda self, universe, accounts: universe.with_uid(self.number)),
    "trees that are their tops": (holding, "_meant", lambda audited, expectation: np.arange(1)),
}


@pytest.mark.root
@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_expectations_catches(
    fault: str, tmp_path: Path, everyone: Crowd, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_accounts(str(tmp_path))
    host = LiveHost(from_folder(str(tmp_path)))
    monkeypatch.setattr(*FAULTS[fault])
    with protections(), fresh("tmpfs") as top:
        for seed in range(1, 40):
            with Estate(top, seed) as estate:
                file = tmp_path / "expected.toml"
                file.write_text(some_expectations(estate, random.Random(seed)))
                remember(estate)
                real = by_the_kernel(file.read_text(), estate, having(estate, everyone))
                if [one.held for one in checked(file, host).found] != real:
                    return
    pytest.fail("nothing wrong in 39 estates")


# --- the sample host -----------------------------------------------------------------------


def test_the_sample_host_breaks_two_and_mending_makes_them_hold() -> None:
    value = machine("check", "skerry", "--from", "skerry", status=1)
    broken = {one["expectation"]: one for one in value["results"] if not one["held"]}
    assert set(broken) == {"nobody else touches the calibration", "the chart press writes its log"}
    (log,) = broken["the chart press writes its log"]["counterexamples"]
    assert (log["who"], log["right"], log["allowed"]) == ("chartpress", "write", False)
    assert log["because"].startswith("Stopped at /srv/skerry/log/chartpress.log")
    for one in broken.values():
        for line in one["mend"]:  # what is told to be typed finds the host that was asked
            assert fiat(*line.split()[1:]).returncode == 0, line
    shown = machine("check", "skerry", "--from", "skerry", "--mend")
    assert {one["path"] for one in shown["results"]} == {
        "/srv/skerry/log/chartpress.log",
        "/srv/skerry/tools/calibration.ini",
    }
    assert {one["who"] for one in shown["gains"]} == {"chartpress"}


def test_each_name_of_a_counterexample_is_whom_who_says_it_of(tmp_path: Path) -> None:
    """And no sentence says of those who may have it that they have not."""
    file = tmp_path / "expected.toml"
    for path, right, only in (
        ("/srv/skerry/tools", "read", ["root", "keeper", "apprentice"]),
        ("/srv/skerry/tools/calibration.ini", "write", ["keeper"]),
        ("/srv/skerry/keys/gate.key", "read", []),
        ("/srv/skerry/charts/draft", "write", ["group:survey"]),
    ):
        file.write_text(f'[[expect]]\nname = "n"\npaths = ["{path}"]\n{right} = {{ only = {json.dumps(only)} }}\n')
        (one,) = machine("check", str(file), "--from", "skerry", status=1)["results"]
        (who,) = machine("who", path, "--can", right, "--all", "--from", "skerry")["results"]
        having = {user["name"] for user in who["users"] if user[right]}
        having |= {"anyone-else"} if who["anyone_else"][right] else set()
        named = {found["who"] for found in one["counterexamples"]}
        assert named
        assert named <= having
        text = fiat("check", str(file), "--from", "skerry").stdout
        assert "everyone except" not in text
        assert ("others than " in text) is ("anyone-else" in named)


@pytest.mark.root
def test_it_is_mended_for_real_and_put_back(folder: str) -> None:
    assert fiat("demo", f"{folder}/host").returncode == 0
    top, file = f"{folder}/host/srv/skerry", Path(folder) / "expected.toml"
    from fiat.demo.sample import EXPECTATIONS

    file.write_text(Path(EXPECTATIONS["skerry"]).read_text().replace("/srv/skerry", top))
    words = ("--accounts", f"{folder}/host/accounts", "--history", f"{folder}/history.db")
    before = states(top)
    assert fiat("check", str(file), *words[:2]).returncode == 1
    assert fiat("check", str(file), "--mend", *words).returncode == 0
    assert states(top) == before, "without --do nothing is written"
    assert fiat("check", str(file), "--mend", "--do", *words).returncode == 0
    assert fiat("check", str(file), *words[:2]).returncode == 0
    refused = fiat("set", f"{top}/log/chartpress.log", "--no-list", "--mode", "600", "--check", str(file), *words)
    assert (refused.returncode, "guard breaks-expectation" in refused.stderr) == (4, True), refused.stderr
    assert fiat("undo", "--accounts", words[1], *words[2:]).returncode == 0
    assert states(top) == before


@pytest.mark.root
def test_what_is_written_holds_and_says_who(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    make(f"{top}/open", 0o644)
    make(f"{folder}/alone", 0o600)
    written = fiat("check", "--write", top, f"{folder}/alone")
    assert written.returncode == 0, written.stderr
    file = Path(folder) / "now.toml"
    file.write_text(written.stdout)
    assert 'read = { only = ["everyone"] }' in written.stdout
    assert 'read = { only = ["root"] }' in written.stdout
    assert fiat("check", str(file)).returncode == 0
    os.chmod(f"{folder}/alone", 0o604)
    done = fiat("check", str(file))
    assert (done.returncode, "1 of 2 expectations broken" in done.stdout) == (1, True), done.stdout


@pytest.mark.root
def test_names_of_any_bytes_in_what_is_written(folder: str) -> None:
    path = make(f'{folder}/a\n"b" \\ \x1b\u202e', 0o600)
    file = Path(folder) / "now.toml"
    file.write_text(fiat("check", "--write", path).stdout)
    assert machine("check", str(file))["results"][0]["paths"] == 1
    shut = make(f"{folder}/shut", 0o700, directory=True)
    status, _, errors = fiat_as(Principal("user", None, 20001, frozenset()), "check", "--write", shut)
    assert (status, "Permission denied" in errors) == (3, True), "of what is not seen nothing is stated silently"
    wrong = make(os.path.join(folder, os.fsdecode(b"\xff")), 0o600)
    done = fiat("check", "--write", wrong)
    assert (done.returncode, done.stdout, "nothing but UTF-8" in done.stderr) == (2, "", True), done.stderr


POSTURES = """
[[expect]]
name = "files"
paths = ["{top}"]
below = true
except = ["*.log", "listed"]
owner = "root"
file-mode = "0640"
dir-mode = "0750"
list = []

[[expect]]
name = "list"
paths = ["{top}/listed"]
list = ["user::rw-", "user:21001:r--", "group::r--", "mask::r--", "other::---"]
"""


@pytest.mark.root
def test_postures_that_are_stated(folder: str) -> None:
    top = make(f"{folder}/tree", 0o750, directory=True)
    for name, mode in (("good", 0o640), ("bad", 0o644), ("a.log", 0o666)):
        make(f"{top}/{name}", mode)
    make(f"{top}/listed", 0o640)
    file = Path(folder) / "expected.toml"
    file.write_text(POSTURES.format(top=top).replace("21001", "0"))
    value = machine("check", str(file), status=1)
    broken = {one["expectation"]: one["counterexamples"] for one in value["results"] if not one["held"]}
    assert [(one["path"], one["because"]) for one in broken["files"]] == [
        (f"{top}/bad", "its mode is 0644, not 0640"),
    ]
    assert "its list is none, not user::rw-" in broken["list"][0]["because"]
    for one in value["results"]:
        for command in one["mend"]:
            assert run_here(*command.split()[1:], "--no-history", *ACCEPT)[0] == 0, command
    assert machine("check", str(file))["broken"] == 0


CHANGES: dict[str, Callable[[str], object]] = {
    "owner": lambda path: os.chown(path, 20007, -1),
    "group": lambda path: os.chown(path, -1, 39999),
    "more for others": lambda path: os.chmod(path, mode_of(path) | 0o004),
    "less for the owner": lambda path: os.chmod(path, mode_of(path) & ~0o200),
    "other bits of the group": lambda path: os.chmod(path, mode_of(path) ^ 0o030),
    "setuid": lambda path: os.chmod(path, mode_of(path) | 0o4000),
    "a list": lambda path: give_list(path, "user::rw-,user:20007:r--,group::r--,mask::r--,other::---"),
    "everything": lambda path: os.chmod(path, 0o777),
}


ARRANGED = (
    "private",
    *(f"{one}:{{0}}" for one in ("readers", "published", "inbox", "log", "drop-box", "secret")),
    "team:{1}",
)


@pytest.mark.root
@pytest.mark.parametrize("name", ARRANGED)
def test_a_file_that_is_changed_is_no_longer_as_it_was_arranged(name: str, folder: str) -> None:
    """Arranged for real, it holds; each change of one file in it breaks it, but what the arrangement leaves open."""
    write_accounts(folder)
    name = name.format([*USERS][2], [*GROUPS][1])
    file_alone = name.startswith("secret")
    top = make(f"{folder}/top", 0o755, directory=not file_alone)
    os.chown(top, 20001, 31002)
    inside = top if file_alone else make(f"{top}/inside")
    os.chown(inside, 20001, 31002)
    history = ("--history", f"{folder}/history.db", "--accounts", folder)
    assert run_here("set", top, "--arrange", name, *history, *ACCEPT)[0] == 0
    below = "false" if file_alone else "true"
    (Path(folder) / "e.toml").write_text(
        f'[[expect]]\nname = "so"\npaths = ["{top}"]\nbelow = {below}\narrangement = "{name}"\nbecause = "x"\n'
    )
    check_it = ("check", f"{folder}/e.toml", "--accounts", folder)
    assert run_here(*check_it)[0] == 0
    uid, gid, mode, lists = os.stat(inside).st_uid, os.stat(inside).st_gid, mode_of(inside), state_of(inside)
    for what, change in CHANGES.items():
        change(inside)
        same = state_of(inside) == lists
        expected = 0 if same or (name.partition(":")[0], what) in OPEN else 1
        assert run_here(*check_it)[0] == expected, what
        os.chown(inside, uid, gid)
        set_state(inside, lists)
        assert mode_of(inside) == mode
        assert run_here(*check_it)[0] == 0, what


OPEN = {
    *((name, "owner") for name in ("team", "log", "drop-box", "secret")),
    *((name, "group") for name in ("private", "readers", "drop-box", "secret")),
}
"""What an arrangement leaves open: who owns what several make, and the group where it gets nothing."""


@pytest.mark.root
def test_a_list_of_three_entries_is_what_the_mode_says_and_a_path_counts_once(folder: str) -> None:
    path = make(f"{folder}/plain", 0o640)
    file = Path(folder) / "expected.toml"
    plain = 'list = ["user::rw-", "group::r--", "other::---"]'
    file.write_text(f'[[expect]]\nname = "plain"\npaths = ["{path}", "{path}", "{path}/"]\n{plain}\nmode = "0600"\n')
    (one,) = machine("check", str(file), status=1)["results"]
    assert [(found["path"], found["paths"], found["because"]) for found in one["counterexamples"]] == [
        (path, 1, "its mode is 0640, not 0600")
    ]
    os.chmod(path, 0o644)
    (one,) = machine("check", str(file), status=1)["results"]
    assert "its list is none, not user::rw-,group::r--,other::---" in one["counterexamples"][0]["because"]


@pytest.mark.root
@pytest.mark.parametrize("stated", ['mode = "0600"', 'read = { only = ["root"] }'])
def test_what_the_kernel_would_refuse_is_not_said_to_be_mended(stated: str, folder: str) -> None:
    os.chmod(folder, 0o755)
    held, other = make(f"{folder}/held", 0o644), make(f"{folder}/other", 0o644)
    file = Path(folder) / "expected.toml"
    file.write_text(f'[[expect]]\nname = "one"\npaths = ["{held}"]\n{stated}\n')
    change_flags(held, IMMUTABLE)
    try:
        done = fiat("check", str(file), "--mend", "--do", "--no-history")
        assert (done.returncode, done.stdout) == (1, "")
        assert done.stderr == (
            f"fiat check: 'one' ({held} cannot be changed: the immutable flag) would still not hold\n"
        )
        file.write_text(f'{file.read_text()}[[expect]]\nname = "two"\npaths = ["{other}"]\n{stated}\n')
        done = fiat("check", str(file), "--mend", "--do", "--no-history")
        assert (done.returncode, mode_of(other) & 0o004) == (1, 0)
        assert "the immutable flag) would still not hold" in done.stderr
    finally:
        change_flags(held, 0)


@pytest.mark.root
def test_who_may_replace_it(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    path = make(f"{top}/tool", 0o755)
    file = Path(folder) / "expected.toml"
    file.write_text(f'[[expect]]\nname = "a"\npaths = ["{path}"]\nmay-replace = {{ only = ["root"] }}\n')
    assert fiat("check", str(file)).returncode == 0
    os.chown(top, 21001, 0)
    value = machine("check", str(file), status=1)
    (one,) = value["results"][0]["counterexamples"]
    assert "it could be replaced" in one["because"]


@pytest.mark.root
def test_what_cannot_be_looked_at_is_not_held(folder: str) -> None:
    """Nowhere: not by its word, nor for build servers and monitoring, nor as a guard of changes."""
    path, file = make(f"{folder}/own", 0o644), Path(folder) / "expected.toml"
    expected = '[[expect]]\nname = "{}"\npaths = ["{}"]\nread = {{ always = ["root"] }}\n'
    file.write_text(expected.format("gone", f"{folder}/gone") + expected.format("own", path))
    value = machine("check", str(file), status=3)
    assert [(one["state"], one["held"]) for one in value["results"]] == [("unknown", None), ("held", True)]
    assert (value["held"], value["broken"], value["unknown"]) == (1, 0, 1)
    cases = ElementTree.fromstring(fiat("check", str(file), "--format", "junit").stdout)
    assert (cases.get("errors"), cases.get("failures")) == ("1", "0")
    assert [[part.tag for part in case] for case in cases.iter("testcase")] == [["error"], []]
    gauges = fiat("check", str(file), "--format", "openmetrics").stdout
    assert re.findall(r'held\{expectation="(\w+)".* (\S+)', gauges) == [("gone", "NaN"), ("own", "1")]
    words = ("set", path, "--mode", "600", "--check", str(file), "--no-history")
    refused = fiat(*words)
    assert (refused.returncode, "whether 'gone' holds is not known" in refused.stderr) == (4, True), refused.stderr
    assert os.stat(path).st_mode & 0o7777 == 0o644
    assert fiat(*words, "--accept", "breaks-expectation").returncode == 3
    assert os.stat(path).st_mode & 0o7777 == 0o600


@pytest.mark.root
def test_below_what_may_not_be_read_nothing_is_held(folder: str) -> None:
    shut, file = make(f"{folder}/shut", 0o700, directory=True), Path(folder) / "expected.toml"
    file.write_text(f'[[expect]]\nname = "a"\npaths = ["{shut}"]\nbelow = true\nread = {{ never = ["anyone-else"] }}\n')
    os.chmod(file, 0o644)
    stranger = Principal("user", None, 20001, frozenset())
    status, found, errors = fiat_as(stranger, "check", str(file), "--format", "junit")
    assert (status, 'errors="1"' in found, "Permission denied" in errors) == (3, True, True), found + errors


@pytest.mark.root
def test_many_alike_are_mended_by_one_search(folder: str, monkeypatch: pytest.MonkeyPatch) -> None:
    top, file = make(f"{folder}/tree", 0o755, directory=True), Path(folder) / "expected.toml"
    for number in range(mending.MOST + 10):
        make(f"{top}/{number}", 0o644)
    write_accounts(folder)
    file.write_text(f'[[expect]]\nname = "a"\npaths = ["{top}"]\nbelow = true\nwrite = {{ always = ["keeper"] }}\n')
    searches: list[object] = []

    def counted(host: Host, goals: Sequence[Goal], terms: Terms) -> SearchResult:
        searches.append(goals)
        return search(host, goals, terms)

    monkeypatch.setattr(mending, "search", counted)
    words = ("check", str(file), "--accounts", folder)
    status, _, errors = run_here(*words, "--mend", "--do", "--no-history", *ACCEPT)
    assert (status, errors) == (0, "")
    assert fiat(*words).returncode == 0
    assert 0 < len(searches) < 4


LISTED = 'list = ["u::rw-", "u:keeper:r--", "g::r--", "m::r--", "o::---"]\nwrite = { never = ["surveyor"]'

TWO = """
[[expect]]
name = "one"
paths = ["/srv/skerry/keys"]
below = true
read = {{ {} }}

[[expect]]
name = "two"
paths = ["/srv/skerry/keys/lamp.key"]
read = {{ {} }}
"""


@pytest.mark.parametrize(
    ("one", "two", "said"),
    [
        ('only = ["root"]', 'always = ["keeper"]', "keeper shall read there, and shall not"),
        ('never = ["group:watch"]', 'always = ["tidefeed", "root"]', "tidefeed shall read there, and shall not"),
        ('only = ["root", "keeper"]', 'always = ["keeper"]', ""),
        ('never = ["surveyor"]', 'never = ["keeper"]', ""),
        (
            'never = ["surveyor"] }\nlist = []\nwrite = { never = ["surveyor"]',
            'never = ["surveyor"] }\n' + LISTED,
            "a list",
        ),
    ],
)
def test_contradictions_are_named_before_anything_is_planned(tmp_path: Path, one: str, two: str, said: str) -> None:
    file = tmp_path / "expected.toml"
    file.write_text(TWO.format(one, two))
    done = fiat("check", str(file), "--mend", "--from", "skerry")
    assert ("contradict each other at /srv/skerry/keys/lamp.key" in done.stderr) == bool(said), done.stderr
    assert said in done.stderr
    assert (done.returncode == 2) == bool(said)


GOOD = '[[expect]]\nname = "a"\npaths = ["/srv"]\nread = { only = ["root"] }\n'


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (GOOD.replace("paths", "path"), "line 3: path: there is no such key; near is 'paths'"),
        (GOOD.replace('"root"', '"rot"'), "line 4: read: no user is called 'rot'"),
        (GOOD.replace("only", "onyl"), "line 4: read: 'onyl' is none of only, always, never; near is 'only'"),
        (GOOD.replace('["/srv"]', '["srv"]'), "line 3: paths: 'srv' does not begin with /"),
        (GOOD + 'mode = "u+x"\n', "line 5: mode: 'u+x' changes a mode"),
        (GOOD + 'mode = "9"\n', "line 5: mode: "),
        (GOOD + 'list = ["user::rw-"]\n', "line 5: list: "),
        (GOOD + 'owner = "nobody-knows"\n', "line 5: owner: no user is called"),
        (GOOD + 'arrangement = "taem:watch"\n', "line 5: arrangement: "),
        (GOOD + "below = 3\n", "line 5: below: right is true or false"),
        (GOOD + 'weight = "heavy"\n', "line 5: weight: 'heavy' is no weight"),
        (GOOD + "read.always = 3\n", "is no TOML"),
        (GOOD + GOOD, "line 6: name: 'a' is the name of the one in"),
        ('[[expect]]\nname = "a"\npaths = ["/srv"]\n', "line 1: nothing is expected of it"),
        ("[[expected]]\n", "tables that begin with [[expect]]"),
        ("", "tables that begin with [[expect]]"),
    ],
)
def test_what_is_wrong_in_a_file_names_line_and_key(tmp_path: Path, text: str, says: str) -> None:
    file = tmp_path / "expected.toml"
    file.write_text(text)
    done = fiat("check", str(file), "--from", "skerry")
    assert (done.returncode, says in done.stderr) == (2, True), done.stderr


def test_a_file_that_cannot_be_read(tmp_path: Path) -> None:
    assert "cannot read '/nothing-there'" in fiat("check", "/nothing-there", "--from", "skerry").stderr
    (tmp_path / "f").write_bytes(b"\xff\xfe")
    done = fiat("check", str(tmp_path / "f"), "--from", "skerry")
    assert (done.returncode, "not written in UTF-8" in done.stderr) == (2, True)
    with trusted_folder(), pytest.raises(ExpectationError):
        read_expectations([str(tmp_path / "f")], LiveHost())

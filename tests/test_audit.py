"""Audit: planted dangers are found whole and alone, their commands mend them, and who can use them really can."""

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from fiat.core.audit.auditedtree import AuditedTree
from fiat.core.audit.evidence import NoEvidence, SavedFindings, StartedFile
from fiat.core.audit.examine import TreeFinding, examine, kept
from fiat.core.audit.mending import mended
from fiat.core.audit.registry import RULES
from fiat.core.model import capabilities
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.principals import Principal
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import Extent
from fiat.host.accounts.folder import from_folder
from fiat.host.evidence.clock import of_the_clock
from fiat.host.evidence.commandlines import Setting, of_shell, run_parts
from fiat.host.evidence.live import LiveEvidence
from fiat.host.evidence.packages import Packages
from fiat.host.evidence.units import of_units
from fiat.host.live.host import LiveHost
from support.estates import ACCEPT
from support.files import flags_of, give_list, make, states
from support.filesystems import fresh
from support.kernel import as_somebody
from support.places import trusted_folder
from support.planted import (
    ALONE,
    EMPTY,
    KEEPER,
    KEY,
    PROGRAM,
    SERVICE,
    STEWARD,
    WATCH,
    Planted,
    PlantedEvidence,
)
from support.program import fiat, machine, run_here


@pytest.fixture
def planted() -> Iterator[Planted]:
    with trusted_folder() as folder:
        os.mkdir(f"{folder}/tree")
        yield Planted(f"{folder}/tree/planted")


def audited_tree(planted: Planted) -> AuditedTree:
    """The tree as it is now."""
    host = LiveHost(from_folder(planted.accounts))
    evidence = PlantedEvidence(planted, lambda paths: dict(LiveEvidence(host).secrets(paths) or {}))
    return AuditedTree(host, *survey_at(host, planted.top, Extent(details=True)), evidence)


def dangers(found: list[TreeFinding]) -> set[tuple[str, str]]:
    return {
        (one.rule.code, path)
        for one in found
        if one.found.weight == "danger"
        for path in one.audited.paths(one.found.places)
    }


@pytest.mark.root
def test_fifty_dangers_are_found_and_none_of_the_things_that_look_like_them(planted: Planted) -> None:
    assert len(planted.dangers) >= 50
    assert dangers(examine(audited_tree(planted), RULES.values())) == set(planted.dangers)


@pytest.mark.root
def test_each_command_mends_what_it_is_told_for(planted: Planted) -> None:
    """Each by itself, carried out: what it was told for is gone, or said of another place on the way; then put back."""
    found = examine(audited_tree(planted), RULES.values())
    made = mended([one for one in found if one.found.weight != "plain"])
    history = ("--history", f"{os.path.dirname(planted.top)}/../history.db")
    before = states(planted.top)
    without = [one.told.rule.code for one in made if one.told.found.weight == "danger" and not one.commands]
    assert not without
    for one in made:
        rule = one.told.rule
        said = {(one.told.found.text, path) for path in one.told.audited.paths(one.told.found.places)}
        had = _having(planted) if one.takes is not None and one.commands else {}
        for command in one.commands:
            words = command.split()[1:]
            assert run_here(*words, "--accounts", planted.accounts, *ACCEPT, *history)[0] == 0, command
        has = _having(planted) if had else {}
        lost = {(who, right) for who in had for right, _ in had[who] - has[who]}
        taken = {(shift.who, shift.right) for shift in one.takes or ()}
        assert lost <= taken, (rule.code, one.commands, lost - taken)  # nobody loses what was not told
        audited = audited_tree(planted)
        left = {
            (again.found.text, path)
            for again in examine(audited, [rule])
            if again.found.weight == one.told.found.weight
            for path in audited.paths(again.found.places)
        }
        if not one.commands:
            continue
        assert not said & left, (rule.code, one.commands)
        assert run_here("undo", "--accept", "privilege", "--accounts", planted.accounts, *history)[0] == 0
        assert states(planted.top) == before
    assert len(made) > 40


def _having(planted: Planted) -> dict[str, set[tuple[str, str]]]:
    """Who may read and write what in the tree, by the kernel: the right and the path, for each user."""
    paths = [path for path in states(planted.top) if not os.path.islink(path)]

    def tries() -> set[tuple[str, str]]:
        return {(right, path) for path in paths for right, want in _WANTS if os.access(path, want)}

    return {name: as_somebody(who, tries) for name, who in WHO.items() if name != "anyone-else"}


_WANTS = (("read", os.R_OK), ("write", os.W_OK))


@pytest.mark.root
@pytest.mark.parametrize("backwards", [False, True])
def test_all_commands_together_mend_everything_in_either_order(planted: Planted, backwards: bool) -> None:
    """No command undoes another: what is dangerous is gone after the first round, all that a command mends after the
    second, and nothing is told then that was not told before."""
    history = ("--history", f"{os.path.dirname(planted.top)}/../history.db")
    told: list[set[tuple[str, str]]] = []
    for _ in range(3):
        made = mended([one for one in examine(audited_tree(planted), RULES.values()) if one.found.weight != "plain"])
        told.append({(one.told.rule.code, p) for one in made for p in one.told.audited.paths(one.told.found.places)})
        mendable = [one for one in made if one.commands]
        if len(told) > 1:
            assert not [(one.told.rule.code, one.told.first) for one in mendable if one.told.found.weight == "danger"]
        commands = list(dict.fromkeys(command for one in mendable for command in one.commands))
        for command in reversed(commands) if backwards else commands:
            words = command.split()[1:]
            assert run_here(*words, "--accounts", planted.accounts, *ACCEPT, *history)[0] == 0, command
    assert not [(one.told.rule.code, one.commands) for one in mendable]
    assert told[2] <= told[1] <= told[0]


WHO = {
    "keeper": Principal("user", "keeper", KEEPER, frozenset((WATCH,))),
    "steward": Principal("user", "steward", STEWARD, frozenset((WATCH,))),
    "feed": Principal("user", "feed", SERVICE, frozenset((ALONE,))),
    "anyone-else": Principal("user", None, 29999, frozenset((39999,))),
}


@pytest.mark.root
def test_who_can_use_it_is_who_the_kernel_lets(planted: Planted) -> None:
    """Of what can be tried: writing to a file, making a name in a directory, reading a secret."""
    tries = {
        "file-open-to-all": lambda path: os.close(os.open(path, os.O_WRONLY)),
        "directory-open-to-all": _make_and_remove,
        "secret-readable": lambda path: os.close(os.open(path, os.O_RDONLY)),
    }
    asked = 0
    for one in examine(audited_tree(planted), [RULES[code] for code in tries]):
        universe = one.audited.universe
        said = {who.kind if who.kind == "anyone-else" else who.name for who in universe.members(one.found.people)}
        for path in one.audited.paths(one.found.places):
            owner = os.lstat(path).st_uid
            for name, who in WHO.items():
                if who.uid == owner:
                    continue
                granted = as_somebody(who, lambda: _does(tries[one.rule.code], path))  # noqa: B023
                assert granted == (name in said), (one.rule.code, path, name)
                asked += 1
    assert asked > 40


def _make_and_remove(path: str) -> None:
    os.mkdir(f"{path}/new")
    os.rmdir(f"{path}/new")


def _does(attempt: object, path: str) -> bool:
    assert callable(attempt)
    try:
        attempt(path)
    except PermissionError:
        return False
    return True


# --- rules of less weight ----------------------------------------------------------------


class Small:
    """A small tree, what it is asked with, and what each rule finds in it."""

    def __init__(self, folder: str) -> None:
        self.top = make(f"{folder}/small", 0o755, directory=True)
        accounts = f"{folder}/accounts"
        os.mkdir(accounts)
        (Path(accounts) / "passwd").write_text(
            f"root:x:0:0::/root:/bin/sh\nkeeper:x:{KEEPER}:{ALONE}::{self.top}/home:/bin/sh\n"
            f"steward:x:{STEWARD}:{ALONE}::/none:/bin/sh\nclerk:x:21003:{WATCH}::/none:/bin/sh\n"
        )
        (Path(accounts) / "group").write_text(
            f"root:x:0:\nwatch:x:{WATCH}:keeper,steward\nalone:x:{ALONE}:\nempty:x:{EMPTY}:\nthird:x:{THIRD}:clerk\n"
        )
        self.accounts = accounts

    def place(self, name: str, mode: int, uid: int = 0, gid: int = 0, *, directory: bool = False, acl: str = "") -> str:
        path = make(f"{self.top}/{name}", 0o700, directory=directory)
        os.chown(path, uid, gid)
        os.chmod(path, mode)
        if acl:
            give_list(path, acl)
        return path

    def finds(self, code: str, login: dict[str, str] | None = None) -> set[str]:
        host = LiveHost(from_folder(self.accounts))
        evidence = NoEvidence()
        evidence.login = lambda: login  # type: ignore[method-assign]
        audited = AuditedTree(host, *survey_at(host, self.top, Extent(details=True)), evidence)
        found = examine(audited, [RULES[code]])
        for one in mended(found):
            assert one.commands or one.later or one.told.found.mend is None, (code, one.told.found.text)
        top = len(self.top) + 1
        return {path[top:] for one in found for path in audited.paths(one.found.places)}


THIRD = 31005
LIST = f"user::rw-,user:{STEWARD}:{{}},group::{{}},mask::{{}},other::{{}}"


@pytest.mark.root
def test_each_rule_finds_its_own_and_not_what_looks_like_it(folder: str) -> None:
    small = Small(folder)
    place = small.place
    place("masked", 0o640, KEEPER, THIRD, acl=LIST.format("rw-", "r--", "r--", "---"))
    place("not-masked", 0o640, KEEPER, THIRD, acl=LIST.format("r--", "r--", "r--", "---"))
    place("passed-over", 0o600, KEEPER, THIRD, acl=LIST.format("rw-", "r--", "---", "r--"))
    place("repeats", 0o644, KEEPER, ALONE, acl=LIST.format("r--", "r--", "r--", "r--"))
    place("less", 0o464, KEEPER, ALONE)
    place("group-less", 0o604, KEEPER, ALONE)
    place("capital", 0o4644)
    place("script", 0o4755)
    Path(f"{small.top}/script").write_bytes(b"#!/bin/sh\n")
    os.chmod(f"{small.top}/script", 0o4755)
    place("idle", 0o600, KEEPER, WATCH)
    place("own", 0o600, KEEPER, ALONE)
    place("nobody", 0o644, 29998, ALONE)
    place("no-group", 0o644, KEEPER, 39998)
    place("entry", 0o640, KEEPER, WATCH, acl="user::rw-,user:29998:r--,group::r--,mask::r--,other::---")
    place("for-empty", 0o640, KEEPER, WATCH, acl=f"user::rw-,group::r--,group:{EMPTY}:r--,mask::r--,other::---")
    place("team", 0o2775, KEEPER, WATCH, directory=True)
    place("team/lost", 0o775, KEEPER, WATCH, directory=True)
    place("team/kept", 0o2775, KEEPER, WATCH, directory=True)
    place("team/other", 0o775, KEEPER, ALONE, directory=True)
    for name, mode in (("enters", 0o2710), ("writes", 0o2720)):  # who cannot do both makes nothing there
        place(f"team/{name}", mode, KEEPER, WATCH, directory=True)
    listed = place("listed", 0o755, KEEPER, ALONE, directory=True)
    give_list(listed, f"user::rwx,user:{STEWARD}:r-x,group::r-x,mask::r-x,other::---", "system.posix_acl_default")
    same = place("listed/same", 0o750, KEEPER, THIRD, directory=True)
    bare = place("listed/bare", 0o750, KEEPER, THIRD, directory=True)
    os.removexattr(bare, "system.posix_acl_default")
    assert os.getxattr(same, "system.posix_acl_default")
    place("home", 0o755, KEEPER, ALONE, directory=True)
    place("home/theirs", 0o644, STEWARD, ALONE)
    place("home/mine", 0o644, KEEPER, ALONE)
    place("many", 0o755, directory=True)
    for number in range(120):
        place(f"many/{number}", 0o640, KEEPER, WATCH)
    place("many/program", 0o750, KEEPER, WATCH)
    os.chmod(f"{small.top}/many/77", 0o644)
    place("shared", 0o1777, directory=True)
    expected = {
        "mask-cuts": {"masked"},
        "list-passed-over": {"passed-over"},
        "entry-repeats": {"repeats"},
        "owner-has-less": {"less"},
        "group-has-less": {"group-less", "passed-over"},
        "capital-letters": {"capital"},
        "without-effect": {"script"},
        "group-has-nothing": {"idle"},
        "owner-without-account": {"nobody"},
        "group-without-name": {"no-group"},
        "entry-without-name": {"entry"},
        "empty-group": {"for-empty"},
        "setgid-lost": {"team/lost"},
        "default-differs": {"listed/bare"},
        "foreign-in-home": {"home/theirs"},
        "deviates": {"many/77"},
        "shared-directory": {"shared"},
    }
    assert {code: small.finds(code) for code in expected} == expected
    umask = {"UMASK": "022", "USERGROUPS_ENAB": "no"}
    assert small.finds("umask-defeats-team", umask) == {"team", "team/kept"}
    assert small.finds("umask-defeats-team", {"UMASK": "002"}) == set()


# --- what is asked beside the tree -----------------------------------------------------


def test_units_and_tables_are_read_as_their_programs_do(tmp_path: Path) -> None:
    accounts = from_folder(_accounts(tmp_path))
    tool, other = make(f"{tmp_path}/tool", 0o755), make(f"{tmp_path}/other.conf")
    units = tmp_path / "units"
    (units / "feed.service.d").mkdir(parents=True)
    (units / "feed.service").write_text(
        "[Service]\n# ExecStart=/bin/false\nUser=keeper\n"
        f"ExecStart=-{tool} \\\n  --config={other}\nExecStop=+{tool} stop\n"
    )
    (units / "feed.service.d" / "more.conf").write_text(f"[Service]\nEnvironmentFile=-{other}\n")
    (units / "made.service").write_text(
        f"[Service]\nDynamicUser=yes\nExecStart=/nothing\nExecStart=\nExecStart={tool}\n"
    )
    found = list(of_units(accounts, [str(units)]))
    by = "unit feed.service"
    assert set(found) == {
        StartedFile(f"{units}/feed.service", 0, by, run=False),
        StartedFile(f"{units}/feed.service.d/more.conf", 0, by, run=False),
        StartedFile(tool, KEEPER, by),
        StartedFile(other, KEEPER, by, run=False),
        StartedFile(tool, 0, by),
        StartedFile(str(units), 0, "units of systemd", run=False, folder=True),
        StartedFile(f"{units}/feed.service.d", 0, "units of systemd", run=False, folder=True),
        StartedFile(f"{units}/made.service", 0, "unit made.service", run=False),
        StartedFile(tool, None, "unit made.service"),
    }
    os.mkfifo(units / "feed.service.d" / "nobody-writes.conf")  # is not waited for
    os.mkfifo(units / "never.service")
    assert {one.path for one in of_units(accounts, [str(units)])} >= {one.path for one in found}
    (tmp_path / "etc" / "cron.d").mkdir(parents=True)
    table = tmp_path / "etc" / "cron.d" / "feed"
    table.write_text(f"SHELL=/bin/sh\n# {other}\n*/5 * * * * keeper {tool} && {other}\n@reboot root {tool}\n")
    found = [one for one in of_the_clock(accounts, str(tmp_path)) if one.path != str(table) and not one.folder]
    assert {(one.path, one.uid) for one in found} == {("/bin/sh", 0), (tool, KEEPER), (other, KEEPER), (tool, 0)}


LINES = """
    {a}
    cd / && {a} --now; {b}
    cd {folder} && ./a
    cd {folder}; sh b
    [ -x {a} ] && {b} || {c}
    test -e {a} || {c}
    if [ -x {a} ]; then {b}; else {c}; fi
    for one in 1 2; do {a}; done; {b}
    {{ cd {folder} && exec ./c; }}
    ({a}; {b}) > /dev/null 2>&1
    {a} >/dev/null 2>&1 </dev/null && {b} &
    X=1 {a} | {b} >> /dev/null
    nice -n 5 {a}; env X=1 {b}; nohup {c} > /dev/null 2>&1
    /bin/sh -c "cd {folder} && ./a; {b}"
    bash -c '{a} "$HOME" && {b}'
    timeout 5 sh -c 'exec {c}'
    . {folder}/a; {b}
    run-parts {parts}
    test -x /none/such || ( cd / && run-parts --report {parts} )
    a; b
    {a} 'a; {c}' "{b} && {c}"
    ! {a} || {b}
"""


@pytest.mark.parametrize("line", [line.strip() for line in LINES.strip().splitlines()])
def test_what_a_line_runs_is_what_a_shell_runs(line: str, tmp_path: Path) -> None:
    """Programs that write down their names, run by the real shell: none is missed, and but for ``||`` none is added."""
    folder, parts = tmp_path / "bin", tmp_path / "parts"
    folder.mkdir()
    parts.mkdir()
    names = {name: f"{folder}/{name}" for name in "abc"}
    for path in (*names.values(), f"{parts}/one", f"{parts}/two.dot", f"{parts}/three"):
        make(path, 0o755, text=f"#!/bin/sh\necho {path} >> {tmp_path}/ran\n".encode())
    os.chmod(f"{parts}/three", 0o644)
    whole = line.format(folder=folder, parts=parts, **names)
    path = f"{folder}:/usr/bin:/bin"
    subprocess.run(["/bin/sh", "-c", f"{whole}\nwait"], check=False, env={"PATH": path, "HOME": "/"}, timeout=20)
    ran = set((tmp_path / "ran").read_text().split()) if (tmp_path / "ran").exists() else set()
    found = of_shell(whole, Setting(0, "the test", path=tuple(path.split(":"))))
    told = {one.path for one in found if one.run and one.path.startswith(str(tmp_path)) and os.path.isfile(one.path)}
    assert ran or "||" in line
    assert ran <= told
    assert told == ran or "||" in line or "else" in line


def test_the_parts_of_a_folder_are_those_that_the_real_program_runs(tmp_path: Path) -> None:
    for name in (
        "plain",
        "with-dash",
        "with_line",
        "UPPER9",
        "dot.sh",
        ".hidden",
        "tilde~",
        "a,v",
        "x.dpkg-new",
        "#a#",
    ):
        make(f"{tmp_path}/{name}", 0o755, text=b"#!/bin/sh\n")
    make(f"{tmp_path}/closed", 0o644, text=b"#!/bin/sh\n")
    (tmp_path / "folder").mkdir()
    os.symlink(f"{tmp_path}/plain", f"{tmp_path}/link")
    os.symlink("/none/such", f"{tmp_path}/dangling")
    real = subprocess.run(["run-parts", "--test", str(tmp_path)], capture_output=True, text=True, check=False).stdout
    ours = run_parts(str(tmp_path))
    assert [path for path in ours if os.path.exists(path)] == real.split()
    assert set(ours) - set(real.split()) == {f"{tmp_path}/dangling"}  # it is run once something is there


def test_tables_of_the_clock_in_the_forms_that_they_have(tmp_path: Path) -> None:
    accounts = from_folder(_accounts(tmp_path))
    tools = {name: make(f"{tmp_path}/{name}", 0o755) for name in ("one", "two", "three", "four", "five", "six")}
    for folder in ("etc/cron.d", "etc/cron.daily", "var/spool/cron/crontabs"):
        (tmp_path / folder).mkdir(parents=True)
    (tmp_path / "etc/crontab").write_text(
        "SHELL=/bin/sh\n"
        f"PATH = '{tmp_path}:/usr/bin'\n"
        "# m h dom mon dow user\tcommand\n"
        f"17 *\t* * *\troot\tcd / && {tools['one']}\n"
        f"25 6\t* * *\troot\ttest -x /none || {{ cd {tmp_path} && ./two; }}\n"
        f"*/5 1-3,5 * jan mon-fri keeper\t three > /dev/null 2>&1\n"
        f"@daily\troot\t{tools['four']} a\\%b%{tools['five']}\n"
    )
    (tmp_path / "etc/cron.d/saved.bak").write_text(f"* * * * * root {tools['six']}\n")
    (tmp_path / "etc/anacrontab").write_text(f"1\t5\tcron.daily\tnice {tools['five']}\n@monthly 9 m {tools['one']}\n")
    (tmp_path / "var/spool/cron/crontabs/keeper").write_text(f"@reboot {tools['six']}\n")
    make(f"{tmp_path}/etc/cron.daily/part", 0o755)
    make(f"{tmp_path}/etc/cron.daily/part.bak", 0o755)
    make(f"{tmp_path}/etc/cron.daily/closed", 0o644)
    found = {
        (os.path.relpath(one.path, tmp_path), one.uid)
        for one in of_the_clock(accounts, str(tmp_path))
        if one.run and not one.folder
    }
    assert {one for one in found if not one[0].startswith("..")} == {
        ("one", 0),
        ("two", 0),
        ("three", KEEPER),
        ("four", 0),
        ("five", 0),
        ("six", KEEPER),
        ("etc/cron.daily/part", 0),
    }


def _accounts(folder: Path) -> str:
    (folder / "passwd").write_text(f"root:x:0:0::/root:/bin/sh\nkeeper:x:{KEEPER}:{WATCH}::/:/bin/sh\n")
    (folder / "group").write_text(f"root:x:0:\nwatch:x:{WATCH}:\n")
    return str(folder)


def test_packages_are_known_by_path_and_by_what_was_recorded(tmp_path: Path) -> None:
    info = tmp_path / "var" / "lib" / "dpkg" / "info"
    info.mkdir(parents=True)
    assert Packages(str(tmp_path)).owned(["/bin/true"]) is None
    (info / "tools.list").write_bytes(b"/.\n/bin\n/bin/true\n/usr/lib/x\n")
    os.mkfifo(info / "nobody-writes.list")
    (info.parent / "statoverride").write_bytes(b"root keeper 4750 /opt/a name\n")
    packages = Packages(str(tmp_path))
    asked = ["/usr/bin/true", "/bin/true", "/usr/lib/x", "/opt/a name", "/opt/a", "/usr/local/bin/true"]
    assert packages.owned(asked) == frozenset(("/usr/bin/true", "/bin/true", "/usr/lib/x", "/opt/a name"))


# --- as its user runs it ----------------------------------------------------------------


@pytest.mark.root
def test_a_snapshot_that_is_kept_for_it_answers_as_the_host_did(planted: Planted, tmp_path: Path) -> None:
    audited = audited_tree(planted)
    found = kept(audited.host, [audited.survey], audited.evidence)
    assert isinstance(found, SavedFindings)
    assert set(found.secret_kinds or {}) >= {path for rule, path in planted.dangers if rule == "secret-readable"}
    for words in ((), ("--for-audit",)):
        held = str(tmp_path / f"held{len(words)}.jsonl.zst")
        assert fiat("save", planted.top, "-o", held, "--accounts", planted.accounts, *words).returncode == 0
    live = machine("audit", planted.top, "--accounts", planted.accounts, status=1)
    again = machine("audit", planted.top, "--from", held, status=1)
    for told, where in ((live, f" --accounts {planted.accounts}"), (again, f" --from {held}")):
        for one in told["results"]:
            assert all(command.endswith(where) for command in one["mend"]), one["mend"]
            one["mend"] = [command.removesuffix(where) for command in one["mend"]]
    assert again["results"] == live["results"]
    bare = machine("audit", planted.top, "--from", str(tmp_path / "held0.jsonl.zst"), status=1)
    assert "fiat save --for-audit keeps it" in bare["caveats"][0]["text"]
    rules = {one["rule"] for one in live["results"]} - {one["rule"] for one in bare["results"]}
    assert "secret-readable" in rules


@pytest.mark.root
def test_what_is_accepted_is_left_out_until_its_day(folder: str) -> None:
    top = make(f"{folder}/tree", 0o755, directory=True)
    for name in ("open", "other\n\xe9"):
        make(f"{top}/{name}", 0o666)
    known = f"{folder}/known.toml"
    done = fiat("audit", top, f"{top}/open", "--write-known", known)
    assert (done.returncode, f"--accept-known {known} leaves them out" in done.stdout) == (1, True)
    assert "1 danger among 3 objects" in done.stdout, "a tree in another one is looked at once"
    refused = fiat("audit", top, "--accept-known", known)
    assert (refused.returncode, "the reason is empty" in refused.stderr) == (2, True)
    text = Path(known).read_text().replace('reason = ""', 'reason = "the whole watch writes there"')
    Path(known).write_text(text)
    told = machine("audit", top, "--accept-known", known)
    assert (told["known"], told["results"]) == (2, [])
    again = fiat("audit", top, "--write-known", known)
    assert (again.returncode, "cannot write" in again.stderr) == (3, True), "what is there is not written over"
    day = text[text.index("until = ") + 8 :].split("\n")[0]
    Path(known).write_text(text.replace(day, "2020-02-29", 1))
    told = machine("audit", top, "--accept-known", known, status=1)
    assert (told["known"], len(told["results"]), told["no_longer_known"][0]["until"]) == (1, 1, "2020-02-29")
    for wrong, says in (
        (text.replace("rule =", "rul ="), "no key is called 'rul'"),
        (text.replace("file-open-to-all", "file-open"), "no rule is called 'file-open'"),
        (text.replace(day, '"soon"'), "until is right as a day"),
        ("known = 3\n", "tables that begin with [[known]]"),
        ("[[known]\n", "is no TOML"),
    ):
        Path(known).write_text(wrong)
        done = fiat("audit", top, "--accept-known", known)
        assert (done.returncode, says in done.stderr) == (2, True), done.stderr


def test_the_sample_host_has_an_example_of_every_rule() -> None:
    value = machine("audit", "/", "--weight", "plain", "--from", "skerry", status=1)
    assert {one["rule"] for one in value["results"]} == set(RULES) - {
        "log-with-credentials",
        "program-in-foreign-directory",
    }
    for one in value["results"]:
        assert all(command.startswith("fiat set ") for command in one["mend"])


def test_what_a_mend_takes_is_told_with_it() -> None:
    told = machine("audit", "/srv/skerry", "--from", "skerry", status=1)["results"]
    (found,) = [one for one in told if one["rule"] == "owner-without-account"]
    assert {one["who"] for one in found["takes"]} == {"uid:7188"}
    assert {"read", "write", "change-mode"} <= {one["right"] for one in found["takes"]}
    assert not found["gives"]


def test_the_status_is_known_whoever_reads_the_output() -> None:
    for words in ("audit / --from skerry", "check skerry --from skerry"):
        done = subprocess.run(
            ["bash", "-c", f'"$0" -m fiat {words} | head -1; exit "${{PIPESTATUS[0]}}"', sys.executable],
            capture_output=True,
            check=False,
        )
        assert done.returncode == 1, words


@pytest.mark.root
def test_it_reads_and_changes_nothing(planted: Planted) -> None:
    before = states(planted.top)
    with fresh("tmpfs") as top:
        make(f"{top}/notes", 0o644, text=b"password = q8Jx-72m_Lk\n")
        told = machine("audit", top, "--logs", "--rule", "log-with-credentials", status=0)
        assert told["results"] == []
        os.rename(f"{top}/notes", f"{top}/feed.log")
        told = machine("audit", top, "--logs", "--rule", "log-with-credentials", status=1)
        assert [one["path"] for one in told["results"]] == [f"{top}/feed.log"]
    fiat("audit", planted.top, "--accounts", planted.accounts)
    assert states(planted.top) == before
    assert not flags_of(planted.top)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ((), "what shall be looked at"),
        (("/", "--rule", "file-open"), "no rule is called 'file-open'; near are 'file-open-to-all'"),
        (("/", "--not", "x"), "--rules lists them"),
        (("/nothing-there",), "No such file"),
        (("",), "No such file"),
        (("/", "--weight", "heavy"), "it is one of danger"),
        (("/", "--accept-known", "/nothing-there"), "cannot read '/nothing-there'"),
    ],
)
def test_wrong_words(words: tuple[str, ...], says: str) -> None:
    done = fiat("audit", *words, "--from", "skerry")
    assert done.returncode == 2, done.stderr
    assert says in done.stderr


@pytest.mark.root
def test_other_names_of_what_lies_behind_a_closed_directory(planted: Planted) -> None:
    """Open to all there, and open nowhere; linked outside the tree, and inside it; shown by another mount."""
    folder = make(f"{planted.top}/closed", 0o700, directory=True)
    beside = make(f"{os.path.dirname(planted.top)}/beside", 0o755, directory=True)
    shown = make(f"{os.path.dirname(planted.top)}/shown", 0o755, directory=True)
    inner = make(f"{folder}/inner", 0o755, directory=True)
    for name in ("alone", "outside", "inside"):
        make(f"{folder}/{name}", 0o644, text=KEY)
        os.chmod(f"{folder}/{name}", 0o666)
    make(f"{inner}/shown", 0o644, text=KEY)
    os.chmod(f"{inner}/shown", 0o666)
    os.link(f"{folder}/outside", f"{beside}/outside")
    os.link(f"{folder}/inside", f"{planted.top}/inside")
    subprocess.run(["mount", "--bind", inner, shown], check=True)
    try:
        found = examine(audited_tree(planted), [RULES["file-open-to-all"], RULES["secret-readable"]])
    finally:
        subprocess.run(["umount", shown], check=True)
    said: dict[str, dict[str, str]] = {}
    for one in found:
        for path in one.audited.paths(one.found.places):
            said.setdefault(path, {})[one.rule.code] = one.found.weight
    both = {"file-open-to-all": "danger", "secret-readable": "danger"}
    assert said[f"{inner}/shown"] == both
    assert said[f"{planted.top}/inside"] == both
    assert said[f"{folder}/outside"] == {"file-open-to-all": "odd", "secret-readable": "odd"}
    assert said[f"{folder}/alone"] == {"file-open-to-all": "plain"}
    assert said[f"{folder}/inside"] == {"file-open-to-all": "plain"}


@pytest.mark.root
def test_what_gives_nobody_anything_is_not_told(folder: str) -> None:
    """Beside each something that looks the same, and does give or take something."""
    small = Small(folder)
    kinds = {
        "gives": FileCapabilities(2, 1 << 10, 0, True),
        "permits": FileCapabilities(2, 1 << 10, 0, False),
        "roots": FileCapabilities(3, 1 << 10, 0, True, 0),
        "inherits": FileCapabilities(2, 0, 1 << 10, True),
        "empty": FileCapabilities(2, 0, 0, False),
        "elsewhere": FileCapabilities(3, 1 << 10, 0, True, KEEPER),
    }
    for name, found in kinds.items():
        path = make(f"{small.top}/{name}", 0o755, text=PROGRAM)
        os.setxattr(path, capabilities.CAPABILITY_XATTR, capabilities.pack(found))
    assert small.finds("privilege-unusual") == {"gives", "permits", "roots"}
    small.place("passed-over", 0o600, KEEPER, THIRD, acl=LIST.format("rw-", "r--", "---", "r--"))
    small.place("nothing-either-way", 0o600, KEEPER, THIRD, acl=LIST.format("rw-", "r--", "---", "---"))
    assert small.finds("list-passed-over") == {"passed-over"}
    small.place("less", 0o466, KEEPER, ALONE)
    small.place("roots-less", 0o466, 0, ALONE)
    assert small.finds("owner-has-less") == {"less"}
    small.place("group-less", 0o604, KEEPER, THIRD)
    small.place("nobodys-less", 0o604, KEEPER, EMPTY)
    assert small.finds("group-has-less") == {"group-less", "passed-over"}
    small.place("joined-by-nobody", 0o640, KEEPER, EMPTY)
    small.place("shipped", 0o640, 0, 4)
    assert small.finds("empty-group") == {"joined-by-nobody"}


@pytest.mark.root
def test_what_is_told_of_several_is_so_of_each(folder: str) -> None:
    """Alike but for their owners and groups: each is named on its own files, and on no other ones."""
    small = Small(folder)
    owners = {"keepers": KEEPER, "stewards": STEWARD, "clerks": 21003}
    for name, uid in owners.items():
        small.place(name, 0o466, uid, ALONE)
        small.place(f"{name}-too", 0o466, uid, THIRD)
    host = LiveHost(from_folder(small.accounts))
    audited = AuditedTree(host, *survey_at(host, small.top, Extent(details=True)), NoEvidence())
    told = examine(audited, [RULES["owner-has-less"]])
    assert sum(one.paths for one in told) == 6
    for one in told:
        for path in audited.paths(one.found.places):
            assert one.found.text.startswith(f"{os.path.basename(path).split('-')[0].removesuffix('s')} owns it"), path


@pytest.mark.root
def test_homes_by_a_symlink_and_of_others_and_of_services_with_keys(folder: str) -> None:
    small = Small(folder)
    for name, owner in (("real", KEEPER), ("clerks", KEEPER), ("service", 801)):
        small.place(name, 0o755, owner, ALONE, directory=True)
    os.symlink(f"{small.top}/real", f"{small.top}/link")
    small.place("real/.bashrc", 0o644, STEWARD, ALONE)
    small.place("dotfiles", 0o755, STEWARD, ALONE, directory=True)
    small.place("dotfiles/profile", 0o644, KEEPER, ALONE)
    os.symlink(f"{small.top}/dotfiles/profile", f"{small.top}/real/.profile")
    small.place("service/.ssh", 0o755, 801, ALONE, directory=True)
    small.place("service/.ssh/authorized_keys", 0o664, 801, WATCH)
    small.place("quiet", 0o777, 802, ALONE, directory=True)
    (Path(small.accounts) / "passwd").write_text(
        f"root:x:0:0::/root:/bin/sh\nkeeper:x:{KEEPER}:{ALONE}::{small.top}/link:/bin/sh\n"
        f"steward:x:{STEWARD}:{ALONE}::/none:/bin/sh\nclerk:x:21003:{WATCH}::{small.top}/clerks:/bin/sh\n"
        f"feed:x:801:{ALONE}::{small.top}/service:/usr/sbin/nologin\n"
        f"quiet:x:802:{ALONE}::{small.top}/quiet:/usr/sbin/nologin\n"
    )
    assert small.finds("startup-writable") == {"real/.bashrc", "real/.profile", "service/.ssh/authorized_keys"}
    assert small.finds("home-open") >= {"clerks"}
    assert "quiet" not in small.finds("home-open")

"""The name service: what Fiat says of accounts against what the C library says, source by source, and what is unknown.

The C library is the judge, through getpwnam(3), getgrgid(3), getgrouplist(3) and the like, with modules of the tests'
own behind it.
"""

import json
import os
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fiat.core.model.accounts import Group, User
from fiat.host.accounts.files import groups_in, users_in
from fiat.host.accounts.switch import Source, Status, sources_of
from support import kernel
from support.files import make
from support.places import trusted_folder
from support.program import fiat
from support.sources import CRASHES, WAITS, Told, build, group, passwd, write

pytestmark = [pytest.mark.root, pytest.mark.skipif(shutil.which("cc") is None, reason="no C compiler")]

LOCAL = [User("root", 0, 0, "", "/root", "/bin/sh"), User("keeper", 7101, 7201, "", "/", "/bin/sh")]

JUDGE = """
import grp, json, os, pwd, sys
def one(ask, key):
    try: return list(ask(key))
    except (KeyError, OSError): return None
names, numbers = json.loads(sys.argv[1])
users = {name: one(pwd.getpwnam, name) for name in names}
json.dump({
    "user_named": users,
    "user_numbered": {str(number): one(pwd.getpwuid, number) for number in numbers},
    "group_named": {name: one(grp.getgrnam, name) for name in names},
    "group_numbered": {str(number): one(grp.getgrgid, number) for number in numbers},
    "logins": {name: sorted({*os.getgrouplist(name, user[3])}) for name, user in users.items() if user},
}, sys.stdout)
"""

OURS = """
import json, sys
from fiat.host.accounts.nameservice import NameService
names, numbers = json.loads(sys.argv[1])
def accounts(): return NameService(float(sys.argv[2]))
one, other, third = accounts(), accounts(), accounts()
def row(found): return found and ([found.name, found.uid, found.gid] if hasattr(found, "uid") else
    [found.name, found.gid, list(found.members)])
listed = third.all_users()  # what is asked before the lists are read, and after: the same
for each in (third,):
    each.gids_of_each(listed)
users = {name: one.user_named(name) for name in names}
found = {
    "all": sorted({user.name for user in other.users}),
    "groups": sorted({group.name for group in other.groups}),
    "user_named": {name: row(user) for name, user in users.items()},
    "user_numbered": {str(number): row(one.user_numbered(number)) for number in numbers},
    "group_named": {name: row(one.group_named(name)) for name in names},
    "group_numbered": {str(number): row(one.group_numbered(number)) for number in numbers},
    "logins": {name: sorted(third.gids_of(user)) for name, user in users.items() if user},
    "unsure": [name for name, user in users.items() if user and third.unsure(user)],
    "unknown": [list(each) for each in (*one.unknown, *other.unknown, *third.unknown)],
}
json.dump(found, sys.stdout)
"""


@pytest.fixture(scope="module")
def place() -> Iterator[str]:
    """A folder with two sources, of which ``tides`` can be asked for logins and ``charts`` cannot."""
    with trusted_folder() as folder:
        build(folder, "tides", logins=True)
        build(folder, "charts", logins=False)
        yield folder


def options(place: str, switch: str, users: list[User], groups: list[Group]) -> dict[str, Any]:
    """What has a program see these accounts in its files, and ask the sources of ``switch`` besides."""
    for name, text in (("switch", switch), ("passwd", passwd(users)), ("group", group(groups))):
        Path(f"{place}/{name}").write_text(text)

    def enter() -> None:
        kernel.unshare(kernel.NEW_MOUNTS)
        for name, at in (("switch", "/etc/nsswitch.conf"), ("passwd", "/etc/passwd"), ("group", "/etc/group")):
            kernel.bind(f"{place}/{name}", at)

    return {"env": {"LD_LIBRARY_PATH": place}, "preexec_fn": enter}


def said(program: str, how: dict[str, Any], *words: str) -> Any:
    environment = {**os.environ, **how["env"]}
    done = subprocess.run(
        [sys.executable, "-c", program, *words],
        env=environment,
        preexec_fn=how["preexec_fn"],
        capture_output=True,
        check=True,
    )
    return json.loads(done.stdout)


NAMES = "keeper surveyor steward auditor apprentice tidefeed watch survey press boats nobody-there".split()
NUMBERS = [0, *range(7101, 7107), *range(7201, 7207)]
REACTIONS = "success notfound unavail tryagain !success !unavail".split()


def generated(seed: int) -> tuple[str, list[User], list[Group], dict[str, Told]]:
    """A switch, local accounts, and what the two sources tell: names and numbers that meet in all ways."""
    of = random.Random(seed)

    def users() -> list[User]:
        return [User(of.choice(NAMES[:6]), of.choice(NUMBERS[1:7]), of.choice(NUMBERS[7:])) for _ in range(3)]

    def groups() -> list[Group]:
        return [
            Group(of.choice(NAMES[6:]), of.choice(NUMBERS[7:]), tuple(of.sample(NAMES, of.randrange(4))))
            for _ in range(4)
        ]

    def line(database: str) -> str:
        words = []
        for source in of.sample(["files", "tides", "charts", "missing"], of.randint(1, 4)):
            words.append(source)
            if of.random() < 0.4:
                acts = ["return", "continue", *(["merge"] if database == "group" else [])]
                reactions = [f"{of.choice(REACTIONS)}={of.choice(acts)}" for _ in range(of.randint(1, 2))]
                words.append(f"[{' '.join(of.choice((one, one.upper())) for one in reactions)}]")
        return f"{database}:{of.choice((' ', chr(9)))}{' '.join(words)}{of.choice(('', ' # and more'))}\n"

    switch = "".join(line(one) for one in ("passwd", "group", *(["initgroups"] if of.random() < 0.3 else [])))
    logins = {name: of.sample(NUMBERS[7:], 2) for name in of.sample(NAMES[:6], 3)}
    told = {name: Told(users(), groups(), logins, of.choice((1, 1, 1, 0, -1, -2))) for name in ("tides", "charts")}
    return switch, [*LOCAL[:1], *users()], [Group("root", 0), *groups()], told


@pytest.mark.parametrize("seed", range(60))
def test_accounts_are_those_of_the_c_library(place: str, seed: int) -> None:
    switch, users, groups, told = generated(seed)
    for name, one in told.items():
        write(place, name, one)
    how = options(place, switch, users, groups)
    asked = json.dumps([NAMES, NUMBERS])
    really, ours = said(JUDGE, how, asked), said(OURS, how, asked, "5")
    assert ours["logins"] == really["logins"], switch
    # getpwent(3) stops elsewhere than getpwnam(3) where there are reactions: all are those who can log in
    for kind, named in (("all", "user_named"), ("groups", "group_named")):
        there = [name for name in NAMES if really[named][name] is not None]
        assert [name for name in ours[kind] if name != "root"] == sorted(there), (kind, switch)
    for kind, fields in (("user", (0, 2, 3)), ("group", (0, 2, 3))):
        for key in ("named", "numbered"):
            found = {
                name: row and [sorted(row[at]) if isinstance(row[at], list) else row[at] for at in fields]
                for name, row in really[f"{kind}_{key}"].items()
            }
            mine = {
                name: row and [sorted(one) if isinstance(one, list) else one for one in row]
                for name, row in ours[f"{kind}_{key}"].items()
            }
            assert mine == found, (kind, key, switch)
    failing = [name for name, one in told.items() if one.status < 0 and name in switch]
    assert {source for source, _, _, kind in ours["unknown"] if kind == "failed"} <= set(failing)


TEXTS = ["7101", " 7101", "+7101", "-1", "0x10", "7101 ", "", "99999999999", "4294967295", "7101:", "007101", "٣"]


@pytest.mark.parametrize("seed", range(40))
def test_files_are_read_as_the_c_library_reads_them(place: str, seed: int) -> None:
    of = random.Random(seed)
    names = ["keeper", " keeper", "a b", "#keeper", "+", "-keeper", "", "k\u00e9", "\udcff", "\tx", "sur:veyor"]
    lines = [
        ":".join(
            (
                of.choice(names),
                "x",
                of.choice(TEXTS) if of.random() < 0.5 else str(of.randrange(9999)),
                of.choice(TEXTS) if of.random() < 0.5 else of.choice(["1", "a,b", " a, b,,c ", ""]),
                *of.sample(["", "/", "keeper", "a:b"], of.randrange(4)),
            )
        )
        for _ in range(8)
    ]
    text = "root:x:0:0::/:/bin/sh\n" + "\n".join(of.choice(("", " ", "\t")) + line for line in lines) + "\n"
    how = options(place, "passwd: files\ngroup: files\n", [], [])
    for name in ("passwd", "group"):
        Path(f"{place}/{name}").write_bytes(text.encode("utf-8", "surrogateescape"))
    listing = (
        "import grp, json, pwd, sys\n"
        "json.dump([[list(u) for u in pwd.getpwall()], [list(g) for g in grp.getgrall()]], sys.stdout)"
    )
    users, groups = said(listing, how)
    last = -1  # no number that anybody can have; and + and - speak to the name service
    real = [row for row in users if last not in row[2:4] and row[0][:1] not in ("+", "-", "#")]
    assert [(u.name, u.uid, u.gid, u.comment, u.home, u.shell) for u in users_in(text)] == [
        (name, uid, gid, *rest) for name, _, uid, gid, *rest in real
    ]
    real = [row for row in groups if row[2] != last and row[0][:1] not in ("+", "-")]
    assert [(g.name, g.gid, list(g.members)) for g in groups_in(text)] == [(row[0], row[2], row[3]) for row in real]


def test_a_line_of_the_switch_that_is_wrong_is_none() -> None:
    usual = ((Status.SUCCESS, "return"),)
    assert sources_of("group: files [NOTFOUND=return] ldap\n", "group") == (
        Source("files", (*usual, (Status.NOTFOUND, "return"))),
        Source("ldap", usual),
    )
    for wrong in ("[NOTFOUND=return] files", "files [NOTFOUND]", "files [NOTFOUND=leave]", "files [success=return"):
        assert sources_of(f"group: {wrong}\n", "group") == ()


@pytest.mark.parametrize("status", [-1, -2, WAITS, CRASHES])
def test_what_a_source_does_not_tell_is_no_no(place: str, folder: str, status: int) -> None:
    """Its users, who is in which group, whether somebody exists: unknown, in time, and exit status 3."""
    write(place, "tides", Told([User("pilot", 7301, 7202)], [Group("boats", 7400, ("keeper", "pilot"))], {}, status))
    how = options(place, "passwd: files tides\ngroup: files tides\n", LOCAL, [Group("watch", 7201)])
    secret, open_to_all = make(f"{folder}/secret", 0o640), make(f"{folder}/open", 0o644)
    os.chown(secret, 0, 7400)
    begun = time.monotonic()
    done = fiat("who", secret, open_to_all, "--json", "--accounts-timeout", "1", **how)
    took = time.monotonic() - begun
    assert done.returncode == 3
    assert took < 5, took
    told = json.loads(done.stdout)
    first, second = ({user["name"]: user for user in one["users"]} for one in told["results"])
    assert first["keeper"]["read"] is None
    assert first["keeper"]["not_known"] == ["read"]
    assert first["keeper"]["write"] is False
    assert first["root"]["read"] is True
    assert second["keeper"]["read"] is True
    assert "not_known" not in second["keeper"]
    assert [one["code"] for one in told["caveats"]] == ["accounts-unknown"]
    assert "of keeper" in told["caveats"][0]["text"] or "2 users: root, keeper" in told["caveats"][0]["text"]
    timed = ("--accounts-timeout", "1")
    assert fiat("why", "keeper", "read", secret, *timed, **how).returncode == 3
    assert fiat("why", "keeper", "read", open_to_all, *timed, **how).returncode == 0
    means = fiat("why", "keeper", "write", secret, "--by-own-means", "--json", *timed, **how)
    assert means.returncode == 3
    assert json.loads(means.stdout)["results"][0]["reachable"] is None
    gone = fiat("why", "pilot", "read", open_to_all, *timed, **how)
    assert gone.returncode == 3
    assert "not known" in gone.stderr
    assert "no account" not in fiat("show", secret, *timed, **how).stdout


def test_what_was_unknown_when_it_was_saved_is_unknown_in_the_snapshot(place: str, folder: str) -> None:
    write(place, "tides", Told(status=-1))
    how = options(place, "passwd: files tides\ngroup: files tides\n", LOCAL, [Group("watch", 7201)])
    secret = make(f"{folder}/secret", 0o640)
    os.chown(secret, 0, 7400)
    kept = f"{folder}/kept.fiat"
    assert fiat("save", secret, "-o", kept, **how).returncode == 3
    live = fiat("who", secret, "--json", **how)
    held = fiat("who", secret, "--json", "--from", kept)
    assert held.returncode == live.returncode == 3
    assert json.loads(held.stdout) == json.loads(live.stdout)


def test_trees_and_expectations_know_what_is_open(place: str, folder: str) -> None:
    write(place, "tides", Told(status=-1))
    how = options(place, "passwd: files tides\ngroup: files tides\n", LOCAL, [Group("watch", 7201)])
    top = f"{folder}/top"
    os.mkdir(top, 0o755)
    for name, mode, gid in (
        ("secret", 0o640, 7400),
        ("open", 0o644, 7400),
        ("shut", 0o600, 7400),
        ("less", 0o604, 7400),
    ):
        os.chown(make(f"{top}/{name}", mode), 0, gid)
    rows = fiat("who", top, "--below", "--can", "read", "--format", "csv", "--each-person", **how).stdout.splitlines()
    has = {row.split(",")[0].rpartition("/")[2]: row.split(",")[-1] for row in rows if ",user,keeper," in row}
    assert has == {"top": "yes", "secret": "", "open": "yes", "shut": "no", "less": ""}
    told = fiat("who", top, "--below", "--can", "read", **how)
    assert "on 2 of these paths it is not known whether more is allowed to keeper" in " ".join(told.stdout.split())
    for statement, status in (
        ('never = ["keeper"]', 3),
        ('always = ["keeper"]', 3),
        ('only = ["root"]', 3),
        ('always = ["root"]', 0),
    ):
        stated = f"{folder}/stated.toml"
        words = f'[[expect]]\nname = "it"\npaths = ["{top}/secret"]\nread = {{ {statement} }}\n'
        Path(stated).write_text(words)
        done = fiat("check", stated, **how)
        assert done.returncode == status, (statement, done.stdout, done.stderr)


@pytest.mark.parametrize("agrees", [True, False])
def test_many_are_taken_from_the_lists_only_where_these_say_the_same(place: str, folder: str, agrees: bool) -> None:
    """Some are asked for one by one: where the lists say something else of them, everybody is."""
    users = [User(f"hand{number}", 20000 + number, 7202) for number in range(600)]
    listed = [Group("boats", 7400, tuple(user.name for user in users[::3]))]
    logins = {user.name: [7400] for user in (users[::3] if agrees else users[::2])}
    write(place, "tides", Told(users, listed, logins))
    how = options(place, "passwd: files tides\ngroup: files tides\n", LOCAL, [Group("watch", 7201)])
    asked = json.dumps([[user.name for user in users], [7400]])
    really, ours = said(JUDGE, how, asked), said(OURS, how, asked, "20")
    assert ours["logins"] == really["logins"]
    assert not ours["unsure"]
    by_lists = [why for _, _, why, kind in ours["unknown"] if kind == "by-lists"]
    assert bool(by_lists) == agrees, by_lists


@pytest.mark.parametrize(
    "fault",
    [
        "import fiat.host.accounts.switch as s; s.Source.after = lambda self, status: 'continue'",
        "import fiat.host.accounts.nameservice as n; n.NameService._file_memberships = {}",
    ],
)
def test_the_judge_finds_a_wrong_rule(place: str, fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where reactions are none, or what the files list is, the C library says something else."""
    monkeypatch.setattr(sys.modules[__name__], "OURS", f"{fault}\n{OURS}")

    def judged() -> None:
        for seed in range(20):
            test_accounts_are_those_of_the_c_library(place, seed)

    with pytest.raises(AssertionError):
        judged()

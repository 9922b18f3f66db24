"""Acting as another account by the system's rules: against the real program, which is asked as each user.

Rules are generated, installed in a scratch root with it, exported by its own exporter, and compared: its listing for
each user, whether it allows a command as an account with a group, and whether it does so without a password.
"""

import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fiat.core.errors import ElevationError
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.elevation import ANY, Elevations
from fiat.core.rules.elevation import Matcher, covers
from fiat.core.words.elevations import parse_elevations
from fiat.host.elevation import addresses
from support import kernel
from support.files import make
from support.places import trusted_folder
from support.program import fiat
from support.sources import group, passwd

PROGRAMS = os.environ.get("FIAT_TEST_PROGRAMS", "/nowhere")
SUDO = next((one for one in (f"{PROGRAMS}/usr/bin/sudo", "/usr/bin/sudo") if os.path.exists(one)), "")
EXPORTER = SUDO.replace("/sudo", "/cvtsudoers")
HELPERS = f"{os.path.dirname(os.path.dirname(SUDO))}/libexec"

USERS = [
    User("root", 0, 0, "", "/root", "/bin/sh"),
    User("keeper", 7101, 7201, "", "/", "/bin/sh"),
    User("surveyor", 7102, 7202, "", "/", "/bin/sh"),
    User("steward", 7103, 7203, "", "/", "/bin/sh"),
    User("tidefeed", 7106, 7206, "", "/", "/bin/sh"),
    User("chartpress", 7107, 7207, "", "/", "/bin/sh"),
]
GROUPS = [
    Group("root", 0),
    Group("watch", 7201, ("steward",)),
    Group("survey", 7202, ("keeper",)),
    Group("stewards", 7203),
    Group("feed", 7206, ("chartpress",)),
    Group("press", 7207),
]
ACCOUNTS = Accounts(USERS, GROUPS, "the test")
COMMANDS = ["/usr/bin/id", "/usr/bin/true", "/usr/bin/env", "/usr/bin/nice"]
HOST = "skerry"

real = pytest.mark.skipif(not SUDO and not os.environ.get("FIAT_TEST_EVERYTHING"), reason="the program is not here")

ASKS = """
import json, os, subprocess, sys
sudo, uid, gid, groups, questions = json.loads(sys.argv[1])
def become():
    os.setgroups(groups); os.setgid(gid); os.setuid(uid)
def ask(words):
    wide = {"COLUMNS": "100000"}
    done = subprocess.run([sudo, "-n", *words], capture_output=True, text=True, preexec_fn=become, stdin=-3, env=wide)
    return [done.returncode, done.stdout]
json.dump([ask(words) for words in questions], sys.stdout)
"""


class Scratch:
    """A scratch root with the program, accounts, and rules."""

    def __init__(self, folder: str) -> None:
        self.folder = folder
        os.makedirs(f"{folder}/run/sudo")
        shutil.copytree("/etc", f"{folder}/etc", symlinks=True, ignore_dangling_symlinks=True)
        Path(f"{folder}/etc/passwd").write_text(passwd(USERS))
        Path(f"{folder}/etc/group").write_text(group(GROUPS))
        Path(f"{folder}/etc/nsswitch.conf").write_text("passwd: files\ngroup: files\nsudoers: files\n")
        Path(f"{folder}/etc/hosts").write_text(f"127.0.0.1 localhost {HOST}\n")
        shutil.rmtree(f"{folder}/etc/sudoers.d", ignore_errors=True)

    def rules(self, text: str) -> None:
        """Install the rules, as visudo would."""
        path = Path(f"{self.folder}/etc/sudoers")
        path.unlink(missing_ok=True)
        path.write_text(text)
        path.chmod(0o440)

    def passwords(self, *, right: bool) -> None:
        """Whether everybody knows the password, or nobody."""
        module = "pam_permit.so" if right else "pam_deny.so"
        others = "".join(f"{kind} required pam_permit.so\n" for kind in ("account", "session"))
        Path(f"{self.folder}/etc/pam.d/sudo").write_text(f"auth required {module}\n{others}")

    def enter(self) -> None:
        kernel.unshare(kernel.NEW_MOUNTS | 0x04000000)  # and a host name of its own
        Path("/proc/sys/kernel/hostname").write_text(HOST)
        kernel.bind(f"{self.folder}/etc", "/etc")
        kernel.bind(f"{self.folder}/run", "/run")
        if HELPERS != "/usr/libexec":
            kernel.bind(HELPERS, "/usr/libexec")

    def exported(self) -> str:
        """The rules as the program's own exporter writes them."""
        words = [EXPORTER, "-f", "json", "/etc/sudoers"]
        done = subprocess.run(words, preexec_fn=self.enter, capture_output=True, text=True, check=True)
        return done.stdout

    def ask(self, user: User, questions: list[list[str]]) -> list[list[Any]]:
        """What the program answers to each of ``questions``, asked by ``user``: exit status and output."""
        asked = json.dumps([SUDO, user.uid, user.gid, sorted(ACCOUNTS.gids_of(user)), questions])
        words = [sys.executable, "-c", ASKS, asked]
        done = subprocess.run(words, preexec_fn=self.enter, capture_output=True, text=True, check=True)
        found: list[list[Any]] = json.loads(done.stdout)
        return found


@pytest.fixture(scope="module")
def scratch() -> Iterator[Scratch]:
    with trusted_folder() as folder:
        yield Scratch(folder)


def generated(seed: int) -> str:
    """Rules as people write them: few users, aliases, negations, tags, groups, hosts, default settings."""
    of = random.Random(seed)

    def some(words: list[str], most: int, negates: float = 0.15) -> str:
        chosen = of.sample(words, of.randint(1, min(most, len(words))))
        return ", ".join(f"{'!' if of.random() < negates else ''}{word}" for word in chosen)

    people = ["keeper", "surveyor", "steward", "%watch", "%survey", "#7102", "%#7203", "ALL", "CREW"]
    targets = ["root", "tidefeed", "chartpress", "ALL", "%feed", "#7106", "SERVICES"]
    groups = ["feed", "press", "#7207", "ALL"]
    here, *_ = [*(one.partition("/")[0] for one in addresses()), "192.0.2.7"]
    networks = ["198.51.100.0/24", here, f"{here}/24"]
    hosts = ["ALL", "ALL", "ALL", HOST, "sker*", "other", "HERE", *networks]
    commands = [*COMMANDS, "/usr/bin/id -u", '/usr/bin/id ""', "/usr/bin/", "/usr/bin/t*", "ALL", "ALL", "TOOLS"]
    lines = [
        f"User_Alias CREW = {some(people[:-1], 3)}",
        f"Runas_Alias SERVICES = {some(targets[:-1], 2)}",
        f"Host_Alias HERE = {some(hosts[:5], 2)}",
        f"Cmnd_Alias TOOLS = {some(commands[:-1], 3)}",
        "Defaults !fqdn, !lecture, noninteractive_auth, timestamp_timeout=0",
    ]
    for setting in ("!authenticate", "exempt_group=watch", "targetpw", "runas_default=tidefeed"):
        if of.random() < 0.15:
            bound = of.choice(["", "", ":keeper", f"@{HOST}", "!/usr/bin/id"][: 2 if "default" in setting else 5])
            lines.append(f"Defaults{bound} {setting}")
    for _ in range(of.randint(2, 6)):
        whom = of.choice(
            ["", f"({some(targets, 2)})", f"({some(targets, 2)} : {some(groups, 2)})", f"( : {some(groups, 2)})"]
        )
        specs = []
        for _ in range(of.randint(1, 3)):
            tag = of.choice(["", "", "NOPASSWD: ", "PASSWD: ", "NOEXEC: ", "SETENV: "])
            specs.append(f"{tag}{some(commands, 3)}")
        lines.append(f"{some(people, 2)} {some(hosts, 2, 0.1)} = {whom} {', '.join(specs)}")
    return "\n".join(lines) + "\n"


def listed(text: str) -> list[tuple[str, str, frozenset[str], str]]:
    """The program's listing, a row for each command: as whom, with which groups, tags, the command."""
    rows = []
    for line in text.split("may run the following commands on", 1)[-1].splitlines()[1:]:
        match = re.fullmatch(r"    \(([^:)]*)(?: : ([^)]*))?\) (.*)", line)
        if match is None:
            continue
        tags: set[str] = set()
        for command in match[3].split(", "):
            while tag := re.match(r"(NO)?(PASSWD|SETENV|EXEC): ", command):
                word = tag[2]
                tags -= {word, f"NO{word}"}
                tags.add(f"{tag[1] or ''}{word}")
                command = command[tag.end() :]
            whom = match[1].strip().replace("%!", "!%")  # it writes a negated group so
            rows.append((whom, match[2] or "", frozenset(tags), command))
    return rows


def ours(rules: Elevations, user: User) -> list[tuple[str, str, frozenset[str], str]]:
    """The same of the rules that fit, as Fiat has them."""
    matcher = Matcher(rules, ACCOUNTS)
    rows = []
    for rule, _ in matcher.rules_for(user):
        marks = {"uid": "#", "gid": "%#", "group": "%"}
        whom = ", ".join(f"{'!' * one.negated}{marks.get(one.kind, '')}{one.value}" for one in rule.run_as or ())
        if rule.run_as is None:
            whom = user.name if rule.run_as_groups is not None else matcher._default()
        marks = {"gid": "#"}
        groups = ", ".join(
            f"{'!' * one.negated}{marks.get(one.kind, '')}{one.value}" for one in rule.run_as_groups or ()
        )
        tags = set(rule.tags) | ({"PASSWD" if rule.password else "NOPASSWD"} if rule.password is not None else set())
        for command in rule.commands:
            # leave to set variables comes with leave for any command, and is not listed
            said = tags - {"SETENV"} if command.text == ANY else tags
            rows.append((whom, groups, frozenset(said), f"{'!' * command.negated}{command.text}"))
    return rows


def without_implied(rows: list[tuple[str, str, frozenset[str], str]]) -> list[tuple[str, str, frozenset[str], str]]:
    """Rows without the tag that the exporter adds to all commands that stand beside ALL."""
    return [(whom, groups, tags - {"SETENV"}, command) for whom, groups, tags, command in rows]


@real
@pytest.mark.root
@pytest.mark.parametrize("seed", range(int(os.environ.get("FIAT_JUDGE_RULES", "30"))))
def test_rules_say_what_the_program_says(scratch: Scratch, seed: int) -> None:
    text = generated(seed)
    scratch.rules(text)
    scratch.passwords(right=True)
    rules = parse_elevations(scratch.exported(), "the rules")._replace(host=HOST, addresses=tuple(addresses()))
    matcher = Matcher(rules, ACCOUNTS)
    of = random.Random(seed)
    asked = [
        (user, target, gid, command)
        for user in USERS[1:4]
        for target in (USERS[0], *USERS[4:])
        for gid in (None, 7206, 7207)
        for command in COMMANDS
    ]
    for user in USERS[1:4]:
        questions = [["-l"]]
        mine = of.sample([one for one in asked if one[0] == user], 14)
        for _, target, gid, command in mine:
            with_group = [] if gid is None else ["-g", f"#{gid}"]
            questions.append(["-l", "-u", target.name, *with_group, command])
        (status, listing), *answers = scratch.ask(user, questions)
        if matcher.rules_for(user):
            assert without_implied(listed(listing)) == without_implied(ours(rules, user)), text
        for (_, target, gid, command), (status, _) in zip(mine, answers, strict=True):
            allowed = matcher.allows(user, target, gid, command)
            assert allowed in (status == 0, None), (text, user.name, target.name, gid, command)
            # what is told in short agrees: any command, or those that are allowed
            grant = matcher.grant(user, target, gid)
            told = grant is not None and (grant.any_command or any(covers(one, command) for one in grant.commands))
            assert told or not allowed
            assert not told or allowed is not False or grant is None or not grant.any_command or grant.but_not
    scratch.passwords(right=False)
    for user in USERS[1:4]:
        runs, asked_for = [], []
        for target in (USERS[0], *USERS[4:]):
            for command in COMMANDS[:2]:
                password = matcher.password(user, target, None, command)
                if password is not None:
                    runs.append(["-u", target.name, command])
                    asked_for.append(password)
        for password, (status, _), words in zip(asked_for, scratch.ask(user, runs) if runs else [], runs, strict=True):
            assert password == (status != 0), (text, user.name, words)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "no JSON"),
        ("[]", "no object"),
        ('{"User_Specs": {}}', "User_Specs"),
        ('{"User_Specs": [{"User_List": [{"userid": 4294967296}], "Host_List": []}]}', "User_List[0].userid"),
        ('{"User_Specs": [{"User_List": [{"useralias": "A"}], "Host_List": []}]}', "'A'"),
        (
            '{"User_Aliases": {"A": [{"useralias": "A"}]}, "User_Specs": [{"User_List": [{"useralias": "A"}]}]}',
            "circle",
        ),
        ("[" * 100_000, "no JSON"),
        ('{"User_Specs": [{"User_List": [{"username": "\\u001b[2J", "negated": 1}]}]}', "negated"),
    ],
)
def test_rules_that_are_wrong_get_one_line(text: str, says: str) -> None:
    with pytest.raises(ElevationError) as caught:
        parse_elevations(text, "the rules")
    assert says in str(caught.value)
    assert str(caught.value).isprintable()


RULES = """
Defaults !fqdn, !lecture, noninteractive_auth, timestamp_timeout=0
keeper ALL = (root) ALL
%watch ALL = (tidefeed) NOPASSWD: ALL, !/usr/bin/id
surveyor ALL = (root) /srv/tide/reduce, /usr/bin/bash
tidefeed ALL = (chartpress) NOPASSWD: ALL
"""


def machine_on(scratch: Scratch, *words: str, status: int = 0) -> Any:
    """What the built program prints in the scratch root."""
    done = fiat(*words, "--json", preexec_fn=scratch.enter)
    assert done.returncode == status, done.stderr
    return json.loads(done.stdout)


@real
@pytest.mark.root
def test_who_can_by_acting_as_another_really_can(scratch: Scratch, folder: str) -> None:
    """Files of several accounts: the real program is asked to read each as every account, also through another."""
    scratch.rules(RULES)
    scratch.passwords(right=True)
    files = {}
    for user in (USERS[0], *USERS[4:]):
        files[user.name] = make(f"{folder}/{user.name}", 0o600, text=b"x")
        os.chown(files[user.name], user.uid, user.gid)
    found = machine_on(scratch, "who", *files.values(), "--elevated", *from_exporter(scratch))["results"]
    for path, one in zip(files.values(), found, strict=True):
        told = {user["name"]: user["elevated"]["read"] for user in one["users"]}
        for user in USERS[1:4]:
            direct = [["-u", target.name, "/usr/bin/cat", path] for target in (USERS[0], *USERS[4:])]
            through = [["-u", "tidefeed", SUDO, "-n", *words] for words in direct]
            really = any(status == 0 for status, _ in scratch.ask(user, [*direct, *through]))
            assert told[user.name] in (really, None), (user.name, path)
            assert really or told[user.name] is not True
    first = machine_on(scratch, "why", "steward", "read", files["chartpress"], "--elevated", *from_exporter(scratch))
    steps = [one["account"] for one in first["results"][0]["steps"] if one["needs"] == "act as"]
    assert steps == ["tidefeed", "chartpress"]
    partly = machine_on(
        scratch, "why", "surveyor", "read", files["root"], "--elevated", *from_exporter(scratch), status=1
    )
    assert partly["results"][0]["perhaps_by_acting"][0]["commands"] == ["/srv/tide/reduce", "/usr/bin/bash"]
    codes = [one["text"] for one in partly["caveats"] if one["code"] == "command-runs-others"]
    assert any("/usr/bin/bash is a shell" in text for text in codes)


def from_exporter(scratch: Scratch) -> list[str]:
    """The rules as a file: the exporter is not where a system has it."""
    path = Path(f"{scratch.folder}/exported.json")
    path.write_text(scratch.exported())
    return ["--elevation", str(path)]


@real
@pytest.mark.root
def test_what_may_be_run_as_root_and_replaced_is_a_danger(scratch: Scratch, folder: str) -> None:
    os.chmod(folder, 0o755)
    tool, safe = make(f"{folder}/tool", 0o755, text=b"#!/bin/sh\n"), make(f"{folder}/safe", 0o755, text=b"#!/bin/sh\n")
    os.chown(tool, 7102, 7202)
    scratch.rules(f"surveyor ALL = (root) {tool}, {safe}\n")
    rule = ("--rule", "started-replaceable")
    done = machine_on(scratch, "audit", folder, *rule, *from_exporter(scratch), status=1)
    (found,) = done["results"]
    assert found["path"] == tool
    assert found["affected"]["users"] == ["surveyor"]
    assert "surveyor may run it so" in found["text"]


def test_the_sample_host_has_rules() -> None:
    def told(*words: str) -> Any:
        return json.loads(fiat(*words, "--from", "skerry", "--json").stdout)["results"][0]

    keeper, steward = (told("show", "--user", name)["acting_as"] for name in ("keeper", "steward"))
    assert [(one["account"], one["commands"], one["password"]) for one in keeper] == [("root", "any", True)]
    assert [(one["account"], len(one["commands"]), one["password"]) for one in steward] == [("tidefeed", 2, False)]
    users = {one["name"]: one for one in told("who", "/srv/skerry/gauge/raw", "--elevated")["users"]}
    assert users["keeper"]["elevated"]["write"] is True
    assert users["steward"]["elevated"]["write"] is None
    assert users["surveyor"]["elevated"]["write"] is False


def test_rules_are_kept_in_snapshots(folder: str) -> None:
    rules = f"{folder}/rules.json"
    Path(rules).write_text(
        json.dumps(
            {
                "User_Specs": [
                    {
                        "User_List": [{"username": "nobody"}],
                        "Host_List": [{"hostname": "ALL"}],
                        "Cmnd_Specs": [{"runasusers": [{"username": "ALL"}], "Commands": [{"command": "ALL"}]}] * 9000,
                    }
                ]
            }
        )
    )
    kept = f"{folder}/kept.fiat"
    assert fiat("save", folder, "-o", kept, "--elevation", rules).returncode == 0
    (told,) = json.loads(fiat("show", "--user", "nobody", "--from", kept, "--json").stdout)["results"]
    assert [one["account"] for one in told["acting_as"]] == ["root"]


def test_a_hundred_thousand_rules_and_a_pipe_hold_nobody_up(folder: str) -> None:
    rules = f"{folder}/rules.json"
    specs = [
        {
            "User_List": [{"username": f"u{number}"}],
            "Host_List": [{"hostname": "ALL"}],
            "Cmnd_Specs": [{"Commands": [{"command": f"/b{number}"}]}],
        }
        for number in range(100_000)
    ]
    Path(rules).write_text(json.dumps({"User_Specs": specs}))
    assert fiat("why", "root", "read", "/", "--elevated", "--elevation", rules).returncode == 0
    os.mkfifo(f"{folder}/pipe")
    done = fiat("why", "root", "read", "/", "--elevated", "--elevation", f"{folder}/pipe")
    assert done.returncode == 2
    assert "no JSON" in done.stderr


@real
@pytest.mark.root
@pytest.mark.parametrize("fault", ["reversed", "fnmatchcase"])
def test_the_judge_finds_a_wrong_rule(scratch: Scratch, fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where the first word counts and not the last, or patterns are none, the program says something else."""
    wrong = list if fault == "reversed" else lambda name, pattern: name == pattern
    monkeypatch.setattr(f"fiat.core.rules.elevation.{fault}", wrong, raising=False)

    def judged() -> None:
        for seed in range(20):
            test_rules_say_what_the_program_says(scratch, seed)

    with pytest.raises(AssertionError):
        judged()

"""``fiat who`` and ``fiat why``: what can be asked, suppositions, processes, accounts, trees."""

import csv
import io
import json
import os
import shlex
from collections.abc import Iterator

import pytest

from fiat.core.ask import caveats
from fiat.core.ask.why import explain
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Settings
from fiat.core.model.posture import Format, Identity, Kind, Mount, Object, Posture, Status
from fiat.core.model.principals import Universe
from fiat.core.model.right import right_named
from fiat.core.rules.access import Access
from fiat.core.rules.programs import program_in
from fiat.core.tree.walk import route_for
from fiat.core.words.entries import parse_list
from fiat.core.words.who import parse as parse_who
from fiat.host.image.host import ImageHost
from support.estates import GROUPS, USERS, write_accounts
from support.files import make
from support.filesystems import fresh
from support.program import fiat, machine, sample

S = "/srv/skerry"
SAMPLE = ("--from", "skerry")


@pytest.mark.parametrize(
    ("who", "right", "path", "errno", "says"),
    [
        ("keeper", "delete", "dropbox/from-surveyor.txt", "EPERM", "the sticky bit"),
        ("surveyor", "delete", "gauge/raw/0412.csv", "EACCES", "--entry user:surveyor:-wx"),
        ("keeper", "delete", "gauge/raw/0412.csv", "EACCES", f"Owning {S}/gauge/raw/0412.csv does not count here"),
        ("auditor", "list", "dropbox", "EACCES", "who knows a name in it can use it, but not list the names"),
        ("root", "delete", "logbook/1912.txt", "EPERM", "clearing the immutable flag"),
        ("root", "change-mode", "log/tidefeed.log", "EPERM", "append-only flag"),
        ("keeper", "change-owner", "logbook/today.txt", "EPERM", "only CAP_CHOWN"),
        ("tidefeed", "change-group", "gauge/live", "EPERM", "to a group that the owner is in"),
        ("auditor", "change-mode", "gauge/live", "EPERM", "It belongs to tidefeed"),
        ("auditor", "create", "log/new", "EACCES", "--entry user:auditor:rwx"),
        ("auditor", "read", "log/chartpress.log/x", "ENOTDIR", "this is no directory"),
        ("root", "execute", "../../mnt/vault/replay", "EACCES", "mounting /mnt/vault again with exec"),
        ("root", "write", "../../mnt/vault/1998.tar", "EROFS", "mounting /mnt/vault again with rw"),
        ("group:relief", "write", "charts/draft/approach.chart", "EACCES", "for relief alone"),
        ("anyone-else", "write", "logbook/today.txt", "EACCES", "--mode o+w"),
        ("uid:7188", "read", "keys/lamp.key", "EACCES", "--entry user:7188:--x"),
    ],
)
def test_why_not(who: str, right: str, path: str, errno: str, says: str) -> None:
    done = sample("why", who, right, f"{S}/{path}")
    assert done.returncode == 1
    assert done.stdout.startswith(f"No, {errno}. ")
    assert says in done.stdout


@pytest.mark.slow
def test_what_is_advised_helps() -> None:
    """Each command that ``why`` gives for one user alone, as a preview, gives that user what was asked."""
    advised = 0
    for who in ("surveyor", "auditor", "chartpress", "group:press"):
        for path in ("log/chartpress.log", "observatory", "keys", "gauge/raw", "tools/calibration.ini", "dropbox"):
            for right in ("read", "write"):
                done = fiat("why", who, right, f"{S}/{path}", *SAMPLE, "--format", "json")
                for change in json.loads(done.stdout)["results"][0]["changes"]:
                    command = shlex.split(change["command"])
                    if "--entry" not in command or command[2] != f"{S}/{path}":
                        continue
                    value = machine(*command[1:])
                    assert (who, right) in {(gain["who"], gain["right"]) for gain in value["gains"]}, command
                    advised += 1
    assert advised > 5


def small_host(*lines: str, settings: Settings = Settings()) -> ImageHost:  # noqa: B008
    """A host of a few objects, each written ``path kind mode uid gid [list | -> target]``."""
    objects = [Object("/", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(Identity("small", 1)))]
    for number, line in enumerate(lines, 1):
        path, kind, mode, uid, gid, *rest = line.split()
        target = rest[1] if rest and rest[0] == "->" else None
        acl = parse_list(rest[0], int, int) if rest and target is None else None
        posture = Posture(Kind(kind), int(mode, 8), int(uid), int(gid), acl)
        objects.append(Object(path, posture, Status(Identity("small", number + 1)), target=target))
    users = [User("keeper", 1, 11), User("steward", 2, 12), User("auditor", 3, 13)]
    groups = [Group("watch", 11), Group("stewards", 12, ("keeper",)), Group("auditors", 13)]
    return ImageHost("small", objects, Accounts(users, groups, "the test"), settings)


@pytest.mark.parametrize(
    ("who", "right", "path", "lines", "says"),
    [
        (
            "keeper",
            "write",
            "/d",
            ("/d directory 0770 9 9 u::rwx,g::-,g:11:rw,g:12:rx,m::rwx,o::-",),
            "hold wx together",
        ),
        ("keeper", "read", "/f", ("/f file 0604 9 11",), "is not asked about other"),
        ("keeper", "read", "/f", ("/f file 0064 1 11",), "the owner's letters alone count"),
        ("keeper", "read", "/d/f", ("/d directory 0700 9 9", "/d/f file 0600 1 11"), "Owning /d/f does not count here"),
        ("keeper", "read", "/f", ("/f file 0600 9 9 u::rw,u:1:r,g::-,m::-,o::-",), "passes over the list altogether"),
        (
            "auditor",
            "read",
            "/f",
            ("/f file 0640 9 9 u::rw,g::-,g:12:r,m::r,o::-",),
            "members of stewards, which this is not",
        ),
        ("keeper", "traverse", "/d", ("/d directory 0744 9 9",), "without traverse nothing in it can be used"),
        ("keeper", "list", "/d", ("/d directory 0711 9 9",), "but not list the names"),
        ("keeper", "create", "/t/f", ("/t directory 1777 0 0", "/t/f file 0666 2 12"), "fs.protected_regular"),
        ("keeper", "create", "/t/p", ("/t directory 1777 0 0", "/t/p fifo 0666 2 12"), "fs.protected_fifos"),
        (
            "keeper",
            "read",
            "/t/l",
            ("/f file 0644 9 9", "/t directory 1777 0 0", "/t/l symlink 0777 2 12 -> /f"),
            "symlinks",
        ),
        ("keeper", "read", "/l", ("/l symlink 0777 9 9 -> /l",), "more than 40 symlinks"),
    ],
)
def test_traps_are_explained_where_they_occur(
    who: str, right: str, path: str, lines: tuple[str, ...], says: str
) -> None:
    settings = Settings(protected_symlinks=True, protected_regular=1, protected_fifos=1)
    host = small_host(*lines, settings=settings)
    principal = parse_who(who, host)
    asked = right_named(right)
    route = route_for(host, path, asked)
    verdict = Access(Universe([principal]), host.settings).verdict(route, asked, 0)
    assert not verdict.allowed
    assert says in " ".join(explain(principal, verdict, route.end, host.accounts))


def test_what_stops_even_root() -> None:
    assert "Not even root may write it: the immutable flag" in sample("who", f"{S}/logbook/1912.txt").stdout
    vault = sample("who", "/mnt/vault/replay").stdout
    assert "Not even root may write it: it is mounted read-only" in vault
    assert "Not even root may execute it: the mount has noexec" in vault
    assert "Not even" not in sample("who", f"{S}/tools/calibration.ini").stdout


# --- what can be asked --------------------------------------------------------------


def test_who_can() -> None:
    text = sample("who", f"{S}/dropbox/from-surveyor.txt", "--can", "delete").stdout
    assert "yes     2 users: surveyor, steward" in text
    assert "execute" not in text
    value = machine("who", f"{S}/dropbox/new", "--can", "create", *SAMPLE)["results"][0]
    assert value["kind"] is None
    assert all(user["create"] for user in value["users"])
    assert "near is 'delete'" in sample("who", "/", "--can", "delet").stderr


def test_who_narrowed_and_because() -> None:
    text = sample("who", f"{S}/gauge/raw/0412.csv", "--user", "auditor", "--group", "watch", "--because").stdout
    assert "yes named user, user:auditor:r--" in text
    assert "steward" not in text
    assert "yes 4 of 4" in text
    (value,) = machine("who", f"{S}/gauge/raw", "--user", "7105", *SAMPLE)["results"]
    assert [user["name"] for user in value["users"]] == ["auditor"]
    assert value["groups"] == []
    blocked = sample("who", f"{S}/keys/gate.key", "--user", "steward", "--because").stdout
    assert f"no  owning group, group::--- at {S}/keys" in blocked


def test_suppositions_are_told_against_today() -> None:
    words = ("who", f"{S}/observatory", "--if-member", "surveyor:watch", "--if-not-member", "keeper:watch")
    (value,) = machine(*words, *SAMPLE)["results"]
    gains = {(gain["who"], gain["right"]) for gain in value["against_today"]["gains"]}
    assert gains == {("surveyor", "read"), ("surveyor", "traverse")}
    assert value["against_today"]["losses"] == []  # the keeper owns it
    text = sample(*words[:4]).stdout
    assert "Against today:\nGains  read and traverse: surveyor\nLoses  nobody" in text
    for bad, says in (("surveyor", "write USER:GROUP"), ("surveyr:watch", "near is 'surveyor'"), ("keeper:x", "'x'")):
        done = sample("who", "/", "--if-member", bad)
        assert done.returncode == 2
        assert says in done.stderr


def test_trees_in_every_format_agree() -> None:
    words = ("who", S, "--below")
    groups = machine(*words, *SAMPLE)["results"]
    lines = [json.loads(line) for line in sample(*words, "--format", "jsonl").stdout.splitlines()]
    answers = {line["answer"]: line["rights"] for line in lines if "rights" in line}
    paths = [line for line in lines if "path" in line]
    rows = list(csv.DictReader(io.StringIO(sample(*words, "--format", "csv").stdout)))
    text = sample(*words).stdout
    assert len(groups) == len(answers)
    assert sum(group["directories"] + group["others"] for group in groups) == len(paths) == len(rows)
    assert f"{len(groups)} distinct answers" in text
    for line, row in zip(paths, rows, strict=True):
        assert (line["path"], line["kind"]) == (row["path"], row["kind"])
        (one,) = machine("who", line["path"], *SAMPLE)["results"] if "draft" in line["path"] else [None]
        for right, told in answers[line["answer"]].items():
            assert row[right].split() == (told["users"] if told else [])
            if one and told:
                names = [user["name"] or f"uid:{user['uid']}" for user in one["users"] if user[right]]
                assert names == told["users"]
                assert one["anyone_else"][right] == told["anyone_else"]
    wrote = sample(*words, "--can", "write", "--user", "chartpress", "--only", "files").stdout.splitlines()
    assert wrote[:-1] == [f"{S}/charts/print/approach-7.pdf", f"{S}/tools/calibration.ini"]
    assert "write on 2 of 24 paths" in wrote[-1]


# --- accounts -----------------------------------------------------------------------


def test_primary_and_listed_groups_count_and_the_first_of_two_wins() -> None:
    accounts = Accounts(
        [User("a", 1, 10), User("a", 2, 20), User("b", 1, 30)], [Group("g", 40, ("a",)), Group("h", 40, ("b",))], "x"
    )
    assert accounts.user_named("a") == User("a", 1, 10)
    assert accounts.user_numbered(1) == User("a", 1, 10)
    assert accounts.gids_of(User("a", 1, 10)) == (10, 40)
    assert accounts.gids_of(User("b", 1, 30)) == (30, 40)


# --- caveats, and single rules ----------------------------------------------------------


def caveats_on(type_: str, *options: str, mount: tuple[str, ...] = ("rw",)) -> Iterator[str]:
    posture = Posture(Kind.FILE, 0o644, 0, 0)
    found = Object("/m/f", posture, Status(Identity("test", 1)), Mount("/m", type_, mount, ("rw", *options)))
    return (caveat.text for caveat in caveats.of_object(found))


def test_what_is_not_evaluated_is_said() -> None:
    assert list(caveats_on("ext4")) == []
    (text,) = caveats_on("fuse.sshfs"[:4] + ".station", "user_id=7101", "allow_other")
    assert "user number 7101 made it, others are let in, and the process behind it decides" in text
    (text,) = caveats_on("fuse", "user_id=0", "default_permissions")
    assert "nobody else is let in, not even root, and the kernel checks the mode" in text
    assert "NFSv4" in next(caveats_on("nfs4"))
    assert list(caveats_on("overlay")) == []
    folder = Object("/m", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(Identity("test", 1)), Mount("/m", "overlay"))
    assert [caveat.code for caveat in caveats.of_object(folder)] == ["overlay"]
    assert not caveats.of_object(folder._replace(layer="upper"))
    assert "ID-mapped" in next(caveats_on("ext4", mount=("rw", "idmapped")))
    settings = Settings(security_modules=("apparmor",), user_namespace=True)
    assert [caveat.code for caveat in caveats.of_host(settings)] == ["security-module", "user-namespace"]


@pytest.mark.parametrize(
    ("start", "interpreter"),
    [
        (b"#!/bin/sh\n", "/bin/sh"),
        (b"#! \t/bin/sh -e\n", "/bin/sh"),
        (b"#!/bin/sh", "/bin/sh"),
        (b"#!/bin/sh\r\n", "/bin/sh\r"),
        (b"#!/bin/sh\0x\n", "/bin/sh"),
        (b"#!\n", None),
        (b"#! " + b"x" * 300, None),
        (b"\x7fELF", None),
        (b"", None),
    ],
)
def test_the_interpreter_is_the_kernels(start: bytes, interpreter: str | None) -> None:
    found = program_in(start, lambda offset, count: b"", "x86_64")
    assert found.runs_with == interpreter
    assert (found.format is Format.NONE) == (interpreter is None)


def test_a_change_that_would_unmask_is_refused_until_accepted() -> None:
    if not os.path.isdir("/proc/self/fd"):
        pytest.skip("needs /proc")
    with fresh("here") as top:
        path = f"{top}/f"
        os.close(os.open(path, os.O_CREAT, 0o640))
        assert fiat("set", path, "--entry", "user:7103:rw", "--entry", "mask::r").returncode == 0
        before = os.getxattr(path, "system.posix_acl_access")
        done = fiat("set", path, "--entry", "user:7104:w")
        assert done.returncode == 4
        assert "guard unmasks" in done.stderr
        assert "user:7103:rw- gets w; --mask=r-- keeps it; --accept unmasks does it all the same" in done.stderr
        assert os.getxattr(path, "system.posix_acl_access") == before
        assert fiat("set", path, "--mode", "g+w").returncode == 4
        assert fiat("set", path, "--entry", "user:7104:w", "--accept", "unmasks").returncode == 0
        assert fiat("set", path, "--no-entry", "user:7103", "--no-entry", "user:7104").returncode == 0
        assert machine("show", path)["results"][0]["acl"] is None


@pytest.mark.root
@pytest.mark.parametrize(
    ("mode", "who", "other_would", "others_get_more"),
    [
        (0o604, "surveyor", True, False),
        (0o600, "surveyor", False, False),
        (0o602, "surveyor", False, False),
        (0o044, "keeper", False, True),
        (0o022, "keeper", False, False),
    ],
)
def test_why_says_that_another_class_would_be_allowed_it_where_it_would(
    folder: str, mode: int, who: str, other_would: bool, others_get_more: bool
) -> None:
    os.chmod(folder, 0o755)
    write_accounts(folder)
    path = make(f"{folder}/file", mode)
    os.chown(path, USERS["keeper"], GROUPS["survey"])
    said = fiat("why", who, "read", path, "--accounts", folder)
    assert said.returncode == 1
    assert ("Other would be allowed it" in said.stdout) is other_would
    assert ("Others get more" in said.stdout) is others_get_more

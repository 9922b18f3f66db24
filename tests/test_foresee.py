"""What a directory makes of what is made, moved and copied into it: foretold, and really done."""

import os
import random
from dataclasses import dataclass

import pytest

from fiat.app.foresee import ForeseeOptions, foreseen
from fiat.core.ask.who import Answer
from fiat.core.model import accesslist
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR, pack
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.principals import Principal, unlisted_user
from fiat.core.model.right import EXECUTE
from fiat.core.rules import inheritance
from fiat.core.rules.inheritance import Creation, inherited_modes, made
from fiat.core.tree.walk import walk
from fiat.host.live.host import LiveHost
from support.files import APPEND_ONLY, IMMUTABLE, change_flags, flags_of, make
from support.filesystems import fresh
from support.kernel import as_somebody
from support.program import fiat, machine

SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
CASES = int(os.environ.get("FIAT_JUDGE_MADE", "400"))
UIDS, GIDS = (0, 20001, 20002), (30001, 30002, 30003)


@dataclass
class Case:
    """One thing to be made."""

    parent: str
    name: str
    directory: bool
    asking: int
    umask: int

    def make(self) -> int:
        """Make it; the errno with which the kernel refuses."""
        os.umask(self.umask)
        try:
            if self.directory:
                os.mkdir(f"{self.parent}/{self.name}", self.asking)
            else:
                os.close(os.open(f"{self.parent}/{self.name}", os.O_CREAT | os.O_EXCL | os.O_WRONLY, self.asking))
        except OSError as error:
            return error.errno or 0
        return 0


def some_list(choices: random.Random) -> AccessList:
    named = [Entry(Tag.NAMED_USER, choices.randrange(8), uid) for uid in UIDS if choices.random() < 0.3]
    groups = [Entry(Tag.NAMED_GROUP, choices.randrange(8), gid) for gid in GIDS if choices.random() < 0.3]
    mask = [Entry(Tag.MASK, choices.randrange(8))] if named or groups or choices.random() < 0.3 else []
    owner, group, other = (Entry(tag, choices.randrange(8)) for tag in (Tag.OWNER, Tag.OWNING_GROUP, Tag.OTHER))
    return accesslist.check([owner, *named, group, *groups, *mask, other])


def somebody(choices: random.Random) -> Principal:
    uid = choices.choice(UIDS)
    gids = frozenset(choices.sample(GIDS, choices.randint(1, 2)))
    return unlisted_user(uid, gids)


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize(
    ("kind", "options"),
    [("here", ""), ("ext4", ""), ("ext4", "grpid"), ("xfs", ""), ("xfs", "grpid"), ("btrfs", ""), ("tmpfs", "")],
)
def test_what_is_made_is_what_was_foretold(kind: str, options: str) -> None:
    judge(kind, options, CASES)


def _uncut(default: AccessList, mode: int) -> tuple[AccessList, int]:
    return default, mode & 0o777


def _own_group(parent: Posture, mount: object, gid: int, kind: Kind) -> tuple[int, int]:
    return gid, 0


@pytest.mark.root
@pytest.mark.parametrize(("what", "wrong"), [("_cut", _uncut), ("_group", _own_group)])
def test_the_judge_catches_planted_faults(what: str, wrong: object, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(inheritance, what, wrong)
    with pytest.raises(AssertionError, match="Case"):
        judge("here", "", 100)


def judge(kind: str, options: str, count: int) -> None:
    """Make so many things as somebody in directories of all kinds, and compare each with what was foretold."""
    choices = random.Random(f"{SEED} {kind} {options}")
    with fresh(kind, options) as top:
        for round_ in range(count // 20):
            who = somebody(choices)
            cases = []
            for number in range(20):
                parent = f"{top}/{round_}-{number}"
                os.mkdir(parent)
                os.chown(parent, choices.choice(UIDS), choices.choice(GIDS))
                os.chmod(parent, choices.choice((0o777, 0o2777, 0o1777, 0o3777, 0o6777, 0o2775, 0o757)))
                if choices.random() < 0.6:
                    os.setxattr(parent, DEFAULT_XATTR, pack(some_list(choices)))
                directory = choices.random() < 0.5
                usual = (0o777,) if directory else (0o666, 0o600, 0o644, 0o755)
                asking = choices.choice((*usual, choices.randrange(0o10000)))
                umask = choices.choice((0o022, 0o002, 0o077, 0o027, choices.randrange(0o1000)))
                cases.append(Case(parent, "new", directory, asking, umask))
            errors = as_somebody(who, lambda cases=cases: [case.make() for case in cases])  # type: ignore[misc]
            host = LiveHost()
            for case, error in zip(cases, errors, strict=True):
                above = walk(host, case.parent).end
                assert above is not None
                if error:
                    continue
                found = walk(host, f"{case.parent}/{case.name}").end
                assert found is not None
                making = Creation(who, min(who.gids), case.asking, case.umask)
                of_kind = Kind.DIRECTORY if case.directory else Kind.FILE
                foretold = made(above.posture, above.mount, of_kind, making, keeps_lists=above.keeps_lists is not False)
                assert foretold == found.posture, (case, above.posture, who)
            assert errors.count(0) > 10


@pytest.mark.root
@pytest.mark.slow
def test_what_is_foreseen_comes_true(folder: str) -> None:
    """The command, on directories like real ones: made, moved and copied there, and who then reaches it."""
    choices = random.Random(SEED)
    os.chmod(folder, 0o755)
    users = [User("root", 0, 0), User("keeper", 20001, 30001), User("surveyor", 20002, 30002)]
    users.append(User("relief", 20002, 30003))  # a second account of that number
    groups = [Group("watch", 30001, ("surveyor",)), Group("survey", 30002), Group("press", 30003, ("keeper",))]
    host = LiveHost(Accounts(users, groups, "the test"))
    made_there = 0
    for trial in range(60):
        parent, source = f"{folder}/{trial}", f"{folder}/source-{trial}"
        os.mkdir(parent)
        os.chown(parent, choices.choice((0, 20001, 20002)), choices.choice((0, 30001, 30002)))
        os.chmod(parent, choices.choice((0o755, 0o775, 0o2775, 0o2770, 0o1777, 0o750)))
        if choices.random() < 0.4:
            os.setxattr(parent, DEFAULT_XATTR, pack(some_list(choices)))
        os.close(os.open(source, os.O_CREAT, 0o600))
        os.chown(source, 20002, 30003)
        os.chmod(source, choices.choice((0o644, 0o600, 0o750)))
        if choices.random() < 0.5:
            os.setxattr(source, ACCESS_XATTR, pack(some_list(choices)))
        who = choices.choice(users[1:])
        umask = choices.choice((0o022, 0o002, 0o077))
        asking = choices.choice((None, 0o600, 0o640))
        how = ForeseeOptions((who.name,), f"{umask:04o}", None if asking is None else f"{asking:04o}", source)
        (found,) = foreseen(host, [parent], how, held=True)
        told = found.forecast
        source_mode = os.stat(source).st_mode & 0o7777
        cases = [
            Case(parent, "file", False, 0o666 if asking is None else asking, umask),
            Case(parent, "folder", True, 0o777, umask),
            Case(parent, "copied", False, source_mode, umask),
        ]
        errors = as_somebody(None, lambda who=who, told=told, cases=cases: _at_login(who, told.asked.by, cases))  # type: ignore[misc]
        assert [error == 0 for error in errors] == [told.may_create] * 3, (told, errors)
        os.rename(source, f"{parent}/moved")
        assert posture_at(host, f"{parent}/moved") == told.moved
        if not told.may_create:
            continue
        made_there += 1
        for name, posture in (("file", told.file), ("folder", told.folder), ("copied", told.copied)):
            assert posture_at(host, f"{parent}/{name}") == posture, (trial, name)
        for name, reach in (("file", told.reach_file), ("folder", told.reach_folder)):
            really = Answer(host, walk(host, f"{parent}/{name}"), tuple(reach.allowed))
            assert having(really) == having(reach), (trial, name)
    assert made_there > 15


def _at_login(account: User, principal: Principal, cases: list[Case]) -> list[int]:
    """Make each of them as a login of this account would: its own group is the one that counts."""
    os.setgroups(sorted(principal.gids))
    os.setresgid(account.gid, account.gid, account.gid)
    os.setresuid(account.uid, account.uid, account.uid)
    return [case.make() for case in cases]


def posture_at(host: LiveHost, path: str) -> Posture:
    end = walk(host, path).end
    assert end is not None
    return end.posture


def having(answer: Answer) -> dict[str, set[object]]:
    """For each right who has it; of a file that holds nothing nobody asks whether it runs."""
    return {
        right.name: {who.identity for who in answer.who_can(right)} for right in answer.allowed if right is not EXECUTE
    }


def test_who_makes_it_and_what_is_asked_for() -> None:
    done = fiat("foresee", "/srv/skerry/charts/draft", "--from", "skerry")
    assert done.stdout.splitlines()[:5] == [
        "/srv/skerry/charts/draft",
        "  made by 2 users: surveyor, apprentice  (umask 0022)",
        "",
        "                   mode  letters    owner      group          lists",
        "  a new file       0660  rw-rw----  its maker  survey (7202)  group:press:r-x",
    ]
    (one,) = machine("foresee", "/srv/skerry/gauge/raw", "--by", "tidefeed", "--asking", "600", "--from", "skerry")[
        "results"
    ]
    assert (one["umask"], one["may_create"], one["file"]["mode"], one["folder"]["mode"]) == (
        "0022",
        True,
        "0600",
        "2750",
    )
    assert [found["code"] for found in one["surprises"]] == ["surprised", "mask-cuts", "default-list"]
    assert one["reach"]["file"]["read"]["users"] == ["root", "tidefeed"]
    assert one["copied"] is one["moved"] is None
    for words, said in (
        (("--by", "group:watch"), "'group:watch' makes nothing: only a user, or a process, does"),
        (("--asking", "g+w"), "'g+w' is no mode to ask for; write 600, or rw-------"),
        (("--umask", "u+s"), "umask 'u+s': special bits have no place in a umask"),
    ):
        done = fiat("foresee", "/srv/skerry/log", *words, "--from", "skerry")
        assert (done.returncode, done.stderr) == (2, f"fiat foresee: {said}\n")


@pytest.mark.root
@pytest.mark.parametrize("flags", [0, APPEND_ONLY, IMMUTABLE])
def test_who_may_make_something_under_flags_is_the_kernels_answer(flags: int, folder: str) -> None:
    os.chmod(folder, 0o755)
    top = make(f"{folder}/top", 0o777, directory=True)
    somebody = unlisted_user(1, (1,))

    def makes() -> bool:
        try:
            os.close(os.open(f"{top}/new", os.O_CREAT | os.O_EXCL, 0o600))
        except OSError:
            return False
        return True

    change_flags(top, flags)
    try:
        (told,) = machine("foresee", top, "--by", "uid:1")["results"]
        assert told["may_create"] is as_somebody(somebody, makes)
        assert ("flag-stays" in str(told)) is bool(flags)
        assert not os.path.exists(f"{top}/new") or not flags_of(f"{top}/new") & (APPEND_ONLY | IMMUTABLE)
    finally:
        change_flags(top, 0)


@pytest.mark.root
def test_the_modes_that_a_default_list_gives_are_the_kernels(folder: str) -> None:
    """What is said of every directory with a default list, in few words: the modes of what is made in it."""
    choices = random.Random(SEED)
    for number in range(40):
        parent, default = f"{folder}/{number}", some_list(choices)
        os.mkdir(parent)
        os.chmod(parent, choices.choice((0o755, 0o2770)))
        os.setxattr(parent, DEFAULT_XATTR, pack(default))
        os.close(os.open(f"{parent}/file", os.O_CREAT, 0o666))
        os.mkdir(f"{parent}/folder", 0o777)
        modes = tuple(os.stat(f"{parent}/{name}").st_mode & 0o7777 for name in ("file", "folder"))
        assert inherited_modes(default, os.stat(parent).st_mode & 0o7777) == modes

"""What is made later in a directory: what ``let --and-new`` says that others gain and lose there, by the kernel."""

import os
import random
from pathlib import Path

import pytest

from fiat.app.interface import let
from fiat.core.model.principals import Principal
from fiat.core.suggest.cost import Way
from fiat.host.accounts.folder import from_folder
from fiat.host.live.host import LiveHost
from support.files import give_list, make
from support.kernel import as_somebody
from support.places import trusted_folder
from support.program import run_here

PEOPLE = {"keeper": 21001, "steward": 21002, "clerk": 21003, "reader": 21004, "stranger": 21005}
ALONE, TEAM, OTHER = 30001, 31001, 31002  # the lowest is what a process of the tests begins with
MEMBERS = {TEAM: ("keeper", "steward"), OTHER: ("clerk", "steward")}
UMASKS = ("002", "022", "027", "077", "007")


class Place:
    """A directory, and people whose logins have umasks of their own."""

    def __init__(self, folder: str, seed: int) -> None:
        dice = random.Random(seed)
        self.accounts = f"{folder}/accounts"
        os.mkdir(self.accounts)
        passwd, self.umasks = ["root:x:0:0::/root:/bin/sh"], {}
        for name, uid in PEOPLE.items():
            home = make(f"{folder}/{name}", 0o755, directory=True)
            self.umasks[name] = dice.choice(UMASKS)
            (Path(home) / ".profile").write_text(f"umask {self.umasks[name]}\n")
            passwd.append(f"{name}:x:{uid}:{ALONE}::{home}:/bin/sh")
        (Path(self.accounts) / "passwd").write_text("\n".join(passwd) + "\n")
        (Path(self.accounts) / "group").write_text(
            f"root:x:0:\nteam:x:{TEAM}:{','.join(MEMBERS[TEAM])}\nother:x:{OTHER}:{','.join(MEMBERS[OTHER])}\n"
            f"alone:x:{ALONE}:\n"
        )
        self.path = make(f"{folder}/place", 0o755, directory=True)
        os.chown(self.path, dice.choice((0, PEOPLE["keeper"])), dice.choice((TEAM, OTHER)))
        os.chmod(self.path, dice.choice((0o2775, 0o2770, 0o775, 0o770, 0o3775, 0o2777)))
        if dice.random() < 0.3:
            give_list(
                self.path, f"user::rwx,group::r-x,group:{OTHER}:rwx,mask::rwx,other::---", "system.posix_acl_default"
            )
        self.who = dice.choice(("reader", "stranger"))
        self.right = dice.choice(("read", "write"))

    def principal(self, name: str) -> Principal:
        groups = {gid for gid, names in MEMBERS.items() if name in names}
        return Principal("user", name, PEOPLE[name], frozenset((ALONE, *groups)), gid=ALONE)

    def made(self) -> tuple[set[tuple[str, str, str, int]], set[str]]:
        """Who may do what with what each maker makes now: maker, kind, user, permission; and who can make anything."""
        found, makers = set(), set()
        for maker in PEOPLE:
            mask = int(self.umasks[maker], 8)
            if not as_somebody(self.principal(maker), lambda: _make(self.path, mask)):  # noqa: B023
                continue
            makers.add(maker)
            for kind in ("file", "folder"):
                for user in PEOPLE:
                    if user != maker:
                        theirs = as_somebody(self.principal(user), lambda: _may(f"{self.path}/{kind}"))  # noqa: B023
                        found |= {(maker, kind, user, want) for want in theirs}
            os.remove(f"{self.path}/file")
            os.rmdir(f"{self.path}/folder")
        return found, makers


def _make(path: str, mask: int) -> bool:
    os.umask(mask)
    try:
        os.close(os.open(f"{path}/file", os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o666))
        os.mkdir(f"{path}/folder", 0o777)
    except PermissionError:
        return False
    return True


def _may(path: str) -> list[int]:
    wants = (os.R_OK, os.W_OK, os.X_OK) if os.path.isdir(path) else (os.R_OK, os.W_OK)
    return [want for want in wants if os.access(path, want)]


def _told(way: Way) -> tuple[set[str], set[str]]:
    return {str(who.name) for who in way.later.gaining}, {str(who.name) for who in way.later.losing}


@pytest.mark.root
@pytest.mark.parametrize("seed", range(int(os.environ.get("FIAT_JUDGE_LATER", "25"))))
def test_what_others_gain_and_lose_later_is_told(seed: int) -> None:
    with trusted_folder() as folder:
        place = Place(folder, seed)
        ways = let(LiveHost(from_folder(place.accounts)), place.who, place.right, [place.path], and_new=True).found.ways
        if not ways:
            return  # it is so already
        number, way = next((rank, one) for rank, one in enumerate(ways, 1) if one.means == ("entry",))
        before, makers = place.made()
        status, output, errors = run_here(
            "let", place.who, place.right, place.path, "--and-new", "--do", str(number), "--accounts", place.accounts,
            "--history", f"{folder}/history.db",
        )  # fmt: skip
        assert status == 0, (output, errors)
        after, _ = place.made()
        gained = {user for maker, _, user, _ in after - before if maker in makers} - {place.who}
        lost = {user for maker, _, user, _ in before - after if maker in makers} - {place.who}
        told_gained, told_lost = _told(way)
        assert told_lost & set(PEOPLE) == lost, (place.umasks, oct(os.stat(place.path).st_mode))
        assert told_gained & set(PEOPLE) == gained, (place.umasks, oct(os.stat(place.path).st_mode))
        assert way.cost.others == sum(way.others) + way.later.gained + way.later.lost

"""What a directory makes of what is made, moved and copied into it: foretold, and really done."""

import os
import random
from dataclasses import dataclass

import pytest

from fiat.core.model import accesslist
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.kind import Kind
from fiat.core.model.listbytes import DEFAULT_XATTR, pack
from fiat.core.model.principals import Principal, unlisted_user
from fiat.core.rules.inheritance import Making, made
from fiat.core.tree.walk import walk
from fiat.host.live.host import LiveHost
from support.filesystems import fresh
from support.kernel import as_somebody

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
    choices = random.Random(f"{SEED} {kind} {options}")
    with fresh(kind, options) as top:
        for round_ in range(CASES // 20):
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
                making = Making(who, min(who.gids), case.asking, case.umask)
                of_kind = Kind.DIRECTORY if case.directory else Kind.FILE
                foretold = made(above.posture, above.mount, of_kind, making, keeps_lists=above.keeps_lists is not False)
                assert foretold == found.posture, (case, above.posture, who)
            assert errors.count(0) > 10

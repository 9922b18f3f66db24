"""What is derived from the answer for one path, on trees like real ones: against the kernel and that answer."""

import os
import tempfile
from collections.abc import Generator, Iterator
from contextlib import closing

import numpy as np
import pytest
from numpy.typing import NDArray

import fiat
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal
from fiat.core.model.right import ALL
from fiat.core.tree import answers
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.profiles import Profiles
from fiat.core.tree.survey import Numbers
from fiat.core.words import naming
from support.estates import (
    ACCEPT,
    GROUPS,
    PRIMARY,
    USERS,
    Crowd,
    Estate,
    Having,
    asked_of,
    between,
    counted_on,
    crowd,
    foretold,
    having,
    people,
    remember,
    write_accounts,
)
from support.filesystems import fresh
from support.program import answer
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "8"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
RIGHTS = [right.name for right in ALL]
CAN = [word for name in RIGHTS for word in ("--can", name)]

pytestmark = [pytest.mark.root, pytest.mark.slow]


@pytest.fixture(scope="module")
def accounts() -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as folder, protections():
        write_accounts(folder)
        yield folder


@pytest.fixture(params=["here", "tmpfs"])
def estates(request: pytest.FixtureRequest) -> Iterator[Iterator[Estate]]:
    with fresh(request.param) as top, closing(made(top)) as all_of_them:
        yield all_of_them


def made(top: str) -> Generator[Estate, None, None]:
    """One estate after the other."""
    for seed in range(SEED, SEED + SEEDS):
        with Estate(top, seed) as estate:
            yield estate


@pytest.fixture(scope="module")
def everyone() -> Iterator[Crowd]:
    with crowd() as found:
        yield found


def tree_says(host: fiat.Host, top: str) -> Having:
    """What the answer for the whole tree says, as the kernel is asked."""
    told = fiat.who_below(host, top, RIGHTS, across_mounts=True)
    words = [naming.word_for(who) for who in told.universe.principals]
    found = set()
    for place, path in enumerate(told.survey.paths()):
        for right, bits in zip(told.rights, told.answers.keys[int(told.answers.number[place])], strict=True):
            found |= {(word, right.name, path) for at, word in enumerate(words) if (bits or 0) >> at & 1}
    return frozenset(found)


def path_says(host: fiat.Host, path: str) -> Having:
    """The same for one path, which may be a symlink: a name in its directory is all that is asked of it then."""
    rights = ["delete", "rename"] if os.path.islink(path) else RIGHTS
    told = fiat.who(host, path, rights)
    return frozenset((naming.word_for(who), name, path) for name in rights for who in told.who_can(name))


def test_a_tree_answers_as_the_kernel_and_as_its_paths_do(
    estates: Iterator[Estate], accounts: str, everyone: Crowd
) -> None:
    compared = sum(tree_judged(estate, accounts, everyone) for estate in estates)
    assert compared > 2000 * SEEDS


def tree_judged(estate: Estate, accounts: str, everyone: Crowd) -> int:
    """Compare the answer for a tree with the kernel's answers, and with those for each of its paths; how many."""
    host = fiat.open_host(accounts=accounts)
    remember(estate)
    real, known = having(estate, everyone), set(people())
    questions = {(right, path) for right, _, path in asked_of(estate)}
    said = tree_says(host, estate.top)
    of_known = {one for one in said if one[0] in known and one[1:] in questions}
    assert of_known == real, (estate.top, sorted(of_known ^ real)[:5])
    for path in (*estate.directories, *estate.files):
        assert path_says(host, path) == {one for one in said if one[2] == path}, path
    return len(questions) * len(known)


def anyone_may(
    access: TreeAccess, profiles: Profiles, holders: NDArray[np.int64], kinds: NDArray[np.int64], examples: list[int]
) -> Numbers:
    """Every name may be used by everyone."""
    everyone = access.access.universe.everyone
    names = [right for right in access.rights if right.by_name]
    return np.full((len(holders), len(names)), access.table.number(everyone), np.int32)


FAULTS: dict[str, tuple[object, str, object]] = {
    "names that are the object's own matter": (TreeAccess, "_of_holders", anyone_may),
    "directories that are entered by who may read them": (answers, "EXECUTE", 4),
    "scripts without an interpreter": (TreeAccess, "runs_with", lambda self, program: None),
    "nothing mounted": (Object, "mount_point", False),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_trees_catches(
    fault: str, accounts: str, everyone: Crowd, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(*FAULTS[fault])

    def judge_all() -> None:
        for seed in range(1, 30):
            with Estate(top, seed) as estate:
                tree_judged(estate, accounts, everyone)

    with fresh("tmpfs") as top, pytest.raises(AssertionError):
        judge_all()


def test_a_supposed_membership_is_what_it_would_be(estates: Iterator[Estate], accounts: str) -> None:
    changed = 0
    for estate in estates:
        remember(estate)
        user, group = estate.dice.choice(list(USERS)), estate.dice.choice(list(GROUPS))
        today = people()[user]
        joined = Principal("user", user, today.uid, today.gids | {GROUPS[group]})
        left = Principal("user", user, today.uid, today.gids - {GROUPS[group]})
        with crowd({user: today}) as asked_today:
            before = having(estate, asked_today)
        for option, who in (("--if-member", joined), ("--if-not-member", left)):
            if option == "--if-not-member" and group == PRIMARY[user]:
                continue  # a primary group cannot be left so
            told = answer(
                [
                    "who",
                    estate.top,
                    "--below",
                    "--across-mounts",
                    option,
                    f"{user}:{group}",
                    *CAN,
                    "--accounts",
                    accounts,
                    "--format",
                    "json",
                ]
            )["against_today"]
            with crowd({user: who}) as supposed:
                after = having(estate, supposed)
            asked = set(estate.paths)
            assert foretold(told["gains"]) == between(before, after, asked), (option, user, group, estate.top)
            assert foretold(told["losses"]) == between(after, before, asked), (option, user, group, estate.top)
            changed += before != after
    assert changed


def test_undoing_foretells_what_it_gives_back(estates: Iterator[Estate], accounts: str, everyone: Crowd) -> None:
    """And what the history keeps of a run is what the run did."""
    undone = 0
    for estate in estates:
        common = ["--accounts", accounts, "--format", "json", "--history", f"{accounts}/history"]
        for _ in range(2):
            remember(estate)
            before = having(estate, everyone)
            plan = ["set", *estate.plan()]
            told = answer([*plan, *common, *ACCEPT])
            if not told["changed"]:
                continue
            remember(estate)
            changed = having(estate, everyone)
            back = answer(["undo", "--accept", "privilege", *common])
            remember(estate)
            after = having(estate, everyone)
            assert after == before
            known = counted_on(estate, plan, told)
            assert foretold(back["gains"]) in [between(changed, after, paths) for paths in known]
            assert foretold(back["losses"]) in [between(after, changed, paths) for paths in known]
            undone += 1
    assert undone >= SEEDS // 2

"""What ``why`` advises, carried out: the answer turns, nobody loses, and nobody gains who was not counted."""

import errno
import os
import shlex
import tempfile
from typing import Any

import pytest

from fiat.core.ask.effects import Effects
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.wish import Advice, EntryWish, ListWish
from fiat.core.suggest import advice, entrywishes
from support.estates import (
    ACCEPT,
    GROUPS,
    MEMBERS,
    PRIMARY,
    USERS,
    Crowd,
    Estate,
    asked_of,
    crowd,
    remember,
    write_accounts,
)
from support.files import set_state, state_of
from support.filesystems import fresh
from support.program import answer
from support.worlds import protections

SEEDS = int(os.environ.get("FIAT_JUDGE_ESTATES", "12"))
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
_CLASSES = {"owner", "named-user", "owning-group", "named-group", "other"}
QUESTIONS = 40
"""Refusals in each estate of which the advice is carried out."""

pytestmark = [pytest.mark.root, pytest.mark.slow]

_BASIC = {True: ("read", "write in", "traverse"), False: ("read", "write", "execute")}

Having = set[tuple[str, str]]


def having(path: str, everyone: Crowd) -> Having:
    """Who has which right on one path, by the kernel."""
    tried = [(how, path) for how in _BASIC[os.path.isdir(path)]]
    return {
        (word, how)
        for word, subject in everyone.items()
        for (how, _), number in zip(tried, subject.tries(tried), strict=True)
        if not number
    }


def _in_group(user: str, word: str) -> bool:
    group = word.removeprefix("group:")
    return user == word or user in MEMBERS.get(group, ()) or PRIMARY.get(user) == group


def wrongs_of(one: dict[str, Any], who: str, told: str, everyone: Crowd) -> list[str]:
    """Carry out one change, compare what it does with what was said, and put it back."""
    command = shlex.split(one["command"])
    path = command[2]
    state, before = state_of(path), having(path, everyone)
    answer([*(word for word in command[1:] if word != "--preview"), "--no-history", "--format", "json", *ACCEPT])
    after = having(path, everyone)
    if state_of(path) != state:
        set_state(path, state)
    wrong = [f"{told}: {one['command']}: {word} loses {how}" for word, how in before - after]
    gaining = {word for word, _ in after - before}
    others = {word for word in gaining if word in (*USERS, "root") and not _in_group(word, who)}
    if len(others) != one["others"]:
        wrong.append(f"{told}: {one['command']}: {one['others']} others were said, and {sorted(others)} gain")
    if one["effect"].endswith(" alone") and {word for word in gaining if not _in_group(word, who)}:
        wrong.append(f"{told}: {one['command']}: {sorted(gaining)} gain")
    return wrong


def carried_out(estate: Estate, accounts: str, everyone: Crowd, seen: list[str]) -> list[str]:
    """Ask why somebody is refused, and do what is advised: each change for itself, then the first for each object."""
    wrong: list[str] = []
    questions = asked_of(estate)
    shut = [path for path in estate.files if "run" in path and not os.stat(path).st_mode & 0o111]
    names = {uid: name for name, uid in USERS.items()} | {0: "root"}
    for _ in range(QUESTIONS):
        who = estate.dice.choice([*USERS, *(f"group:{group}" for group in GROUPS), "root"])
        right, how, path = estate.dice.choice(questions)
        if estate.dice.random() < 0.3:  # what is theirs and refused to them all the same
            mine = [one for one in questions if os.lstat(one[2]).st_uid == USERS.get(who, 0)]
            right, how, path = estate.dice.choice(mine or questions)
        if shut and estate.dice.random() < 0.1:  # a program that nobody may run, asked for by its owner
            right, how, path = "execute", "execute", estate.dice.choice(shut)
            who = names[os.lstat(path).st_uid]
        value = answer(["why", who, right, path, "--accounts", accounts, "--format", "json"])["results"][0]
        if value["allowed"] or not value["changes"]:
            continue
        told = f"why {who} {right} {path}"
        # what something else stands in the way of is not to be had by a command
        changes = [one for one in value["changes"] if one["command"] and ", once " not in one["effect"]]
        for one in changes:
            wrong += wrongs_of(one, who, told, everyone)
            seen.append(one["effect"])
        seen += [one["effect"] for one in value["changes"] if not one["command"]]
        first = {shlex.split(one["command"])[2]: one for one in reversed(changes)}
        refused = {(step["path"], step["rule"]) for step in (*value["steps"], *value["beyond"]) if not step["allowed"]}
        if not {place for place, _ in refused} <= first.keys() or not {rule for _, rule in refused} <= _CLASSES:
            continue  # something refuses that no change of a posture mends, or one object for two reasons
        states = {place: state_of(place) for place in first}
        for one in first.values():
            words = [word for word in shlex.split(one["command"])[1:] if word != "--preview"]
            answer([*words, "--no-history", "--format", "json", *ACCEPT])
        remember(estate)
        (number,) = everyone[who].tries([(how, path)])
        if number:
            wrong.append(f"{told}: all was done that was advised, and still {errno.errorcode[number]}")
        seen.append("turned")
        for place, state in states.items():
            if state_of(place) != state:
                set_state(place, state)
    return wrong


def all_wrong(seeds: range, seen: list[str], kind: str = "tmpfs") -> list[str]:
    with fresh(kind) as top, tempfile.TemporaryDirectory(prefix="fiat-test-") as accounts, protections():
        write_accounts(accounts)
        with crowd() as everyone:
            found = []
            for seed in seeds:
                with Estate(top, seed) as estate:
                    found += carried_out(estate, accounts, everyone, seen)
            return found


def test_what_is_advised_does_just_what_it_says() -> None:
    seen: list[str] = []
    wrong = all_wrong(range(SEED, SEED + SEEDS), seen)
    assert not wrong, f"{len(wrong)} wrong: " + "\n".join(wrong[:10])
    assert seen.count("turned") > 3 * SEEDS
    for effect in (" alone", "for everyone", "for the owner", "a member of group", "raising the mask"):
        assert any(effect in one for one in seen), (effect, set(seen))


# --- the judge can fail ------------------------------------------------------------


def nobody_loses(*questions: object) -> Effects:
    return Effects(Universe(()))


def only_what_is_asked(posture: Posture, who: Principal) -> int:
    return 0


def nothing_cut(posture: Posture, tag: Tag, number: int | None, new: int, *kept: object) -> ListWish:
    return ListWish((EntryWish(Entry(tag, new, number)),))


def no_help(posture: Posture, who: Principal, want: int) -> ListWish:
    return nothing_cut(posture, Tag.NAMED_USER, who.uid, 0)


def untested(
    host: object, actor: object, who: object, found: object, want: object, one: Advice, wish: object
) -> Advice:
    return one


FAULTS: dict[str, list[tuple[object, str, object]]] = {
    "an entry that takes away": [(entrywishes, "had", only_what_is_asked), (advice, "effects_at", nobody_loses)],
    "a mask raised over the others": [(entrywishes, "raised", nothing_cut), (advice, "effects_at", nobody_loses)],
    "what does not help": [(advice, "entry_for", no_help), (advice, "_evaluated", untested)],
}


@pytest.mark.parametrize("fault", FAULTS)
def test_the_judge_of_advice_catches(fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    for place, name, wrong in FAULTS[fault]:
        monkeypatch.setattr(place, name, wrong)
    for seed in range(1, 30):
        if all_wrong(range(seed, seed + 1), []):
            return
    pytest.fail("nothing wrong in 29 estates")

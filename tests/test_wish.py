"""What wishes mean, which steps they take, and which guards object: held against the rules of access."""

import json
import os
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from fiat.core.ask.effects import KeptShift
from fiat.core.change import guards
from fiat.core.change.guards import acting, bits
from fiat.core.change.guards.acting import Suspect
from fiat.core.change.history import Intended, ObjectFate, RunBeginning, RunState, SettledObjects
from fiat.core.change.history import RunEntry as Touched
from fiat.core.change.steps import Change, Steps, change, steps_towards, wanted
from fiat.core.model import accesslist
from fiat.core.model.accesslist import Entry, Tag, from_mode
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.host import Settings
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Format, Identity, Kind, Posture, Program
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, unlisted_user
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.decision import Decision
from fiat.core.rules.effective import effective
from fiat.core.tree.profile import Profile
from fiat.host.history.sqlite import SqliteHistory
from fiat.host.image.host import ImageHost
from support.generators import GIDS, UIDS, octal_modes, permissions, whole_postures, wishes
from support.places import trusted_folder

ROOT_USER = unlisted_user(0, (0,))
NOBODY = Accounts((), (), "none")
HOST = ImageHost("test", [], NOBODY, Settings())


def carried_out(before: Posture, wish: Wish, actor: Principal = ROOT_USER) -> Change:
    goal = wanted(before, wish, actor, 0o022)
    return change(before, steps_towards(before, goal, actor), actor, None, True)


@pytest.mark.slow
@given(whole_postures(), wishes)
@settings(max_examples=400)
def test_root_gets_what_is_wanted_and_nothing_else_is_asked_for(before: Posture, wish: Wish) -> None:
    goal = wanted(before, wish, ROOT_USER, 0o022)
    found = carried_out(before, wish)
    assert found.errno == 0
    assert found.after == goal
    if goal == before:
        assert found.steps == Steps()
    if found.after.acl is not None:
        assert found.after.acl.mode() == found.after.mode & 0o777
    assert found.after.uid == (wish.uid if wish.uid is not None else wish.like.uid if wish.like else before.uid)


@given(whole_postures(), wishes)
def test_the_way_back_leads_back_from_every_state_on_the_way(before: Posture, wish: Wish) -> None:
    found = carried_out(before, wish)
    for state in (found.after, *found.between):
        back = change(state, steps_towards(state, before, ROOT_USER), ROOT_USER, None, True)
        assert (back.errno, back.after) == (0, before)


@given(whole_postures(), wishes, st.sampled_from(UIDS), st.frozensets(st.sampled_from(GIDS)))
def test_what_an_ordinary_user_may_do_is_theirs(before: Posture, wish: Wish, uid: int, gids: frozenset[int]) -> None:
    actor = unlisted_user(uid, gids)
    found = carried_out(before, wish, actor)
    if found.errno:
        assert found.after == before
    elif found.changes:
        assert before.uid == uid == found.after.uid
        assert found.after.gid in {before.gid, *gids}
        if found.after.mode & 0o2000 and not before.mode & 0o2000:
            assert found.after.gid in gids


@given(whole_postures(), octal_modes)
def test_an_octal_mode_done_twice_is_done_once(before: Posture, word: str) -> None:
    wish = Wish(parse_change(word))
    once = carried_out(before, wish).after
    assert not carried_out(once, wish).changes
    assert once.mode & 0o777 == int(word, 8) & 0o777


@example(
    Posture(
        Kind.FILE,
        0,
        0,
        GIDS[0],
        accesslist.check(
            [
                Entry(Tag.OWNER, 0),
                Entry(Tag.OWNING_GROUP, 0),
                Entry(Tag.NAMED_GROUP, 1, GIDS[0]),  # the kernel minds no repeated entries
                Entry(Tag.NAMED_GROUP, 0, GIDS[0]),
                Entry(Tag.MASK, 0),
                Entry(Tag.OTHER, 0),
            ]
        ),
    ),
    UIDS[0],
    1,
)
@given(whole_postures(), st.sampled_from(UIDS), permissions)
def test_an_entry_gives_what_it_says_and_to_nobody_else(before: Posture, uid: int, given_: int) -> None:
    """Unless the guard objects: then it is the mask that hands out more."""
    wish = Wish(access=ListWish((EntryWish(Entry(Tag.NAMED_USER, given_, uid)),)))
    found = carried_out(before, wish)
    acl = found.after.acl
    assert acl is not None
    own = next(entry for entry in acl.entries if (entry.tag, entry.id) == (Tag.NAMED_USER, uid))
    assert effective(own, acl.mask) == own.permissions == given_
    asked = frozenset([(Tag.NAMED_USER, uid)])
    unmasked = [name for name, _, _ in bits.objections(found, NOBODY, asked) if name == "unmasks"]
    old = before.acl or from_mode(before.mode)
    more = [
        entry
        for entry in old.entries
        if (entry.tag, entry.id) != (Tag.NAMED_USER, uid)
        and entry.tag is not Tag.MASK
        and effective(entry, acl.mask) & ~effective(entry, old.mask)
    ]
    assert bool(unmasked) == bool(more)


@given(whole_postures())
def test_without_a_list_those_it_did_not_name_keep_what_they_had(before: Posture) -> None:
    after = carried_out(before, Wish(access=ListWish(drop=True))).after
    assert after.acl is None
    if before.acl is not None and before.mode & 0o070:  # else Linux passes over the list, and others had theirs
        universe = Universe([unlisted_user(uid, gids) for uid in UIDS for gids in ((), *((gid,) for gid in GIDS))])
        named_users, named_groups = before.acl.named()
        for place, who in enumerate(universe.principals):
            if who.uid in named_users or who.gids & named_groups:
                continue  # they fall to another class, which may give more: that is shown as a gain
            for want in (4, 2, 1):
                had = Decision(before, universe).allowed(want) >> place & 1
                assert had == Decision(after, universe).allowed(want) >> place & 1


# --- guards, said in terms of the rules of access -------------------------------------


def has(posture: Posture, who: Principal, want: int) -> bool:
    return bool(Decision(posture, Universe([who])).allowed(want))


@pytest.mark.slow
@given(whole_postures(), wishes)
@settings(max_examples=400)
def test_guards_object_where_access_says_so(before: Posture, wish: Wish) -> None:
    found = carried_out(before, wish)
    after = found.after
    if not found.changes:
        return
    profile = Profile(before, program=Program(Format.BINARY))
    said = guards.objections(HOST, [Suspect(profile, found, "/f", 1)], [], [], [], frozenset())
    names = [finding.code for finding in said]
    assert set(names) <= guards.GUARDS.keys()
    write = 3 if after.directory else 2
    opened = has(after, ANYONE_ELSE, write) and not has(before, ANYONE_ELSE, write)
    by_default = after.default is not None and after.default.mode() & 2
    assert opened <= ("everyone-writes" in names) <= (opened or bool(by_default))
    owner = unlisted_user(after.uid)
    locked = after.directory and after.uid and has(before, owner, 1) and not has(after, owner, 1)
    assert ("lockout" in names) == bool(locked)
    if before.uid == 0 and after.uid != 0:
        assert "from-root" in names
    lost = before.capabilities is not None and after.capabilities is None
    moved = (before.uid, before.gid) != (after.uid, after.gid)
    assert ("clears-special" in names) == (moved and (lost or bool(before.mode & ~after.mode & 0o6000)))
    if after.kind is Kind.FILE and after.mode & 0o4000 and after.mode & 0o111 and not before.mode & 0o4000:
        assert "privilege" in names
    if "privilege" in names:
        assert after.kind is Kind.FILE
        assert after.mode & 0o6000 or after.capabilities


def test_places_that_the_system_needs() -> None:
    kept = [
        "/",
        "/etc",
        "/usr",
        "/usr/bin/env",
        "/boot/vmlinuz",
        "/etc/passwd",
        "/lib",
        "/dev/null",
        "/var/log",
        "/tmp",
    ]
    free = ["/srv/skerry", "/home/keeper", "/etc/motd", "/usr/local/share/x", "/var/lib/skerry", "/libexec", "/opt/x"]
    for path in (*kept, *free):
        assert bool(list(acting.on_system_paths(path, with_tree=False))) == (path in kept), path


# --- the history keeps what it is given ----------------------------------------------------


paths = st.binary(min_size=1).filter(lambda name: 0 not in name).map(lambda name: os.fsdecode(b"/" + name))
touched = st.builds(
    Touched,
    paths,
    st.builds(Identity, st.text(max_size=9), st.integers(0, 2**64 - 1), st.integers(0, 2**62)),
    whole_postures(),
    whole_postures(),
    st.lists(whole_postures(), max_size=2).map(tuple),
    st.just(ObjectFate.PLANNED),
    st.none(),
)


def intended(*every: Touched) -> Intended:
    changes = [Change(one.before, one.after, between=one.between) for one in every]
    digests = {place: one.digest for place, one in enumerate(every) if one.digest}
    return Intended([one.path for one in every], [one.identity for one in every], changes, range(len(every)), digests)


@pytest.mark.slow
@given(st.lists(touched, max_size=6), st.lists(st.text(max_size=5), max_size=3))
@settings(max_examples=40, deadline=None)
def test_the_history_keeps_what_it_is_given(kept: list[Touched], words: list[str]) -> None:
    with trusted_folder() as folder:
        history = SqliteHistory(f"{folder}/history.db")
        beginning = RunBeginning(0, "keeper", ("fiat", *words), None, (KeptShift("anyone-else", "read", 2, 2),))
        number = history.begin(beginning, intended(*kept))
        assert history.run(number).state is RunState.RUNNING  # this very process
        assert history.entries(number) == kept
        fates = [SettledObjects(0, 0, ObjectFate.ASTRAY, kept[0].before)] if kept else []
        history.finish(number, fates, changed=len(kept) - len(fates), complete=not fates)
        found = history.run(number)
        assert found.state is (RunState.PARTIAL if fates else RunState.DONE)
        assert (found.command, found.gains, found.paths) == (("fiat", *words), beginning.gains, len(kept))
        assert [one.fate for one in history.entries(number)][:1] == [ObjectFate.ASTRAY] * len(fates)
        undo = history.begin(beginning._replace(undoes=number), intended())
        history.finish(undo, [], changed=0, complete=True)
        assert (history.run(number).state, history.run(number).undone_by) == (RunState.UNDONE, undo)
        redo = history.begin(beginning._replace(undoes=undo), intended())
        history.finish(redo, [], changed=0, complete=True)
        assert history.run(number).undone_by is None
        assert [run.number for run in history.runs()] == [redo, undo, number]


def test_a_history_that_was_cut_short_is_told(folder: str) -> None:
    place = Path(folder) / "history.db"
    history = SqliteHistory(str(place))
    number = history.begin(RunBeginning(0, None, ("fiat", "set")), intended())
    assert json.loads(json.dumps(history.run(number).command)) == ["fiat", "set"]
    powers = FileCapabilities(3, 1, 2, True, 1000)
    posture = Posture(Kind.FILE, 0o755, 1, 2, capabilities=powers)
    change = Change(posture, posture)
    history.begin(RunBeginning(0, None, ()), Intended(["/f"], [Identity("fs", 2, 3)], [change], [0]))
    (kept,) = history.entries(2)
    assert kept.before.capabilities == powers

"""The core on its own: the decision for sets against one for single principals, trees, plans, suppositions."""

import errno
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fiat.core.ask.effects import effects_at
from fiat.core.ask.who import Answer, universe_of
from fiat.core.change import guards
from fiat.core.change.apply import apply
from fiat.core.change.guards import bits as bit_guards
from fiat.core.change.guards.acting import Suspect
from fiat.core.change.making import make_plan
from fiat.core.change.plan import Plan
from fiat.core.change.planned import Items
from fiat.core.change.rewriting import TriedObjects
from fiat.core.change.steps import Change
from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts, SupposedAccounts, User
from fiat.core.model.host import Settings
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Format, Identity, Kind, Mount, Object, Posture, Program, Status
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, places
from fiat.core.model.record import ObjectRecord
from fiat.core.model.right import ALL, BASIC, CHANGE_MODE, CREATE, DELETE, EXECUTE, RENAME, Right
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access, expect_checks_for
from fiat.core.rules.decision import Decision
from fiat.core.tree.answers import TreeAccess, for_tree
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.profile import Profile
from fiat.core.tree.summary import Groups
from fiat.core.tree.walk import route_for, walk
from fiat.host.image.host import ImageHost
from fiat.host.live.facts import Facts
from support.generators import GIDS, USERS, hosts, postures, principals
from support.surveys import surveyed, target


def kernel_says(posture: Posture, who: Principal, want: int) -> bool:
    """``generic_permission`` and what it calls, transcribed for one principal, loop by loop."""
    return dac(posture, who, want) or overridden(posture, who, want)


def dac(posture: Posture, who: Principal, want: int) -> bool:
    mode = posture.mode
    if who.uid == posture.uid:
        return (mode >> 6) & want == want
    if posture.acl is not None and mode & 0o070:
        return listed(posture, posture.acl, who, want)
    if want & (mode ^ (mode >> 3)) and posture.gid in who.gids:
        mode >>= 3
    return mode & want == want


def listed(posture: Posture, acl: AccessList, who: Principal, want: int) -> bool:
    mask = 7 if acl.mask is None else acl.mask
    found = False
    for entry in acl.entries:
        if entry.tag is Tag.NAMED_USER and entry.id == who.uid:
            return entry.permissions & mask & want == want
        if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
            if (posture.gid if entry.id is None else entry.id) in who.gids:
                found = True
                if entry.permissions & want == want:
                    return entry.permissions & mask & want == want
        elif entry.tag is Tag.OTHER:
            return not found and entry.permissions & want == want
    raise AssertionError("a list without an entry for other")


def overridden(posture: Posture, who: Principal, want: int) -> bool:
    if who.limits is not None and not who.limits.count_for(posture.uid, posture.gid):
        return False
    if posture.directory:
        if not want & 2 and who.holds(capabilities.DAC_READ_SEARCH):
            return True
        return who.holds(capabilities.DAC_OVERRIDE)
    if want == 4 and who.holds(capabilities.DAC_READ_SEARCH):
        return True
    return (not want & 1 or bool(posture.mode & 0o111)) and who.holds(capabilities.DAC_OVERRIDE)


@pytest.mark.slow
@given(postures(), st.lists(principals, min_size=1, max_size=12))
@settings(max_examples=600)
def test_one_decision_for_all_is_each_ones_own(posture: Posture, people: list[Principal]) -> None:
    universe = Universe([*people, ANYONE_ELSE])
    decision = Decision(posture, universe)
    taken = group_class = 0
    for entry, _, found in decision.shares:
        if entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):  # these may overlap with one another
            group_class |= found
        else:
            assert found & taken == 0
            taken |= found
    assert group_class & taken == 0
    assert taken | group_class == universe.everyone
    for want in range(1, 8):
        allowed = decision.allowed(want)
        for place, who in enumerate(universe.principals):
            expected = kernel_says(posture, who, want)
            assert bool(allowed >> place & 1) == expected
            reason = decision.reason(place, want)
            assert reason.allowed == expected
            assert (reason.rule == "superuser") == (expected and not dac(posture, who, want))


def answers(host: ImageHost) -> dict[str, Answer]:
    return {path: Answer(host, walk(host, path), BASIC) for path in host.objects}


@pytest.mark.slow
@given(hosts(), st.sampled_from([BASIC, (DELETE, RENAME, CREATE), (EXECUTE, CHANGE_MODE), ALL]))
def test_a_tree_answers_as_its_paths_do(host: ImageHost, rights: tuple[Right, ...]) -> None:
    route, survey = surveyed(host, "/")
    universe = universe_of(host.accounts, (found.posture for found in host.objects.values()))
    access = TreeAccess(host, Access(universe, host.settings), rights)
    found = access.answers(survey, route)
    of_few = for_tree(host, universe, rights, route, survey).answers(survey, route)
    assert [of_few.keys[one] for one in of_few.number] == [found.keys[one] for one in found.number]
    assert [path for _, path in survey.paths_of(range(len(survey)))] == [survey.path(n) for n in range(len(survey))]
    assert sorted(survey.paths()) == sorted(host.objects)
    for place, path in enumerate(survey.paths()):
        kind = host.objects[path].posture.kind
        for right, bits in zip(rights, found.keys[found.number[place]], strict=True):
            if bits is None:
                assert not right.applies(kind)
            else:
                assert bits == access.access.allowed(route_for(host, path, right), right)
    groups = Groups(survey, found)
    assert len(host.objects) == sum(group.directories + group.others for group in groups)


@pytest.mark.slow
@given(
    hosts(),
    st.data(),
    st.sampled_from(["o+x", "g-x", "700", "a+rwx", "go=", "u-x", "ug+w", "1777", "-t", "0", "a+x"]),
    st.sampled_from([None, 1, 3]),
    st.booleans(),
)
def test_gains_and_losses_are_the_difference_of_who(
    host: ImageHost, data: st.DataObject, word: str, uid: int | None, with_tree: bool
) -> None:
    real = [path for path, found in host.objects.items() if found.posture.kind is not Kind.SYMLINK]
    chosen = data.draw(st.lists(st.sampled_from(real), min_size=1, max_size=3, unique=True))
    targets = [target(host, path, with_tree=with_tree) for path in chosen]
    expect_shifts(host, make_plan(host, targets, Wish(parse_change(word), uid=uid)))


@pytest.mark.parametrize("level", [1, 2])
@pytest.mark.parametrize(("owner", "other"), [(0, 7101), (7101, 0), (7101, 7102)])
def test_whose_a_file_is_decides_who_may_open_it_as_if_to_make_it(level: int, owner: int, other: int) -> None:
    """fs.protected_regular: in a sticky directory only what is its owner's is open to all others who may write."""
    people = [
        User(name, uid, 7200, "", "") for name, uid in (("root", 0), ("one", 7101), ("two", 7102), ("three", 7103))
    ]
    objects = [
        Object("/", Posture(Kind.DIRECTORY, 0o1777, 0, 0), Status(Identity("t", 1))),
        Object("/file", Posture(Kind.FILE, 0o666, owner, 0), Status(Identity("t", 2))),
    ]
    host = ImageHost("h", objects, Accounts(people, (), "four users"), Settings(protected_regular=level))
    planned = make_plan(host, [target(host, "/file", with_tree=False)], Wish(uid=other))
    creates = [found for found in (*planned.gains, *planned.losses) if found.right is CREATE]
    assert len(creates) > (0 not in (owner, other))
    expect_shifts(host, planned)


def expect_shifts(host: ImageHost, planned: Plan) -> None:
    """What the plan tells is what comes of it, by who may do what before and after."""
    universe = universe_of(host.accounts, (found.posture for found in host.objects.values()))
    before = rights_of_all(host, universe)
    supposed = HostAsIf(host, Supposition(planned.postures_after()))
    foreseen = rights_of_all(supposed, universe, host)
    for item in planned.to_write():
        assert list(apply(host, Items.of([item]), lambda: False)) == [TriedObjects(0, 1)]
        assert host.objects[item.path].posture == item.change.after
    after = rights_of_all(host, universe)
    assert foreseen == after
    expected: tuple[dict[tuple[Principal, Right], int], ...] = ({}, {})
    for key in before:
        for counts, bits in zip(expected, (after[key] & ~before[key], before[key] & ~after[key]), strict=True):
            for place in places(bits):
                who = universe.principals[place]
                counts[who, key[1]] = counts.get((who, key[1]), 0) + 1
    for shifts, counts in zip((planned.gains, planned.losses), expected, strict=True):
        assert {(found.principal, found.right): found.paths for found in shifts} == counts


def rights_of_all(
    host: ImageHost | HostAsIf, universe: Universe, image: ImageHost | None = None
) -> dict[tuple[str, Right], int]:
    """Who has which right on each object; on links only those on their names."""
    access = Access(universe, host.settings)
    objects = (image or host).objects  # type: ignore[union-attr]
    return {
        (path, right): access.allowed(route_for(host, path, right), right)
        for path, found in objects.items()
        for right in ALL
        if right.applies(found.posture.kind)
    }


@pytest.mark.slow
@given(hosts(), st.sampled_from(USERS[1:]), st.sampled_from(GIDS))
def test_a_supposed_membership_is_a_membership(host: ImageHost, who: User, gid: int) -> None:
    supposed = HostAsIf(host, Supposition(accounts=SupposedAccounts(host.accounts, joins=[(who.name, gid)])))
    groups = [
        group._replace(members=(*group.members, who.name)) if group.gid == gid else group
        for group in host.accounts.groups
    ]
    real = ImageHost("real", host.objects.values(), Accounts(host.accounts.users, groups, "the test"), host.settings)
    for path in host.objects:
        route = walk(host, path)
        if route.end is None:
            continue
        assert Answer(supposed, route, BASIC).allowed == Answer(real, route, BASIC).allowed
        found = effects_at(supposed, real, path)
        assert (found.gains, found.losses) == ((), ())


@pytest.mark.slow
@given(hosts(), st.data())
def test_names_and_mounts_can_be_supposed(host: ImageHost, data: st.DataObject) -> None:
    files = [path for path in host.objects if path != "/" and host.objects[path].posture.kind is Kind.FILE]
    if not files:
        return
    gone = data.draw(st.sampled_from(files))
    new = f"{gone}.new"
    made = host.objects[gone]._replace(path=new)
    supposed = HostAsIf(host, Supposition(names={gone: None, new: made}))
    assert walk(supposed, gone).errno == errno.ENOENT
    assert walk(supposed, new).end == made
    _, survey = surveyed(supposed, "/")
    assert set(survey.paths()) == {*host.objects, new} - {gone}
    mount = Mount("/", "ext4", ("ro",))
    objects = [found._replace(mount=Mount("/", "ext4")) for found in host.objects.values()]
    mounted = ImageHost("mounted", objects, host.accounts, host.settings)
    read_only = HostAsIf(mounted, Supposition(mounts={"/": mount}))
    assert walk(read_only, new.removesuffix(".new")).objects[-1].mount == mount
    _, survey = surveyed(read_only, "/")
    assert {profile.mount for profile in survey.profiles} == {mount}


@pytest.mark.slow
@given(hosts())
def test_objects_survive_as_fields(host: ImageHost) -> None:
    form = ObjectRecord(host.accounts)
    for found in host.objects.values():
        found = found._replace(mount=None)  # which is told, and not read
        unknown = found._replace(unknown=(("flags", 13), ("access list", 5)), program=Program(Format.BINARY, "/lib/ld"))
        for one in (found, unknown, found._replace(posture=found.posture._replace(flags=None))):
            assert form.read(json.loads(json.dumps(form.write(one)))) == one


def test_what_lacks_a_part_is_refused_and_not_granted(monkeypatch: pytest.MonkeyPatch) -> None:
    """A right without a check, a flag without a meaning, a guard without words: an error, and never a yes."""
    with pytest.raises(ValueError, match="nothing decides"):
        Right("open", "made up", Kind, by_object=False)
    posture = Posture(Kind.DIRECTORY, 0o700, 0, 0)
    host = ImageHost(
        "made up",
        [Object("/", posture, Status(Identity("", 2, 0), 2, 0, 0, 0, 0))],
        Accounts((), (), "nobody"),
        Settings(),
    )
    access = Access(Universe([ANYONE_ELSE]), host.settings)
    for made_up in (Right("open", "made up", Kind), Right("seal", "made up", Kind, by_object=False, by_name=True)):
        with pytest.raises(KeyError):
            access.allowed(walk(host, "/"), made_up)
        with pytest.raises(KeyError):
            expect_checks_for(made_up)
        with pytest.raises(KeyError):
            made_up.permissions_on(Kind.FILE)
    held = host.objects["/"]._replace(posture=posture._replace(flags=("sealed",)))
    with pytest.raises(KeyError):
        list(access.name_checks(held, held, DELETE))
    with pytest.raises(KeyError):
        Facts(*(0o150000 for _ in Facts._fields)).kind  # noqa: B018
    suspect = Suspect(Profile(posture), Change(posture, posture), "/", 1)
    monkeypatch.setattr(bit_guards, "objections", lambda *_: iter([("made-up", "made up", "")]))
    with pytest.raises(ValueError, match="made-up"):
        guards.objections(host, [suspect], [], [], [], frozenset())

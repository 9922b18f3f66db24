"""The core on its own: the decision for sets against one for single principals, trees, plans, suppositions."""

from hypothesis import given, settings
from hypothesis import strategies as st

from fiat.core.ask import effects as shift
from fiat.core.ask.who import Answer, universe_of
from fiat.core.change import plan
from fiat.core.change.apply import carry_out
from fiat.core.change.wish import Wish
from fiat.core.model import capabilities
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.accounts import Accounts, Group, Supposed, User
from fiat.core.model.host import Settings
from fiat.core.model.mode import parse_change
from fiat.core.model.posture import Kind, Object, Posture, Status
from fiat.core.model.principals import ANYONE_ELSE, Principal, Universe, places
from fiat.core.model.record import object_fields, read_object
from fiat.core.rules.access import RIGHTS, Access, applies, route_for
from fiat.core.rules.decision import Decision
from fiat.core.tree import summary
from fiat.core.tree.answers import TreeAccess
from fiat.core.tree.route import Route, open_end, walk
from fiat.core.tree.survey import Survey, alone
from fiat.host.image.host import ImageHost
from test_notations import lists

UIDS, GIDS = range(1, 6), range(11, 16)
USERS = [User("root", 0, 0), *(User(f"u{uid}", uid, 11 + uid % 5) for uid in UIDS)]

permissions = st.integers(0, 7)
principals = st.builds(
    Principal,
    st.just("user"),
    st.none(),
    st.sampled_from([0, *UIDS]),
    st.frozensets(st.sampled_from(GIDS)),
    st.sampled_from([0, 0, 0, capabilities.DAC_OVERRIDE, capabilities.DAC_READ_SEARCH]),
)


@st.composite
def postures(draw: st.DrawFn, kinds: tuple[Kind, ...] = (Kind.FILE, Kind.DIRECTORY)) -> Posture:
    mode = draw(st.integers(0, 0o7777))
    acl = draw(st.none() | lists(st.sampled_from(UIDS), st.sampled_from(GIDS)))
    if acl is not None:
        mode = mode & 0o7000 | acl.mode()
    return Posture(
        draw(st.sampled_from(kinds)), mode, draw(st.sampled_from([0, *UIDS])), draw(st.sampled_from(GIDS)), acl
    )


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
    if posture.directory:
        if not want & 2 and who.holds(capabilities.DAC_READ_SEARCH):
            return True
        return who.holds(capabilities.DAC_OVERRIDE)
    if want == 4 and who.holds(capabilities.DAC_READ_SEARCH):
        return True
    return (not want & 1 or bool(posture.mode & 0o111)) and who.holds(capabilities.DAC_OVERRIDE)


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


# --- hosts in memory, made at random -------------------------------------------------


@st.composite
def hosts(draw: st.DrawFn) -> ImageHost:
    """A small tree with random postures, symlinks among them."""
    paths = ["/"]
    objects = []
    for number in range(draw(st.integers(4, 12))):
        parent = draw(st.sampled_from(paths)).rstrip("/")
        kind = draw(st.sampled_from((Kind.DIRECTORY, Kind.DIRECTORY, Kind.FILE, Kind.FILE, Kind.SYMLINK)))
        path = f"{parent}/n{number}"
        posture = draw(postures((kind,)))
        target = draw(st.sampled_from(paths)) if kind is Kind.SYMLINK else None
        if kind is Kind.SYMLINK:
            posture = posture._replace(acl=None, mode=0o777)
        objects.append(Object(path, posture, Status(1, 0, None, (1, number)), target=target))
        if kind is Kind.DIRECTORY:
            paths.append(path)
    root = Object("/", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(1, 0, None, (1, 99)))
    members = {gid: draw(st.lists(st.sampled_from([user.name for user in USERS[1:]]), max_size=3)) for gid in GIDS}
    accounts = Accounts(USERS, [Group(f"g{gid}", gid, tuple(members[gid])) for gid in GIDS], "the test")
    return ImageHost("test", [root, *objects], accounts, Settings())


def answers(host: ImageHost) -> dict[str, Answer]:
    return {path: Answer(host, host.accounts, walk(host, path), RIGHTS) for path in host.objects}


def surveyed(host: ImageHost, path: str) -> tuple[Route, Survey]:
    route, node = open_end(host, path)
    assert node is not None
    return route, node.survey()


@given(hosts(), st.sampled_from([RIGHTS, ("delete", "rename", "create"), ("execute", "change-mode")]))
def test_a_tree_answers_as_its_paths_do(host: ImageHost, rights: tuple[str, ...]) -> None:
    route, survey = surveyed(host, "/")
    universe = universe_of(host.accounts, host.objects.values())
    access = TreeAccess(host, Access(universe, host.settings), rights)
    answers = access.answers(survey, route, access.reach(route))
    assert [path for _, path in survey.paths_of(range(len(survey)))] == [survey.path(n) for n in range(len(survey))]
    assert sorted(survey.paths()) == sorted(host.objects)
    for place, path in enumerate(survey.paths()):
        kind = host.objects[path].posture.kind
        for right, bits in zip(rights, answers.keys[answers.number[place]], strict=True):
            if bits is None:
                assert not applies(right, kind)
            else:
                assert bits == access.access.allowed(route_for(host, path, right), right)
    groups = summary.groups(survey, answers)
    assert len(host.objects) == sum(group.directories + group.others for group in groups)


@given(
    hosts(),
    st.data(),
    st.sampled_from(["o+x", "g-x", "700", "a+rwx", "go=", "u-x", "ug+w"]),
    st.sampled_from([None, 1, 3]),
    st.booleans(),
)
def test_gains_and_losses_are_the_difference_of_who(
    host: ImageHost, data: st.DataObject, word: str, uid: int | None, with_tree: bool
) -> None:
    real = [path for path, found in host.objects.items() if found.posture.kind is not Kind.SYMLINK]
    chosen = data.draw(st.lists(st.sampled_from(real), min_size=1, max_size=3, unique=True))
    targets = []
    for path in chosen:
        route, survey = surveyed(host, path)
        survey = survey if with_tree else alone(survey.top)
        targets.append(plan.Target(path, route, survey, survey.sort >= 0, with_tree))
    planned = plan.make(host, targets, Wish(parse_change(word), uid=uid))
    universe = universe_of(host.accounts, host.objects.values())
    before = reach_of_all(host, universe)
    for item in planned.to_write():
        for outcome in carry_out(host, [item], lambda: False):
            assert outcome.error is None
        assert host.objects[item.path].posture == item.change.after
    after = reach_of_all(host, universe)
    expected: tuple[dict[tuple[Principal, str], int], ...] = ({}, {})
    for key in before:
        for counts, bits in zip(expected, (after[key] & ~before[key], before[key] & ~after[key]), strict=True):
            for place in places(bits):
                who = universe.principals[place]
                counts[who, key[1]] = counts.get((who, key[1]), 0) + 1
    for shifts, counts in zip((planned.gains, planned.losses), expected, strict=True):
        assert {(found.principal, found.right): found.paths for found in shifts} == counts


def reach_of_all(host: ImageHost, universe: Universe) -> dict[tuple[str, str], int]:
    """Who has which right on each object, links left out: they are other names of what they lead to."""
    access = Access(universe, host.settings)
    return {
        (path, right): access.allowed(walk(host, path), right)
        for path, found in host.objects.items()
        for right in RIGHTS
        if found.posture.kind is not Kind.SYMLINK
        and not (right == "execute" and found.posture.directory)
        and not (right == "traverse" and not found.posture.directory)
    }


@given(hosts(), st.sampled_from(USERS[1:]), st.sampled_from(GIDS))
def test_a_supposed_membership_is_a_membership(host: ImageHost, who: User, gid: int) -> None:
    supposed = Supposed(host.accounts, joins=[(who.name, gid)])
    groups = [
        group._replace(members=(*group.members, who.name)) if group.gid == gid else group
        for group in host.accounts.groups
    ]
    real = Accounts(host.accounts.users, groups, "the test")
    for path in host.objects:
        route = walk(host, path)
        if route.end is None:
            continue
        one, other = (Answer(host, accounts, route, RIGHTS) for accounts in (supposed, real))
        assert one.allowed == other.allowed
        assert shift.between(one, other) == ([], [])


@given(hosts())
def test_objects_survive_as_fields(host: ImageHost) -> None:
    for found in host.objects.values():
        fields = object_fields(found, host.accounts)
        assert read_object(fields, None, (0, 0)) == found

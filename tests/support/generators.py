"""Generators of random values for property-based tests: lists, postures, people, wishes, hosts in memory."""

from hypothesis import strategies as st

from fiat.core.model import accesslist, capabilities
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.host import Settings
from fiat.core.model.idmap import UNMAPPED, IdMap, NumberMap
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Identity, Kind, Mount, Object, Posture, Status
from fiat.core.model.principals import Principal
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.host.image.host import ImageHost
from support.files import POWERS

UIDS, GIDS = range(1, 6), range(11, 16)
USERS = [User("root", 0, 0), *(User(f"u{uid}", uid, 11 + uid % 5) for uid in UIDS), User("again", 1, 14)]

numbers = st.integers(0, accesslist.NO_ID - 1)
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
def lists(
    draw: st.DrawFn,
    uids: st.SearchStrategy[int] = numbers,
    gids: st.SearchStrategy[int] = numbers,
) -> AccessList:
    """Any list that the kernel would take, naming users and groups with the numbers given."""
    named = [Entry(Tag.NAMED_USER, draw(permissions), uid) for uid in draw(st.lists(uids, max_size=5))]
    groups = [Entry(Tag.NAMED_GROUP, draw(permissions), gid) for gid in draw(st.lists(gids, max_size=5))]
    masked = bool(named or groups) or draw(st.booleans())
    mask = [Entry(Tag.MASK, draw(permissions))] if masked else []
    owner, group, other = (Entry(tag, draw(permissions)) for tag in (Tag.OWNER, Tag.OWNING_GROUP, Tag.OTHER))
    return accesslist.check([owner, *named, group, *groups, *mask, other])


@st.composite
def postures(draw: st.DrawFn, kinds: tuple[Kind, ...] = (Kind.FILE, Kind.DIRECTORY)) -> Posture:
    mode = draw(st.integers(0, 0o7777))
    acl = draw(st.none() | lists(st.sampled_from(UIDS), st.sampled_from(GIDS)))
    if acl is not None:
        mode = mode & 0o7000 | acl.mode()
    return Posture(
        draw(st.sampled_from(kinds)), mode, draw(st.sampled_from([0, *UIDS])), draw(st.sampled_from(GIDS)), acl
    )


@st.composite
def whole_postures(draw: st.DrawFn) -> Posture:
    """Files, directories and pipes with everything that they can have."""
    posture = draw(postures((Kind.FILE, Kind.DIRECTORY, Kind.FIFO)))
    if posture.acl is not None and posture.acl.is_mode_only():
        posture = posture._replace(acl=None)  # the kernel keeps none such
    if posture.directory:
        default = draw(st.none() | lists(st.sampled_from(UIDS), st.sampled_from(GIDS)))
        return posture._replace(default=default)
    powers = draw(st.none() | st.just(capabilities.unpack(POWERS))) if posture.kind is Kind.FILE else None
    return posture._replace(capabilities=powers)


@st.composite
def hosts(draw: st.DrawFn) -> ImageHost:
    """A small tree with random postures, many of them alike, and symlinks."""
    paths = ["/"]
    objects = []
    few = [draw(postures((Kind.DIRECTORY,))) for _ in range(2)] + [draw(postures((Kind.FILE,))) for _ in range(2)]
    for number in range(draw(st.integers(4, 12))):
        parent = draw(st.sampled_from(paths)).rstrip("/")
        kind = draw(st.sampled_from((Kind.DIRECTORY, Kind.DIRECTORY, Kind.FILE, Kind.FILE, Kind.SYMLINK)))
        path = f"{parent}/n{number}"
        posture = draw(postures((kind,)))
        if kind is not Kind.SYMLINK and draw(st.booleans()):
            posture = draw(st.sampled_from([one for one in few if one.kind is kind]))
        target = draw(st.sampled_from(paths)) if kind is Kind.SYMLINK else None
        if kind is Kind.SYMLINK:
            posture = posture._replace(acl=None, mode=0o777)
        objects.append(Object(path, posture, Status(Identity("test", number + 1)), target=target))
        if kind is Kind.DIRECTORY:
            paths.append(path)
    root = Object("/", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(Identity("test", 99)))
    if draw(st.integers(0, 3)) == 0:
        root, *objects = [draw(on_mapped_mount(one)) for one in (root, *objects)]
    members = {gid: draw(st.lists(st.sampled_from([user.name for user in USERS[1:]]), max_size=3)) for gid in GIDS}
    accounts = Accounts(USERS, [Group(f"g{gid}", gid, tuple(members[gid])) for gid in GIDS], "the test")
    return ImageHost("test", [root, *objects], accounts, Settings())


_SOME_MAPPED = Mount("/", "ext4", id_map=IdMap(NumberMap(((5, UIDS[0], 2), (0, 0, 1))), NumberMap(((9, GIDS[0], 2),))))


@st.composite
def on_mapped_mount(draw: st.DrawFn, found: Object) -> Object:
    """The object on an ID-mapped mount, where its owners may have no number."""
    uid, gid = found.posture.uid, found.posture.gid
    posture = found.posture._replace(
        uid=draw(st.sampled_from([uid, uid, UNMAPPED])), gid=draw(st.sampled_from([gid, gid, gid, UNMAPPED]))
    )
    return found._replace(posture=posture, mount=_SOME_MAPPED)


octal_modes = st.from_regex(r"[0-7]{1,4}", fullmatch=True)
clauses = st.from_regex(r"[ugoa]{1,3}[-+=]([rwxst]{1,3}|[ugo])(,[ugoa][-+=][rwx])?", fullmatch=True)
modes = st.builds(parse_change, octal_modes | clauses)
named_entries = st.builds(Entry, st.just(Tag.NAMED_USER), permissions, st.sampled_from(UIDS)) | st.builds(
    Entry, st.just(Tag.NAMED_GROUP), permissions, st.sampled_from(GIDS)
)
list_wishes = st.builds(
    ListWish,
    st.lists(st.builds(EntryWish, named_entries, st.booleans()), max_size=3).map(tuple),
    st.lists(named_entries, max_size=2).map(tuple),
    st.none() | permissions,
    st.booleans(),
)
wishes = st.builds(
    Wish,
    mode=st.none() | modes,
    file_mode=st.none() | modes,
    dir_mode=st.none() | modes,
    uid=st.none() | st.sampled_from([0, *UIDS]),
    gid=st.none() | st.sampled_from(GIDS),
    access=st.just(ListWish()) | list_wishes,
    default=st.just(ListWish()) | list_wishes,
    like=st.none() | postures(),
)

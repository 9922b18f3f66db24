"""What a directory will make of what is made, moved and copied into it, and who could then reach that; and the default
list by which somebody has there what they were given.

Everything is asked of the host as if the new name were there already.
"""

import posixpath
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.ask.who import Answer
from fiat.core.change.steps import wanted
from fiat.core.errors import FiatError
from fiat.core.model import right as rights
from fiat.core.model.accesslist import MASKED, NO_ID, AccessList, Tag, from_mode
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.mode import EXECUTE, PERMISSION_BITS, READ, SETGID, WRITE, octal, permission_letters
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.model.principals import Principal, Universe, places
from fiat.core.model.right import Right
from fiat.core.model.route import Route
from fiat.core.model.umask import DIRECTORIES, FILES
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.rules.effective import effective
from fiat.core.rules.inheritance import Creation, hands_on_group, made
from fiat.core.rules.sideeffects import Actor
from fiat.core.suggest.entrywishes import had, raised, wish_between
from fiat.core.suggest.goal import Goal
from fiat.core.text import joined
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.tree.walk import route_for, walk
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords


def for_new(found: Object, goal: Goal, actor: Actor, umask: int) -> Wish | None:
    """The change of the default list of a directory after which ``goal`` holds of what is made there.

    None where nothing is to change, or nothing can.
    """
    posture, who = found.posture, goal.who
    if not posture.directory or found.keeps_lists is False or not goal.right.permission:
        return None
    start = posture.default or from_mode(PERMISSION_BITS & ~umask)
    made = _made(posture, start)
    part = goal.right.permission
    has = had(made, who) if who.kind != "anyone-else" else start.mode() & 0o7
    new = has | part | EXECUTE if goal.gives else has & ~part
    if new == has:
        return None
    after = _with(made, who, new, actor, umask)
    return None if after is None else wish_between(posture, posture._replace(default=after))


def _made(posture: Posture, default: AccessList) -> Posture:
    """What is made there as far as its default list decides, by whoever it is; in the directory's group if that is
    handed on."""
    gid = posture.gid if posture.mode & SETGID else NO_ID
    acl = None if default.is_mode_only() else default
    return Posture(Kind.DIRECTORY, default.mode(), NO_ID, gid, acl)


def _with(made: Posture, who: Principal, new: int, actor: Actor, umask: int) -> AccessList | None:
    if who.kind == "anyone-else":
        acl = made.acl or from_mode(made.mode)
        return AccessList(tuple(one._replace(permissions=new) if one.tag is Tag.OTHER else one for one in acl.entries))
    tag, number = Tag.NAMED_USER, who.uid
    if who.kind == "group":
        (gid,) = who.gids
        tag, number = (Tag.OWNING_GROUP, None) if gid == made.gid else (Tag.NAMED_GROUP, gid)
    try:
        after = wanted(made, Wish(access=raised(made, tag, number, new)), actor, umask)
    except FiatError:
        return None
    return _counting_for_files(after.acl or from_mode(after.mode))


def _counting_for_files(acl: AccessList) -> AccessList:
    """The list with a mask of which something is left for files, which are asked for without x; else it would be
    passed over there."""
    if acl.mask is None or acl.mask & (READ | WRITE):
        return acl
    cut = (one._replace(permissions=effective(one, acl.mask)) if one.tag in MASKED else one for one in acl.entries)
    mask = acl.mask | READ
    return AccessList(tuple(one._replace(permissions=mask) if one.tag is Tag.MASK else one for one in cut))


_NEW = "new"
"""The name of what is supposed: whatever is there under it does not count."""


class MadeQuestion(NamedTuple):
    """Whose, and how: ``by`` makes it, whose own group is ``gid``, under ``umask``.

    ``asking`` is the mode that is asked for where a file is made, None for the usual; ``source`` is what is moved and
    copied there, if anything.
    """

    by: Principal
    gid: int
    umask: int
    asking: int | None = None
    source: Object | None = None


class Forecast(NamedTuple):
    """What becomes of a new file, a new directory, and of what is moved and copied there.

    ``may_create`` tells whether the maker may add names there at all. ``reach_file`` and
    ``reach_folder`` say who could then do what with the new ones.
    """

    asked: MadeQuestion
    may_create: bool
    file: Posture
    folder: Posture
    moved: Posture | None
    copied: Posture | None
    reach_file: Answer
    reach_folder: Answer
    surprises: list[Finding]


def forecast(host: Host, route: Route, asked: MadeQuestion) -> Forecast:
    """What the directory at the end of ``route`` makes of things."""
    end = route.end
    assert end is not None
    lists = end.keeps_lists is not False

    def of(kind: Kind, wanted: int) -> Posture:
        making = Creation(asked.by, asked.gid, wanted, asked.umask)
        return made(end.posture, end.mount, kind, making, keeps_lists=lists)

    file = of(Kind.FILE, FILES if asked.asking is None else asked.asking)
    folder = of(Kind.DIRECTORY, DIRECTORIES)
    copied = moved = None
    source = asked.source
    if source is not None:
        if source.posture.kind in (Kind.FILE, Kind.DIRECTORY):
            copied = of(source.posture.kind, source.posture.mode)
        moved = source.posture if _on_one_mount(source, end) else copied
    there = Access(Universe([asked.by]), host.settings).verdict(
        route_for(host, end.path, rights.CREATE), rights.CREATE, 0
    )
    reach_file, reach_folder = (_reach(host, end, posture, asked.by) for posture in (file, folder))
    above = Answer(host, route, (rights.READ, rights.WRITE, rights.TRAVERSE))
    surprises = list(_surprises(host, end, asked, file, above, reach_file, reach_folder))
    return Forecast(asked, there.allowed, file, folder, moved, copied, reach_file, reach_folder, surprises)


def _on_one_mount(source: Object, end: Object) -> bool:
    """Whether rename(2) can move the one into the other: across mounts, even of one file system, it cannot (EXDEV)."""
    if source.mount is None or end.mount is None:
        return source.status.identity.filesystem == end.status.identity.filesystem
    return source.mount.point == end.mount.point and source.status.device == end.status.device


def _reach(host: Host, end: Object, posture: Posture, by: Principal) -> Answer:
    """Who could do what with something that had this posture there."""
    path = posixpath.join(end.path, _NEW)
    supposed = Object(path, posture, Status(Identity(end.status.identity.filesystem, 0)), end.mount)
    then = HostAsIf(host, Supposition(names={path: supposed}))
    return Answer(then, walk(then, path, follow=False), more=(by,) if by.kind == "process" else ())


# --- what may surprise ---------------------------------------------------------------------


def _surprises(
    host: Host, end: Object, asked: MadeQuestion, file: Posture, above: Answer, reach_file: Answer, reach_folder: Answer
) -> Iterator[Finding]:
    """Whom it surprises, and what is easily taken to be otherwise."""
    parent = end.posture
    yield from _without(
        host, above, rights.READ, reach_file, "list the names here, and not read a file that is made here"
    )
    yield from _without(
        host, above, rights.WRITE, reach_folder, "add names here, and not in a directory that is made here"
    )
    if _open(reach_file, rights.WRITE):
        yield Finding("everyone-writes", "danger", "everyone who gets there could write to a file that is made here")
    if file.gid != parent.gid and parent.mode & 0o070 and not hands_on_group(parent, end.mount):
        own, theirs = naming.group(file.gid, host.accounts), naming.group(parent.gid, host.accounts)
        text = f"what is made here gets the maker's group {own}, not the directory's {theirs}: setgid is missing"
        yield Finding("own-group", "odd", text)
    if parent.default is not None and end.keeps_lists is not False:
        cut = [
            f"{naming.entry(entry, host.accounts)} down to {permission_letters(left)}"
            for entry in (file.acl.entries if file.acl else ())
            if (left := effective(entry, file.acl.mask if file.acl else None)) & 6 != entry.permissions & 6
        ]
        if cut:
            wanted = octal(FILES if asked.asking is None else asked.asking)
            yield Finding("mask-cuts", "odd", f"asked for with {wanted}, the mask of a new file cuts {joined(cut)}")
        yield Finding("default-list", "plain", "the default list decides here, and no umask counts")
    for flag in parent.flags or ():
        yield Finding("flag-stays", "plain", f"{flag} is not handed on: what is made here does not have it")


def _without(host: Host, above: Answer, right: Right, below: Answer, what: str) -> Iterator[Finding]:
    """Those who may do something in the directory, and not the same with what is made in it."""
    may = above.allowed[right] & above.allowed[rights.TRAVERSE]
    lack = {
        below.universe.principals[place].identity for place in places(below.universe.everyone & ~below.allowed[right])
    }
    bits = 0
    for place, who in enumerate(above.universe.principals):
        if may >> place & 1 and who.identity in lack:
            bits |= 1 << place
    if bits:
        people = PeopleWords(above.universe, host.accounts, above.universe.everyone)
        yield Finding("surprised", "odd", f"may {what}: {people.words(bits)}")


def _open(answer: Answer, right: Right) -> bool:
    return bool(answer.allowed[right] & answer.universe.of_kind("anyone-else"))

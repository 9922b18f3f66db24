"""Who could replace something, or write to it, by their own means (:mod:`fiat.core.ask.ownmeans`): by which object on
its route, and what takes that away."""

import posixpath
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.ask.ownmeans import holds
from fiat.core.audit.auditedtree import AuditedTree, Mend
from fiat.core.model import right as rights
from fiat.core.model.accesslist import Tag
from fiat.core.model.mode import STICKY, WRITE, permission_letters
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Kind, Object, Posture
from fiat.core.model.principals import Universe
from fiat.core.model.route import Route, lies_under
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.decision import Decision
from fiat.core.text import visible
from fiat.core.words.naming import PeopleWords


class Foothold(NamedTuple):
    """By which object on the way ``people`` could replace something.

    They ``own`` it, ``write to`` it, or ``replace`` or ``add`` names in it.
    """

    object: Object
    people: int
    how: str

    def words(self, audited: AuditedTree) -> str:
        """The foothold as a clause: ``keeper may write to /srv/skerry/tools``."""
        who = PeopleWords(audited.universe, audited.accounts, audited.universe.everyone).words(self.people, 3)
        path = visible(self.object.path)
        return f"{path} belongs to {who}" if self.how == "own" else f"{who} may {_HOW[self.how]} {path}"


_HOW = {"write to": "write to", "replace": "replace names in", "add": "add names in"}


def footholds(audited: AuditedTree, path: str, trusted: int) -> list[Foothold]:
    """Every way in which others than those who are ``trusted`` could replace what is at ``path``, or write to it.

    Where nothing is there yet, the ways in which they could make it.
    """
    route = audited.walk(path)
    if route.end is None:
        return list(dict.fromkeys(_of_missing(audited, route, trusted)))
    found = list(_along(audited, route, trusted))
    runner = route.interpreter
    while runner is not None:
        found += _along(audited, runner, trusted)
        runner = runner.interpreter
    return list(dict.fromkeys(found))


def nearest(audited: AuditedTree, path: str) -> str | None:
    """What is at ``path`` once symlinks are followed, or else the directory that it, or what leads there, would have
    to be made in; None where that cannot be seen."""
    route = audited.walk(path)
    for _ in range(_DEEPEST):
        if route.end is not None or route.hidden:
            break
        missing = route.failed_at or route.asked
        route = audited.walk(posixpath.dirname(missing))
        if missing == "/":
            break
    return None if route.end is None else route.end.path


_DEEPEST = 2048
"""So many names a path has at most: PATH_MAX is 4096 bytes."""


def _of_missing(audited: AuditedTree, route: Route, trusted: int) -> Iterator[Foothold]:
    """Who could make something that is not there: the directory that lacks it, the way to that, and links to it."""
    folder = nearest(audited, route.asked)
    if folder is None:
        return
    yield from _by_links(audited, route, trusted)
    there = audited.walk(folder)
    if there.end is not None and there.end.posture.directory:
        yield from _along(audited, there, trusted)


def _along(audited: AuditedTree, route: Route, trusted: int) -> Iterator[Foothold]:
    """Each directory that is traversed, each symlink that is followed, and the end: by what others hold it."""
    if route.end is None:
        return
    universe, others = audited.universe, audited.others & ~trusted
    owners = 0
    for hold in holds(audited.access, route):
        people = hold.people & others
        if hold.how == "own" and people:
            yield Foothold(hold.object, people, "own")
            owners = people if hold.object is route.end else 0
        elif hold.how == "replace":
            yield from _by_holder(audited, hold.object, people)
        elif hold.how in _TO_THE_END and people & ~(owners & universe.with_uid(hold.object.posture.uid)):
            yield Foothold(hold.object, people & ~owners, _TO_THE_END[hold.how])


_TO_THE_END = {"add": "add", "write": "write to"}


def _by_links(audited: AuditedTree, route: Route, trusted: int) -> Iterator[Foothold]:
    """Who could put another symlink in the place of one that is followed."""
    links = {link.path for link in route.links}
    for hold in holds(audited.access, route):
        if hold.how == "replace" and hold.object.path in links:
            yield from _by_holder(audited, hold.object, hold.people & audited.others & ~trusted)


def _by_holder(audited: AuditedTree, named: Object, people: int) -> Iterator[Foothold]:
    """Those who can take a name away write in the directory that holds it, or own it; in a sticky one what it names."""
    parent = audited.walk(posixpath.dirname(named.path)).end
    if parent is None:
        return
    if parent.posture.mode & STICKY and named.posture.kind is Kind.SYMLINK:
        owners = people & audited.universe.with_uid(named.posture.uid)
        if owners:
            yield Foothold(named, owners, "own")
        people &= ~owners
    people &= ~audited.universe.with_uid(parent.posture.uid)  # that is said of the directory
    if people:
        yield Foothold(parent, people, "replace")


def beside(audited: AuditedTree, path: str, trusted: int) -> Foothold | None:
    """Who could put something beside a program that it might load; who can replace names there is not meant."""
    route = audited.walk(path)
    parent = route.parent
    if route.end is None or parent is None or not parent.posture.mode & STICKY:
        return None
    people = audited.allowed(parent.path, rights.CREATE) & audited.others & ~trusted
    people &= ~audited.universe.with_uid(parent.posture.uid)
    return Foothold(parent, people, "add") if people else None


# --- what takes it away ----------------------------------------------------------------


_SHARED = ("/tmp", "/var/tmp", "/dev/shm", "/run/lock")
"""Directories that are meant to be everyone's: what is wrong is that something of root's lies there."""


def mend_of(audited: AuditedTree, hold: Foothold, owner: int = 0) -> Mend | None:
    """What mends a hold: another ``owner``, or no write for those who have it.

    None for what has to stay as it is: a home directory, one that is everyone's, and where a symlink lies.
    """
    path = hold.object.path
    if path in _SHARED or hold.object.posture.kind is Kind.SYMLINK:
        return None
    if hold.how == "own":
        return None if _is_home(audited, hold.object) else Mend(Wish(uid=owner), (path,))
    return without(audited.universe, hold.object.posture, hold.people, WRITE, (path,))


def _is_home(audited: AuditedTree, found: Object) -> bool:
    """Whether a directory is somebody's home, or lies in one: taking it from them would lock them out."""
    if not found.posture.directory:
        return False
    homes = (one.home.rstrip("/") for one in audited.accounts.users if one.uid == found.posture.uid)
    return any(home.count("/") > 1 and lies_under(found.path, home) for home in homes)


def without(
    universe: Universe, posture: Posture, people: int, permission: int, at: tuple[str, ...] = ()
) -> Mend | None:
    """The least change after which none of ``people`` has ``permission`` by the class or the entry that gives it."""
    letters = permission_letters(permission).replace("-", "")
    shares = [
        share
        for share in Decision(posture, universe).shares
        if share.permissions & permission and share.principals & people and share.entry.tag is not Tag.OWNER
    ]
    named = [share.entry for share in shares if share.entry.tag is not Tag.OTHER]
    if posture.acl is None or not named:
        who = ",".join(f"{_CLASS[share.entry.tag]}-{letters}" for share in shares)
        return Mend(Wish(mode=parse_change(who)), at) if who else None
    left = (share.entry._replace(permissions=share.permissions & ~permission) for share in shares)
    return Mend(Wish(access=ListWish(tuple(map(EntryWish, left)), mask=posture.acl.mask)), at)


_CLASS = {Tag.OWNING_GROUP: "g", Tag.OTHER: "o"}

"""Who could replace something in one step, or write to it: by its name, or by a directory on its route.

unlink(2) and rename(2), and inode(7) on the sticky bit: whoever may remove or
rename a name, there or anywhere on the way, can put something else in its
place; and whoever owns a directory on the way can give themselves that right.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.audit.ground import Ground, Mend
from fiat.core.model import right as rights
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.mode import STICKY, WRITE, permission_letters
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Universe
from fiat.core.model.route import Route
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules.effective import effective
from fiat.core.text import visible
from fiat.core.words.naming import People


class Hold(NamedTuple):
    """By which object on the way ``people`` could replace something.

    They ``own`` it, ``write to`` it, or ``replace`` or ``add`` names in it.
    """

    object: Object
    people: int
    how: str

    def words(self, ground: Ground) -> str:
        """The same as a clause: ``keeper may write to /srv/skerry/tools``."""
        who = People(ground.universe, ground.accounts, ground.universe.everyone).words(self.people, 3)
        path = visible(self.object.path)
        return f"{path} belongs to {who}" if self.how == "own" else f"{who} may {_HOW[self.how]} {path}"


_HOW = {"write to": "write to", "replace": "replace names in", "add": "add names in"}


def holds(ground: Ground, path: str, trusted: int) -> list[Hold]:
    """Every way in which others than those who are ``trusted`` could replace what is at ``path``, or write to it."""
    route = ground.walk(path)
    found = list(_along(ground, route, trusted))
    runner = route.interpreter
    while runner is not None:
        found += _along(ground, runner, trusted)
        runner = runner.interpreter
    return list(dict.fromkeys(found))


def _along(ground: Ground, route: Route, trusted: int) -> Iterator[Hold]:
    """Each directory that is traversed, and the end."""
    if route.end is None:
        return
    others = ground.others & ~trusted
    for one in route.directories:
        owners = _owners(ground, one) & others
        if owners:
            yield Hold(one, owners, "own")
        taken = ground.taken(one.path) & others
        if taken:
            yield from _by_parent(ground, ground.walk(one.path).parent, taken)
    yield from _by_parent(ground, route.parent, ground.taken(route.end.path) & others)
    owners = _owners(ground, route.end) & others
    if owners:
        yield Hold(route.end, owners, "own")
    writers = ground.allowed(route.end.path, rights.WRITE) & others & ~owners
    if writers:
        yield Hold(route.end, writers, "write to")


def _owners(ground: Ground, found: Object) -> int:
    """Its owner, where they get there and may change it."""
    return ground.universe.with_uid(found.posture.uid) & ground.allowed(found.path, rights.CHANGE_MODE)


def _by_parent(ground: Ground, parent: Object | None, people: int) -> Iterator[Hold]:
    """Those who can take a name away write in the directory that holds it, or own it."""
    if parent is None:
        return
    people &= ~ground.universe.with_uid(parent.posture.uid)  # that is said of the directory
    if people:
        yield Hold(parent, people, "replace")


def beside(ground: Ground, path: str, trusted: int) -> Hold | None:
    """Who could put something beside a program that it might load; who can replace names there is not meant."""
    route = ground.walk(path)
    parent = route.parent
    if route.end is None or parent is None or not parent.posture.mode & STICKY:
        return None
    people = ground.allowed(parent.path, rights.CREATE) & ground.others & ~trusted
    people &= ~ground.universe.with_uid(parent.posture.uid)
    return Hold(parent, people, "add") if people else None


# --- what takes it away ----------------------------------------------------------------


def mend_of(ground: Ground, hold: Hold) -> Mend | None:
    """What mends a hold: root as the owner, or no write for those who have it."""
    path = hold.object.path
    if hold.how == "own":
        return Mend(Wish(uid=0), (path,))
    return without(ground.universe, hold.object.posture, hold.people, WRITE, (path,))


def without(
    universe: Universe, posture: Posture, people: int, permission: int, at: tuple[str, ...] = ()
) -> Mend | None:
    """The least change after which none of ``people`` has ``permission`` by the class or the entry that gives it."""
    letters = permission_letters(permission).replace("-", "")
    other = bool(posture.mode & permission and people & ~_named(universe, posture))
    acl = posture.acl
    if acl is None:
        group = bool(posture.mode >> 3 & permission and people & universe.in_group(posture.gid))
        clauses = [f"{who}-{letters}" for who, one in (("g", group), ("o", other)) if one]
        return Mend(Wish(mode=parse_change(",".join(clauses))), at) if clauses else None
    entries = []
    for entry in acl.entries:
        left = effective(entry, acl.mask)
        if left & permission and people & _matched(universe, entry, posture):
            entries.append(EntryWish(entry._replace(permissions=left & ~permission)))
    if other and not entries:
        return Mend(Wish(mode=parse_change(f"o-{letters}")), at)
    if other:
        entries.append(EntryWish(Entry(Tag.OTHER, posture.mode & 7 & ~permission)))
    return Mend(Wish(access=ListWish(tuple(entries), mask=acl.mask)), at) if entries else None


def _named(universe: Universe, posture: Posture) -> int:
    """Those whom the owner, the group or an entry matches: other is not asked about them."""
    found = universe.with_uid(posture.uid) | universe.in_group(posture.gid)
    for entry in posture.acl.entries if posture.acl is not None else ():
        found |= _matched(universe, entry, posture)
    return found


def _matched(universe: Universe, entry: Entry, posture: Posture) -> int:
    if entry.tag is Tag.NAMED_USER and entry.id is not None:
        return universe.with_uid(entry.id)
    if entry.tag is Tag.NAMED_GROUP and entry.id is not None:
        return universe.in_group(entry.id)
    return universe.in_group(posture.gid) if entry.tag is Tag.OWNING_GROUP else 0

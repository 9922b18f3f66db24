"""Means: the changes of one object that give somebody permissions there, or take them.

Each is a wish for that one object. Whether it does what it is for is asked of the posture that would
come of it, and so is what it does locally to others; what it really costs them, with the way there and what lies
below, is counted elsewhere (:mod:`fiat.core.suggest.search`).
"""

from collections.abc import Callable, Collection, Iterable, Iterator
from itertools import product
from typing import NamedTuple

from fiat.core.change.steps import change, steps_towards, wanted
from fiat.core.errors import FiatError
from fiat.core.model import accesslist
from fiat.core.model import right as rights
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.mode import SPECIAL, octal, permission_letters
from fiat.core.model.modechange import ModeChange, parse_change
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal, Universe, bare_group, unlisted_user
from fiat.core.model.right import Right
from fiat.core.model.wish import ListWish, Wish
from fiat.core.rules.decision import Decision
from fiat.core.rules.difference import diff
from fiat.core.rules.effective import passes_over_list
from fiat.core.suggest.entrywishes import NOTHING_KEPT, Keeping, entry_holding, had, wish_between


class MeansKind(NamedTuple):
    """One means; those that need more than a new row here have it in :func:`single_means`.

    ``about`` says what it is, ``about_taking`` where it is another to take something. ``own`` means concern nobody
    but who it is about. What goes ``by_group`` is thought of for each group of theirs; what is not ``in_posture``
    changes no object, what is not ``in_trees`` none below what is asked about. Where several would do on an object
    of a tree, the first by ``concern`` is taken: it concerns the fewest others.
    """

    name: str
    about: str
    concern: int
    about_taking: str = ""
    own: bool = False
    by_group: bool = False
    in_posture: bool = True
    in_trees: bool = True


MEANS = {
    kind.name: kind
    for kind in (
        MeansKind("entry", "an access entry for who it is about alone", 0, own=True),
        MeansKind("owner-bits", "the owner's letters", 1, own=True),
        MeansKind("group-bits", "what the owning group may do", 3),
        MeansKind("named-group", "what a group that is named in the list may do", 2, by_group=True),
        MeansKind("other-bits", "what everyone may do whom no entry and no group matches", 4),
        MeansKind("owning-group", "another owning group", 5, by_group=True),
        MeansKind(
            "sticky",
            "the directory without the sticky bit",
            6,
            about_taking="the directory with the sticky bit",
            in_trees=False,
        ),
        MeansKind("owner", "another owner", 7),
        MeansKind("membership", "joining a group, or leaving it", 8, in_posture=False, in_trees=False),
    )
}
"""All means, in the order in which equal ways are told."""

_BY_GROUP = ("named-group",)

_NOBODY = unlisted_user(0, (0,))
"""In whose name a wish is thought through that comes out the same whoever carries it out."""

_EACH = 3
"""So many changes by the same means are looked at, the least costly ones."""


class Need(NamedTuple):
    """What is to become of one object: ``who`` shall have ``want`` there at once, or shall not (``gives`` false).

    ``part`` are the permissions out of ``want`` that are to be taken.
    """

    object: Object
    who: Principal
    want: int
    gives: bool
    part: int = 0

    def met(self, posture: Posture) -> bool:
        """Whether it is so where the object has this posture."""
        return bool(Decision(posture, Universe([self.who])).allowed(self.want)) is self.gives


class Means(NamedTuple):
    """A change of one object by one means, or by several together.

    ``local`` is what it does there to others, whoever gets there: whether it goes against them (they lose by what
    gives, gain by what takes), how many rights a stranger gains, and how many of others move.
    """

    names: tuple[str, ...]
    wish: Wish
    local: tuple[int, int, int] = (0, 0, 0)


def means_for(need: Need, everyone: Universe, gids: Iterable[int], actor: Principal, umask: int) -> list[Means]:
    """Every means that meets ``need``, the least costly first; ``gids`` are groups that the object may be given."""
    found: dict[Posture, Means] = {}
    had_before = _rights(need.object.posture, everyone)
    stranger = everyone.of_kind("anyone-else")
    aside = everyone.of_kind("group") | everyone.with_uid(0) | stranger
    aside |= everyone.with_uid(need.who.uid) if need.who.uid is not None else members_among(everyone, need.who)

    def local(posture: Posture) -> tuple[int, int, int]:
        moved = diff(had_before, _rights(posture, everyone))
        gains, losses = (sum((bits & ~aside).bit_count() for bits in some.values()) for some in moved)
        strangers = sum(bool(bits & stranger) for bits in moved.gained.values())
        return int((losses if need.gives else gains) > 0), strangers, gains + losses

    def take(several: Iterable[Means]) -> None:
        for means in several:
            posture = outcome(need.object, means.wish, actor, umask)
            if posture is None or not need.met(posture):
                continue
            if posture not in found or len(means.names) < len(found[posture].names):
                found[posture] = means._replace(local=local(posture))

    take(single_means(need, everyone))
    alone = need.object.keeps_lists is False  # members whom another class decides for can be given no entry there
    if not any(
        means.local == (0, 0, 0) and not (alone and not _met_by_members(need, everyone, posture))
        for posture, means in found.items()
    ):
        take(_by_bits(need, everyone, gids, local))
    groups = sorted((means.local, means.wish.access.entries) for means in found.values() if means.names == _BY_GROUP)
    if groups and groups[0][0] != (0, 0, 0):
        take(_by_values(need, everyone, dict.fromkeys(entries[0].entry.id for _, entries in groups if entries)))
    order = list(MEANS)
    ranked = sorted(found.values(), key=lambda one: (one.local, len(one.names), [order.index(n) for n in one.names]))
    kept: list[Means] = []
    for means in ranked:
        if sum(one.names == means.names for one in kept) < _EACH:
            kept.append(means)
    return kept


def outcome(found: Object, wish: Wish, actor: Principal, umask: int) -> Posture | None:
    """What comes of a wish there, whoever carries it out; None where it is impossible."""
    try:
        goal = wanted(found.posture, wish, actor, umask)
    except FiatError:
        return None
    done = change(found.posture, steps_towards(found.posture, goal, actor), actor, found.mount, found.keeps_lists)
    return goal if done.errno else done.after


def _rights(posture: Posture, everyone: Universe) -> dict[Right, int]:
    """Who of everyone may read, write, execute or traverse, and change the mode."""
    decision = Decision(posture, everyone)
    asked = (rights.READ, rights.WRITE, rights.EXECUTE)
    found = {right: decision.allowed(right.permissions_on(posture.kind)) for right in asked}
    found[rights.CHANGE_MODE] = everyone.with_uid(posture.uid)
    return found


# --- one means each ----------------------------------------------------------------------


def single_means(need: Need, everyone: Universe, gids: Collection[int] | None = None) -> Iterator[Means]:
    """Each change by one means that may meet ``need``, in the order of the means; whether it does is not looked at.

    Of the groups of who it is about, ``gids`` are thought of, or all.
    """
    who, found = need.who, need.object
    theirs = sorted(who.gids) if gids is None else [gid for gid in gids if gid in who.gids]
    posture = found.posture
    if who.kind == "anyone-else":
        yield Means(("other-bits",), Wish(mode=_mode("o", need)))
        return
    lists = found.keeps_lists is not False
    if who.uid is not None and who.uid == posture.uid:
        yield Means(("owner-bits",), Wish(mode=_mode("u", need)))
    else:
        named = who.kind == "group" or who.uid != accesslist.NO_ID
        if lists and named and not (who.kind == "group" and posture.gid in who.gids):
            kept = _kept(need, next(iter(who.gids)), everyone) if who.kind == "group" else NOTHING_KEPT
            for new in _entries_for(need, who, everyone):
                yield Means(("entry",), Wish(access=entry_holding(posture, who, new, kept)))
        yield from _by_groups(need, everyone, theirs, lists=lists)
        yield Means(("other-bits",), Wish(mode=_mode("o", need)))
    if who.kind != "group":
        yield from _by_ownership(need, theirs)


def _new(need: Need, who: Principal, has: int = 0) -> int:
    """What an entry for ``who`` is to hold: what they have, and ``has``, with what is asked for or without it."""
    has |= had(need.object.posture, who)
    return has | need.want if need.gives else has & ~need.part


def _entries_for(need: Need, who: Principal, everyone: Universe) -> list[int]:
    """What an entry for ``who`` may hold: all that other accounts of their number have as well, for whom it decides
    too; or no more than they have themselves."""
    alone = _new(need, who)
    same = [] if who.uid is None else [*everyone.members(everyone.with_uid(who.uid))]
    if len(same) < 2:
        return [alone]
    together = 0
    for one in same:
        together |= had(need.object.posture, one)
    return list(dict.fromkeys((_new(need, who, together), alone)))


def _by_groups(need: Need, everyone: Universe, gids: Iterable[int], *, lists: bool) -> Iterator[Means]:
    """The owning group's letters, and the entries of groups."""
    posture, who = need.object.posture, need.who
    named = posture.acl.named()[1] if posture.acl is not None else set()
    giving: list[Means] = []
    for gid in gids:
        group = bare_group(gid, None)
        kept = _kept(need, gid, everyone)
        if gid == posture.gid and posture.acl is None:
            yield Means(("group-bits",), Wish(mode=_mode("g", need)))
        elif lists and gid == posture.gid:
            giving.append(Means(("group-bits",), _holding(need, group, _new(need, group), kept)))
        elif lists and who.kind != "group":
            giving.append(Means(_BY_GROUP, _holding(need, group, _new(need, group), kept)))
            if gid in named and posture.acl is not None:
                gone = Entry(Tag.NAMED_GROUP, 0, gid)
                yield Means(_BY_GROUP, Wish(access=ListWish((), (gone,), posture.acl.mask)))
    yield from giving
    if not need.gives:
        yield from _together(need, giving)


def _by_values(need: Need, everyone: Universe, gids: Iterable[int | None]) -> Iterator[Means]:
    """Entries of groups with everything that such an entry can hold: who matches other groups besides may gain by
    what its other members need to keep."""
    for gid, new in product([gid for gid in gids if gid is not None][:_EACH], range(8)):
        if (new & need.want == need.want) is need.gives:
            yield Means(_BY_GROUP, _holding(need, bare_group(gid, None), new, _kept(need, gid, everyone)))


def _holding(need: Need, group: Principal, new: int, kept: Keeping) -> Wish:
    return Wish(access=entry_holding(need.object.posture, group, new, kept))


def _together(need: Need, giving: list[Means]) -> Iterator[Means]:
    """What takes it from several groups at once, since any one of them gives it: the named ones, or all."""
    for some in ([means for means in giving if means.names == _BY_GROUP], giving):
        if len(some) > 1:
            found = need.object
            for means in some:
                after = outcome(found, means.wish, _NOBODY, 0)
                if after is None:
                    return
                found = found._replace(posture=after)
            names = tuple(dict.fromkeys(name for means in some for name in means.names))
            wish = wish_between(need.object.posture, found.posture, [means.wish for means in some])
            yield Means(names, wish)


def _kept(need: Need, gid: int, everyone: Universe) -> Keeping:
    """What other members of a group have whom a list names that is passed over: it decides once the list counts."""
    posture, who = need.object.posture, need.who
    if posture.acl is None or not passes_over_list(posture.mode):
        return NOTHING_KEPT
    named = posture.acl.named()[0] - {who.uid}
    members = everyone.in_group(gid)
    found = (one for place, one in enumerate(everyone.principals) if members >> place & 1 and one.uid in named)
    return {one.uid: had(posture, one) for one in found if one.uid is not None}


def _by_ownership(need: Need, gids: Iterable[int]) -> Iterator[Means]:
    posture, who = need.object.posture, need.who
    if need.gives:
        for gid in gids:
            if gid != posture.gid:
                yield Means(("owning-group",), Wish(gid=gid))
            if gid != posture.gid and posture.acl is None:
                yield Means(("owning-group", "group-bits"), Wish(gid=gid, mode=_mode("g", need)))
        if who.uid is not None and who.uid != posture.uid:
            yield Means(("owner",), Wish(uid=who.uid))
            yield Means(("owner",), Wish(uid=who.uid, mode=_mode("u", need)))
        return
    if posture.gid in who.gids:
        yield Means(("owning-group",), Wish(gid=0))
    if who.uid == posture.uid:
        yield Means(("owner",), Wish(uid=0))


def _mode(user_class: str, need: Need) -> ModeChange:
    letters = permission_letters(need.want if need.gives else need.part).replace("-", "")
    return parse_change(f"{user_class}{'+' if need.gives else '-'}{letters}")


# --- owner, group and the three classes together ------------------------------------------


def members_among(everyone: Universe, who: Principal) -> int:
    """The users of a group, root aside; nobody where it is no group."""
    if who.kind != "group":
        return 0
    found = 0
    for gid in who.gids:
        found |= everyone.in_group(gid)
    return found & everyone.of_kind("user") & ~everyone.with_uid(0)


def _met_by_members(need: Need, everyone: Universe, posture: Posture) -> bool:
    """Whether it is so for each member of the group that it is about."""
    members = members_among(everyone, need.who)
    allowed = Decision(posture, everyone).allowed(need.want) & members if members else 0
    return allowed == (members if need.gives else 0)


def _by_bits(
    need: Need, everyone: Universe, gids: Iterable[int], local: Callable[[Posture], tuple[int, int, int]]
) -> list[Means]:
    """Where there is no list, each owner and group in question, with all that the three classes may be given.

    A class is given what any of the three has now, or several of them together, with what is asked for or without it:
    whoever comes to another class by a change of owner or group can so keep what they had. For a group it must be so
    for each of its members: where there is no list nobody can be given an entry.
    """
    posture, who = need.object.posture, need.who
    if posture.acl is not None:
        return []
    uids = {posture.uid}
    if need.gives and who.uid is not None:
        uids.add(who.uid)
    elif who.uid == posture.uid:
        uids.add(0)
    part = need.want if need.gives else need.part
    now = [posture.mode >> shift & 7 for shift in (6, 3, 0)]
    together = {one | other | third for one, other, third in product((0, *now), repeat=3)}
    values = sorted({changed for value in together for changed in (value, value | part, value & ~part)})
    found: list[tuple[tuple[int, int, int], Means]] = []
    for uid, gid, classes in product(sorted(uids), sorted({posture.gid, *gids}), product(values, repeat=3)):
        names = [
            *(means for means, one, other in zip(_OF_CLASSES, now, classes, strict=True) if one != other),
            *(["owning-group"] if gid != posture.gid else []),
            *(["owner"] if uid != posture.uid else []),
        ]
        mode = posture.mode & SPECIAL | classes[0] << 6 | classes[1] << 3 | classes[2]
        candidate = posture._replace(mode=mode, uid=uid, gid=gid)
        if names and need.met(candidate) and _met_by_members(need, everyone, candidate):
            wish = Wish(
                mode=parse_change(octal(mode)) if mode != posture.mode else None,
                uid=uid if uid != posture.uid else None,
                gid=gid if gid != posture.gid else None,
            )
            found.append((local(candidate), Means(tuple(names), wish)))
    found.sort(key=lambda one: (one[0], len(one[1].names)))
    kept: list[Means] = []
    for _, means in found:
        if sum(one.names == means.names for one in kept) < _EACH:
            kept.append(means)
    return kept


_OF_CLASSES = ("owner-bits", "group-bits", "other-bits")

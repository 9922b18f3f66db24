"""The decision: one posture, all principals at once.

A posture splits the universe into disjoint classes in the kernel's order:
the owner; each named user; everyone matched by the owning group or a named
group; the rest. Each class has its rule and its permissions. The rules are
``acl_permission_check``, ``posix_acl_permission`` and ``generic_permission``
of the kernel's file system core; acl(5), "ACCESS CHECK
ALGORITHM"; path_resolution(7), "Permissions"; capabilities(7). What a mask
leaves is in :mod:`fiat.core.rules.effective`.
"""

from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, WRITE
from fiat.core.model.posture import Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.rules.effective import deciding_list, passes_over_list, permissions_by_entry

OWNER = "owner"
NAMED_USER = "named-user"
OWNING_GROUP = "owning-group"
NAMED_GROUP = "named-group"
OTHER = "other"
SUPERUSER = "superuser"

_RULE_OF = {
    Tag.OWNER: OWNER,
    Tag.NAMED_USER: NAMED_USER,
    Tag.OWNING_GROUP: OWNING_GROUP,
    Tag.NAMED_GROUP: NAMED_GROUP,
    Tag.OTHER: OTHER,
}


class Share(NamedTuple):
    """The principals that one entry speaks for, and what it gives them.

    ``permissions`` are those of ``entry`` after the mask, 0 to 7.
    """

    entry: Entry
    permissions: int
    principals: int

    @property
    def rule(self) -> str:
        """The rule that applies this entry."""
        return _RULE_OF[self.entry.tag]


class Reason(NamedTuple):
    """Why one principal is, or is not, granted what was asked of one object.

    ``share`` decided. ``capability`` is the one that overrode a refusal, or 0.
    """

    allowed: bool
    rule: str
    share: Share
    capability: int = 0


_NOBODY_NAMED: tuple[tuple[Tag, int | None], ...] = ((Tag.OWNER, None), (Tag.OWNING_GROUP, None), (Tag.OTHER, None))
"""What the entries of a list of three speak of."""


class Partitions:
    """Who is in which class; remembered, because many postures differ in nothing but their permissions."""

    def __init__(self, universe: Universe) -> None:
        self._universe = universe
        self._known: dict[tuple[int, int, tuple[tuple[Tag, int | None], ...]], tuple[int, ...]] = {}
        self._overriding: dict[tuple[object, ...], int] = {}

    def of(self, posture: Posture) -> tuple[int, ...]:
        """For each entry the principals it speaks for; those of the group class may overlap.

        The owner is matched first, by uid; then each named user; then all
        groups; other is for those that are in none of these.
        """
        key = self.key(posture)
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = self._partition(*key)
        return found

    def key(self, posture: Posture) -> tuple[int, int, tuple[tuple[Tag, int | None], ...]]:
        """What the classes of ``posture`` depend on: its owner, its group, and whom its list speaks of."""
        acl = posture.acl
        if acl is None or len(acl.entries) == 3 or passes_over_list(posture.mode):
            return posture.uid, posture.gid, _NOBODY_NAMED
        return posture.uid, posture.gid, tuple([(entry.tag, entry.id) for entry in acl.entries])

    def overriding(self, posture: Posture, want: int) -> int:
        """Who holds a capability that grants ``want`` where the classes refuse it."""
        key: tuple[object, ...] = (posture.kind is Kind.DIRECTORY, posture.mode & EXECUTE_BITS != 0, want)
        if self._universe.confined:
            key += (posture.uid, posture.gid)
        found = self._overriding.get(key)
        if found is None:
            found = 0
            for capability in overriding_capability(posture, want):
                if capability:
                    found |= self._universe.holding(capability, posture.uid, posture.gid)
            self._overriding[key] = found
        return found

    def _partition(self, uid: int, gid: int, who: tuple[tuple[Tag, int | None], ...]) -> tuple[int, ...]:
        universe = self._universe
        taken = universe.with_uid(uid)
        matched = 0
        found = []
        for tag, number in who:
            principals = 0
            if tag is Tag.OWNER:
                principals = universe.with_uid(uid)
            elif tag is Tag.NAMED_USER and number is not None:
                principals = universe.with_uid(number) & ~taken  # of repeated entries the first counts
                taken |= principals
            elif tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
                # named users stand before all groups in a list, so all that are taken before them are known
                principals = universe.in_group(gid if number is None else number) & ~taken
                matched |= principals
            elif tag is Tag.OTHER:
                principals = universe.everyone & ~taken & ~matched
            found.append(principals)
        return tuple(found)


def overriding_capability(posture: Posture, want: int) -> tuple[int, int]:
    """The capabilities, by mask, either of which grants ``want`` where the classes refuse it.

    ``generic_permission`` in the kernel: CAP_DAC_READ_SEARCH
    grants reading files, and anything but writing on directories;
    CAP_DAC_OVERRIDE grants all, except executing a file without a single
    execute bit. A place that does not apply holds 0.
    """
    if posture.directory:
        return (0 if want & WRITE else capabilities.DAC_READ_SEARCH), capabilities.DAC_OVERRIDE
    search = capabilities.DAC_READ_SEARCH if want == READ else 0
    if want & EXECUTE and not posture.mode & EXECUTE_BITS:
        return search, 0
    return search, capabilities.DAC_OVERRIDE


def superuser(who: Principal) -> bool:
    """Whether permissions as such stop ``who`` nowhere: a holder of CAP_DAC_OVERRIDE."""
    return who.holds(capabilities.DAC_OVERRIDE)


class Decision:
    """What one posture decides for one universe.

    The classes of principals are disjoint: the owner, each named user, all of
    the group class, the rest. All but the group class have one entry. In the
    group class a principal may be in several, and a request is granted when
    one of them holds all of it.
    """

    def __init__(self, posture: Posture, universe: Universe, partitions: Partitions | None = None) -> None:
        self.posture = posture
        self.universe = universe
        self._partitions = partitions or Partitions(universe)
        self._classes = tuple(zip(permissions_by_entry(posture), self._partitions.of(posture), strict=True))
        self._allowed: dict[int, int] = {}

    @property
    def shares(self) -> list[Share]:
        """What each entry gives to whom, in the kernel's order."""
        found = []
        for entry, (permissions, principals) in zip(deciding_list(self.posture).entries, self._classes, strict=True):
            if entry.tag is not Tag.MASK:
                shown = Entry(Tag.OWNER, permissions) if entry.tag is Tag.OWNER else entry
                found.append(Share(shown, permissions, principals))
        return found

    def allowed(self, want: int) -> int:
        """The set of principals granted all the permissions in ``want`` (1 to 7) at once."""
        found = self._allowed.get(want)
        if found is None:
            found = self._partitions.overriding(self.posture, want)
            for permissions, principals in self._classes:
                if permissions & want == want:
                    found |= principals
            self._allowed[want] = found
        return found

    def reason(self, place: int, want: int) -> Reason:
        """Why the principal at ``place`` is or is not granted ``want``."""
        bit = 1 << place
        matching = [share for share in self.shares if share.principals & bit]
        for share in matching:
            if share.permissions & want == want:
                return Reason(True, share.rule, share)
        # refused: show the entry that comes nearest
        share = max(matching, key=lambda share: (share.permissions & want).bit_count())
        for capability in overriding_capability(self.posture, want):
            if capability and self.universe.holding(capability, self.posture.uid, self.posture.gid) & bit:
                return Reason(True, SUPERUSER, share, capability)
        return Reason(False, share.rule, share)


class Decisions:
    """The decisions for one universe, each distinct posture decided once."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe
        self._known: dict[tuple[object, ...], Decision] = {}
        self._partitions = Partitions(universe)

    def of(self, posture: Posture) -> Decision:
        """The decision for ``posture``."""
        key = (posture.kind is Kind.DIRECTORY, posture.mode & 0o777, posture.uid, posture.gid, posture.acl)
        decision = self._known.get(key)
        if decision is None:
            decision = self._known[key] = Decision(posture, self.universe, self._partitions)
        return decision

    def may_differ(self, one: Posture, other: Posture) -> int:
        """Everyone whom one of two postures may grant what the other does not; some of them may be granted the same."""
        partitions = self._partitions
        found = 0
        if partitions.key(one) == partitions.key(other):
            given = zip(permissions_by_entry(one), permissions_by_entry(other), partitions.of(one), strict=True)
            for before, after, principals in given:
                if before != after:
                    found |= principals
            if (one.mode & EXECUTE_BITS != 0) != (other.mode & EXECUTE_BITS != 0):
                found |= partitions.overriding(one, EXECUTE) ^ partitions.overriding(other, EXECUTE)
            return found
        before_, after_ = self.of(one), self.of(other)
        for want in range(1, 8):
            found |= before_.allowed(want) ^ after_.allowed(want)
        return found

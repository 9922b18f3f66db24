"""The decision: one posture, all principals at once.

A posture splits the universe into disjoint classes in the kernel's order:
the owner; each named user; everyone matched by the owning group or a named
group; the rest. Each class has its rule and its permissions. The rules are
``acl_permission_check``, ``posix_acl_permission`` and ``generic_permission``
of the kernel's file system core; acl(5), "ACCESS CHECK
ALGORITHM"; path_resolution(7), "Permissions"; capabilities(7). What a mask
leaves is in :mod:`fiat.core.rules.effective`.
"""

from collections.abc import Sequence
from functools import partial
from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.idmap import NO_NUMBERS, UNMAPPED
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, WRITE
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.sets import INT_SETS, Condition, Number, Set, Sets
from fiat.core.rules.effective import deciding_entries, deciding_list, left_by_mask, permissions_by_entry

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


Whom = tuple[tuple[Tag, Number], ...]
"""Whom the entries of a list speak of: their tags, with the number of who is named."""

NOBODY_NAMED: Whom = ((Tag.OWNER, None), (Tag.OWNING_GROUP, None), (Tag.OTHER, None))
"""What the entries of a list of three speak of."""


class DecisionInputs(NamedTuple):
    """What decides of a posture; or of many whose entries have the same tags, as columns of numbers.

    ``executable`` tells whether any execute bit is set. ``permissions`` are
    what each entry in ``whom`` gives.
    """

    directory: bool
    executable: bool
    uid: Number
    gid: Number
    whom: Whom
    permissions: tuple[Number, ...]


def decision_inputs(posture: Posture) -> DecisionInputs:
    """What decides of one posture: who its entries speak of, and what each gives."""
    mode, acl = posture.mode, posture.acl
    whom, entries = NOBODY_NAMED, None
    if acl is not None and deciding_entries(mode, acl) is not None:
        whom = tuple([(entry.tag, entry.id) for entry in acl.entries])
        entries = [(entry.tag, left) for entry, left in zip(acl.entries, left_by_mask(acl), strict=True)]
    permissions = permissions_by_entry(mode, entries)
    return DecisionInputs(posture.directory, mode & EXECUTE_BITS != 0, posture.uid, posture.gid, whom, permissions)


def partition(universe: Universe, sets: Sets, uid: Number, gid: Number, whom: Whom) -> tuple[Set, ...]:
    """For each entry the principals it speaks for; those of the group class may overlap.

    The owner is matched first, by uid; then each named user; then all
    groups; other is for those that are in none of these.
    """
    owner = taken = sets.lookup(universe.with_uid, uid)
    matched = nobody = sets.constant(0)
    found = []
    for tag, number in whom:
        principals = nobody
        if tag is Tag.OWNER:
            principals = owner
        elif tag is Tag.NAMED_USER:
            principals = sets.lookup(universe.with_uid, number) & ~taken  # of repeated entries the first counts
            taken = taken | principals
        elif tag is Tag.OWNING_GROUP or tag is Tag.NAMED_GROUP:
            # named users stand before all groups in a list, so all that are taken before them are known
            principals = sets.lookup(universe.in_group, gid if tag is Tag.OWNING_GROUP else number) & ~taken
            matched = matched | principals
        elif tag is Tag.OTHER:
            principals = sets.constant(universe.everyone) & ~taken & ~matched
        found.append(principals)
    return tuple(found)


def overriding(universe: Universe, sets: Sets, of: DecisionInputs, want: int) -> Set:
    """Who holds a capability that grants ``want`` where the classes refuse it.

    It counts for nothing where owner or group have no number (``capable_wrt_inode_uidgid``).
    """
    found = sets.constant(0)
    for capability in overriding_capability(want, directory=of.directory, executable=of.executable):
        if capability and universe.confined:
            found = found | sets.lookup(partial(universe.holders_of, capability), of.uid, of.gid)
        elif capability:
            found = found | sets.constant(universe.holders_of(capability))
    return sets.where(_have_numbers(of), found)


def _have_numbers(of: DecisionInputs) -> Condition:
    """Whether both owner and group have a number."""
    return (of.uid < NO_NUMBERS[0]) & (of.gid < NO_NUMBERS[0])


def granted(sets: Sets, of: DecisionInputs, classes: Sequence[Set], want: int, anyway: Set) -> Set:
    """The principals granted all the permissions in ``want`` (1 to 7) at once; some are granted them ``anyway``.

    Nobody writes to what has an owner or a group that is not mapped (``inode_permission`` in the kernel).
    """
    found = anyway
    for permissions, principals in zip(of.permissions, classes, strict=True):
        found = found | sets.where(permissions & want == want, principals)
    return sets.where((of.uid != UNMAPPED) & (of.gid != UNMAPPED), found) if want & WRITE else found


class Partitions:
    """Who is in which class; remembered, because many postures differ in nothing but their permissions."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe
        self._known: dict[tuple[int, int, Whom], tuple[int, ...]] = {}
        self._overriding: dict[tuple[object, ...], int] = {}

    def of(self, of: DecisionInputs) -> tuple[int, ...]:
        """For each entry the principals it speaks for."""
        key = (of.uid, of.gid, of.whom)
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = partition(self.universe, INT_SETS, *key)
        return found

    def overriding(self, of: DecisionInputs, want: int) -> int:
        """Who holds a capability that grants ``want`` where the classes refuse it."""
        key: tuple[object, ...] = (of.directory, of.executable, want, _have_numbers(of))
        if self.universe.confined:
            key += (of.uid, of.gid)
        found = self._overriding.get(key)
        if found is None:
            found = self._overriding[key] = overriding(self.universe, INT_SETS, of, want)
        return found


def overriding_capability(want: int, *, directory: bool, executable: bool) -> tuple[int, int]:
    """The capabilities, by mask, either of which grants ``want`` where the classes refuse it.

    ``generic_permission`` in the kernel: CAP_DAC_READ_SEARCH
    grants reading files, and anything but writing on directories;
    CAP_DAC_OVERRIDE grants all, except executing a file without a single
    execute bit. A place that does not apply holds 0.
    """
    if directory:
        return (0 if want & WRITE else capabilities.DAC_READ_SEARCH), capabilities.DAC_OVERRIDE
    search = capabilities.DAC_READ_SEARCH if want == READ else 0
    if want & EXECUTE and not executable:
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
        self._grounds = decision_inputs(posture)
        self._classes = self._partitions.of(self._grounds)
        self._allowed: dict[int, int] = {}

    @property
    def shares(self) -> list[Share]:
        """What each entry gives to whom, in the kernel's order."""
        found = []
        entries = deciding_list(self.posture).entries
        for entry, permissions, principals in zip(entries, self._grounds.permissions, self._classes, strict=True):
            if entry.tag is not Tag.MASK:
                shown = Entry(Tag.OWNER, permissions) if entry.tag is Tag.OWNER else entry
                found.append(Share(shown, permissions, principals))
        return found

    def allowed(self, want: int) -> int:
        """The set of principals granted all the permissions in ``want`` (1 to 7) at once."""
        found = self._allowed.get(want)
        if found is None:
            anyway = self._partitions.overriding(self._grounds, want)
            found = self._allowed[want] = granted(INT_SETS, self._grounds, self._classes, want, anyway)
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
        directory, executable = self._grounds.directory, self._grounds.executable
        for capability in overriding_capability(want, directory=directory, executable=executable):
            if capability and self.universe.holders_of(capability, self.posture.uid, self.posture.gid) & bit:
                return Reason(True, SUPERUSER, share, capability)
        return Reason(False, share.rule, share)


class Decisions:
    """The decisions for one universe, each distinct posture decided once."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe
        self._known: dict[tuple[object, ...], Decision] = {}
        self._partitions = Partitions(universe)

    def of(self, posture: Posture) -> Decision:
        """The decision for ``posture``, worked out once for all that decide alike."""
        key = (posture.kind is Kind.DIRECTORY, posture.mode & 0o777, posture.uid, posture.gid, posture.acl)
        decision = self._known.get(key)
        if decision is None:
            decision = self._known[key] = Decision(posture, self.universe, self._partitions)
        return decision

    def may_differ(self, one: Posture, other: Posture) -> int:
        """Everyone whom one of two postures may grant what the other does not; some of them may be granted the same."""
        partitions = self._partitions
        found = 0
        before, after = decision_inputs(one), decision_inputs(other)
        if (before.uid, before.gid, before.whom) == (after.uid, after.gid, after.whom):
            for had, has, principals in zip(before.permissions, after.permissions, partitions.of(before), strict=True):
                if had != has:
                    found |= principals
            if before.executable != after.executable:
                found |= partitions.overriding(before, EXECUTE) ^ partitions.overriding(after, EXECUTE)
            return found
        before_, after_ = self.of(one), self.of(other)
        for want in range(1, 8):
            found |= before_.allowed(want) ^ after_.allowed(want)
        return found

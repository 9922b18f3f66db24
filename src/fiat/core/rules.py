"""The decision: one posture, all principals at once.

A posture splits the universe into disjoint classes in the kernel's order:
the owner; each named user; everyone matched by the owning group or a named
group; the rest. Each class has its rule and its permissions. The rules are
``acl_permission_check``, ``posix_acl_permission`` and ``generic_permission``
of the kernel's file system core; acl(5), "ACCESS CHECK
ALGORITHM"; path_resolution(7), "Permissions"; capabilities(7). This module
is the only place that holds them.
"""

from typing import NamedTuple

from fiat.core import capabilities
from fiat.core.accesslist import AccessList, Entry, Tag, from_mode
from fiat.core.mode import EXECUTE, EXECUTE_BITS, READ, WRITE
from fiat.core.posture import Posture
from fiat.core.principals import Universe

OWNER = "owner"
NAMED_USER = "named-user"
OWNING_GROUP = "owning-group"
NAMED_GROUP = "named-group"
OTHER = "other"
SUPERUSER = "superuser"

_MASK_BITS = 0o070

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


class AccessClass(NamedTuple):
    """One class of principals.

    All classes but the group class have one share. In the group class a
    principal may be in several, and a request is granted when one of them
    holds all of it.
    """

    principals: int
    shares: tuple[Share, ...]

    def granting(self, want: int) -> int:
        """The set of principals that get all the permissions in ``want``."""
        granted = 0
        for share in self.shares:
            if share.permissions & want == want:
                granted |= share.principals
        return granted


class Reason(NamedTuple):
    """Why one principal is, or is not, granted what was asked of one object.

    ``share`` decided. ``capability`` is the one that overrode a refusal, or 0.
    """

    allowed: bool
    rule: str
    share: Share
    capability: int = 0


def passes_over_list(mode: int) -> bool:
    """Whether Linux looks at the mode alone, list or no list.

    It does when the group bits, which hold the mask, are all clear
    (``acl_permission_check`` in its file system core).
    """
    return not mode & _MASK_BITS


def deciding_list(posture: Posture) -> AccessList:
    """The entries that the kernel goes by: those of the list, or the mode's three."""
    if posture.acl is None or passes_over_list(posture.mode):
        return from_mode(posture.mode)
    return posture.acl


def classes(posture: Posture, universe: Universe) -> tuple[AccessClass, ...]:
    """Split ``universe`` into the disjoint classes of ``posture``, in the kernel's order."""
    acl = deciding_list(posture)
    # The owner's bits come from the mode: the kernel does not look at the list for the owner.
    owner = universe.with_uid(posture.uid)
    found = [_single(Entry(Tag.OWNER, posture.mode >> 6 & 7), posture.mode >> 6 & 7, owner)]
    taken = owner
    group_shares = []
    for entry in acl.entries:
        if entry.tag is Tag.NAMED_USER and entry.id is not None:
            principals = universe.with_uid(entry.id) & ~taken  # of repeated entries the first counts
            found.append(_single(entry, acl.effective(entry), principals))
            taken |= principals
        elif entry.tag in (Tag.OWNING_GROUP, Tag.NAMED_GROUP):
            gid = posture.gid if entry.id is None else entry.id
            group_shares.append(Share(entry, acl.effective(entry), universe.in_group(gid)))
        elif entry.tag is Tag.OTHER:
            shares = tuple(share._replace(principals=share.principals & ~taken) for share in group_shares)
            matched = 0
            for share in shares:
                matched |= share.principals
            found.append(AccessClass(matched, shares))
            found.append(_single(entry, entry.permissions, universe.everyone & ~taken & ~matched))
    return tuple(found)


def _single(entry: Entry, permissions: int, principals: int) -> AccessClass:
    return AccessClass(principals, (Share(entry, permissions, principals),))


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


class Decision:
    """What one posture decides for one universe."""

    def __init__(self, posture: Posture, universe: Universe) -> None:
        self.posture = posture
        self.universe = universe
        self.classes = classes(posture, universe)
        self._allowed: dict[int, int] = {}

    def allowed(self, want: int) -> int:
        """The set of principals granted all the permissions in ``want`` (1 to 7) at once."""
        found = self._allowed.get(want)
        if found is None:
            found = 0
            for access_class in self.classes:
                found |= access_class.granting(want)
            for capability in overriding_capability(self.posture, want):
                if capability:
                    found |= self.universe.holding(capability)
            self._allowed[want] = found
        return found

    def reason(self, place: int, want: int) -> Reason:
        """Why the principal at ``place`` is or is not granted ``want``."""
        bit = 1 << place
        shares = next(c.shares for c in self.classes if c.principals & bit)
        matching = [share for share in shares if share.principals & bit]
        for share in matching:
            if share.permissions & want == want:
                return Reason(True, share.rule, share)
        # refused: show the entry that comes nearest
        share = max(matching, key=lambda share: (share.permissions & want).bit_count())
        for capability in overriding_capability(self.posture, want):
            if capability and self.universe.holding(capability) & bit:
                return Reason(True, SUPERUSER, share, capability)
        return Reason(False, share.rule, share)


class Decisions:
    """The decisions for one universe, each distinct posture decided once."""

    def __init__(self, universe: Universe) -> None:
        self.universe = universe
        self._known: dict[tuple[object, ...], Decision] = {}

    def of(self, posture: Posture) -> Decision:
        """The decision for ``posture``."""
        key = (posture.kind, posture.mode & 0o777, posture.uid, posture.gid, posture.acl)
        decision = self._known.get(key)
        if decision is None:
            decision = self._known[key] = Decision(posture, self.universe)
        return decision

"""What is made in a directory later: the default list that lets who it is about, or bars them, there too.

Where there is no default list, the new one gives owner, group and other what the umask leaves: what they get in new
files stays as it is (acl(5), "Object creation and default ACLs").
"""

from fiat.core.change.wanted import wanted
from fiat.core.errors import FiatError
from fiat.core.model.accesslist import MASKED, NO_ID, AccessList, Tag, from_mode
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE, PERMISSION_BITS, READ, SETGID, WRITE
from fiat.core.model.posture import Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import Wish
from fiat.core.rules.effective import effective
from fiat.core.rules.sideeffects import Actor
from fiat.core.suggest.entryway import had, raised
from fiat.core.suggest.goal import DECIDED, Goal


def for_new(found: Object, goal: Goal, actor: Actor, umask: int) -> Wish | None:
    """The change of the default list of a directory after which ``goal`` holds of what is made there.

    None where nothing is to change, or nothing can.
    """
    posture, who = found.posture, goal.who
    if not posture.directory or found.keeps_lists is False or goal.right not in DECIDED:
        return None
    start = posture.default or from_mode(PERMISSION_BITS & ~umask)
    made = _made(posture, start)
    part = DECIDED[goal.right]
    has = had(made, who) if who.kind != "anyone-else" else start.mode() & 0o7
    new = has | part | EXECUTE if goal.gives else has & ~part
    if new == has:
        return None
    after = _with(made, who, new, actor, umask)
    return None if after is None else Wish(like=posture._replace(default=after))


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

"""What is to be known of a way besides: what it does not hold for, and what may undo it."""

from collections.abc import Iterator

from fiat.core.model import right as rights
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object
from fiat.core.model.principals import Universe
from fiat.core.rules.access import Access
from fiat.core.suggest.cost import Way
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.search import Found
from fiat.core.text import counted, joined, shell_word, visible
from fiat.core.tree.inside import inside, names_in
from fiat.core.tree.walk import open_end, route_for, walk
from fiat.core.words import naming

_MOST_NAMES = 10_000
"""In a directory with more names, other names of a file are not looked for."""


def to_know(host: Host, found: Found) -> Iterator[Finding]:
    """What holds for the best way, for what its goals are about, each thing once."""
    said: dict[Finding, None] = {}
    for goal in found.left:
        end = walk(host, goal.path).end
        if end is not None:
            said |= dict.fromkeys(_to_let(found, goal, end) if goal.gives else _to_bar(host, goal, end))
    if found.ways and not found.goal.gives and (owners := _owners_among(found.ways[0])):
        text = f"{joined(naming.user(uid, host.accounts) for uid in owners)} can give it back to themselves, as owner"
        said[Finding("owner", "odd", text)] = None
    if found.ways and found.goal.gives and found.ways[0].for_new:
        text = "a program that asks for 0600 shuts the group class of what it makes there, and with it each entry"
        said[Finding("asking-less", "plain", text)] = None
    if found.others_left:
        text = "other means were not looked at, for the objects are of very many kinds; --by MEANS asks for one"
        said[Finding("others-left", "plain", text)] = None
    yield from said


def _owners_among(way: Way) -> list[int]:
    """Those members of a group whose own files are taken from them."""
    changes = () if way.plan is None else (planned.change for planned in way.plan.changes)
    owners = {change.after.uid for change in changes if change.changes}
    return [uid for uid in way.members if uid in owners]


def _to_let(found: Found, goal: Goal, end: Object) -> Iterator[Finding]:
    yield from _elsewhere(end)
    if not found.ways or goal.below:
        return
    entries = any(wish.access.entries and path == goal.path for path, wish in found.ways[0].steps)
    if entries and end.posture.kind is Kind.FILE:
        folder = shell_word(goal.path.rpartition("/")[0] or "/")
        text = f"a program that replaces the file by a new one loses the entry: a default entry on {folder} keeps it"
        yield Finding("replaced", "plain", text, goal.path)


def _to_bar(host: Host, goal: Goal, end: Object) -> Iterator[Finding]:
    if goal.right in (rights.CHANGE_MODE, rights.CHANGE_GROUP):
        yield from _elsewhere(end)
        return
    who = naming.principal(goal.who)
    if goal.who.uid is not None and goal.who.uid == end.posture.uid:
        yield Finding("owner", "odd", f"{who} owns it and can give it back to themselves; --by owner takes that too")
    parent = walk(host, goal.path).parent
    if parent is not None and goal.right not in (rights.DELETE, rights.RENAME) and not goal.below:
        route = route_for(host, goal.path, rights.DELETE)
        if Access(Universe([goal.who]), host.settings).allowed(route, rights.DELETE):
            text = f"{who} can replace it, for names in {visible(parent.path)} are theirs to change"
            directory = f"fiat bar {shell_word(naming.word_for(goal.who))} write {shell_word(parent.path)}"
            text = f"{text}: this holds for the file that is there now; {directory} takes that as well"
            yield Finding("replaceable", "odd", text, goal.path)
    if end.status.links > 1 and not end.posture.directory:
        yield Finding("all-names", "plain", _all_names(host, end), end.path)
    yield from _elsewhere(end)
    yield Finding("open-files", "plain", "processes that have it open keep what they have until they close it")


def _all_names(host: Host, end: Object) -> str:
    """What is said of the other names of a file: those beside it are looked for."""
    others = list(_names_beside(host, end))
    such = f", such as {joined(visible(one) for one in others[:3])}" if others else ""
    left = end.status.links - 1 - len(others)
    rest = f"; {counted(left, 'more name')} of it {'is' if left == 1 else 'are'} somewhere else" if left > 0 else ""
    return f"it holds for all {end.status.links} names of it{such}{rest}"


def _names_beside(host: Host, end: Object) -> Iterator[str]:
    folder = end.path.rpartition("/")[0] or "/"
    node = open_end(host, folder)[1]
    if node is None:
        return
    try:
        names = names_in(node, [])
        if len(names) <= _MOST_NAMES:
            for child, one in inside(node, sorted(names), []):
                child.close()
                if one.path != end.path and one.status.identity.inode == end.status.identity.inode:
                    yield one.path
    finally:
        node.close()


def _elsewhere(end: Object) -> Iterator[Finding]:
    """Other mounts by which the same is reached."""
    others = end.mount.elsewhere(end.path) if end.mount is not None else []
    if others:
        where = joined(visible(path) for path in others[:3])
        text = f"the same is also at {where}: what is changed of it here is changed there, but the way there is another"
        yield Finding("other-mounts", "plain", text, end.path, len(others))

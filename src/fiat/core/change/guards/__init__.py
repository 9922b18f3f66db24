"""Guards: named reasons to refuse a plan until it is accepted by that name.

The door of this room: :data:`GUARDS`, every guard with what it is about, and
:func:`objections`, what they say to a plan. A guard that speaks of people asks
for the effects of each change; the others look at postures, at places, and at
the names that share an inode.
"""

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from fiat.core.change.guards import acting, bits, people, secrets
from fiat.core.change.guards.acting import WHO, Suspect
from fiat.core.change.guards.acting import why_refused as why_refused  # a door of this room
from fiat.core.change.steps import Change
from fiat.core.model.accesslist import Tag
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.text import several

GUARDS = {
    "lockout": "its owner, or the one who acts, can no longer traverse it",
    "everyone-writes": "everyone on this host may write there",
    "privilege": "setuid or setgid on a program, or others may write to it",
    "system-path": "the system itself lives there",
    "from-root": "something is taken away from root",
    "clears-special": "the kernel drops setuid, setgid or capabilities with it",
    "hard-links": "other names, outside what is changed, share the file",
    "unmasks": "a higher mask gives rights to entries that it cut off",
    "opens-secret": "a private key or the like would be readable by more",
    "shows-group-bits": "a list shows as group bits, which some programs refuse",
    "held-by-flags": "immutable or append-only; --through-flags changes it",
    "partly-forbidden": "the one who acts cannot change some of the paths",
    "no-way-back": "the one who acts could not put it back",
    "breaks-expectation": "an expectation of --check FILE would break",
}
"""Every guard with what it is about, in the order in which they are told."""


class ChangedPlace(NamedTuple):
    """The top of a tree, or a single object, of which ``paths`` paths change."""

    path: str
    with_tree: bool
    paths: int


def objections(
    host: Host,
    suspects: Sequence[Suspect],
    refused: Sequence[Suspect],
    changed: Iterable[ChangedPlace],
    shared: Iterable[tuple[str, int]],
    asked: frozenset[tuple[Tag, int | None]],
    files: Iterable[tuple[str, Change]] = (),
    readers_asked: secrets.Asked = frozenset(),
) -> list[Finding]:
    """Every guard that objects, with an example and how many paths there are.

    ``suspects`` would be changed, ``refused`` are what the kernel would not let
    be changed.
    ``shared`` are paths with the number of other names, outside what is
    changed, that lead to the same. ``asked`` are the entries that are asked
    for by name: what they get is no surprise. ``files`` are those of which it matters what they hold
    (:func:`fiat.core.change.guards.secrets.concerns`), ``readers_asked`` who is to read them as was asked for.
    """
    found: dict[tuple[str, str], Finding] = {}
    about: dict[tuple[str, str], dict[str, None]] = {}
    for one, who in _all(host, suspects, refused, changed, shared, asked, (files, readers_asked)):
        key = one.code, one.text
        known = found.get(key)
        found[key] = one if known is None else known._replace(paths=known.paths + one.paths)
        about.setdefault(key, {})[who] = None
    order = list(GUARDS)
    told = [one._replace(text=one.text.replace(WHO, several(about[key], show=3))) for key, one in found.items()]
    return sorted(told, key=lambda guard: (order.index(guard.code), -guard.paths, guard.path))


def _all(
    host: Host,
    suspects: Sequence[Suspect],
    refused: Sequence[Suspect],
    changed: Iterable[ChangedPlace],
    shared: Iterable[tuple[str, int]],
    asked: frozenset[tuple[Tag, int | None]],
    files: tuple[Iterable[tuple[str, Change]], secrets.Asked],
) -> Iterator[tuple[Finding, str]]:
    """What each guard objects to, and whom that is about."""
    changes = [(one.profile, one.change) for one in suspects]
    for place, code, text, who in people.objections(host, changes):
        if suspects[place].owner_asked and text.startswith(people.GIVEN_AWAY):
            continue
        yield _finding(code, text, suspects[place]), who
    for one in suspects:
        for code, text, who in bits.objections(one.change, host.accounts, asked):
            if not (one.known and code == "privilege"):
                yield _finding(code, text, one), who
    yield from ((one, "") for one in secrets.objections(host, *files))
    for where in changed:
        for text in acting.on_system_paths(where.path, with_tree=where.with_tree):
            yield Finding("system-path", "danger", text, where.path, where.paths), ""
    for path, names in shared:
        text = f"{names:,} other {'name' if names == 1 else 'names'} elsewhere would change with it"
        yield Finding("hard-links", "danger", text, path), ""
    paths = sum(one.paths for one in (*suspects, *refused))
    yield from ((one, "") for one in acting.held_by_flags([one for one in refused if one.held], paths))
    if suspects:
        actor = host.actor()
        forbidden = [one for one in refused if not one.held]
        yield from ((one, "") for one in acting.partly_forbidden(forbidden, paths, actor, host.accounts))
        yield from acting.no_way_back(suspects, actor, host.accounts)


def _finding(code: str, text: str, suspect: Suspect) -> Finding:
    return Finding(code, "danger", text, suspect.example, suspect.paths)

"""Guards about what files hold: a key that more people could read, and one that programs would no longer take."""

import posixpath
from collections.abc import Iterable, Iterator
from contextlib import suppress

from fiat.core.change.steps import Change
from fiat.core.model.accesslist import AccessList, Tag
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.mode import octal
from fiat.core.model.posture import Kind, Posture
from fiat.core.rules.effective import effective
from fiat.core.rules.secretkinds import LARGEST, PLAIN_KEY, SEALED_KEY, START, STORE, goes_on, kind_of
from fiat.core.tree.walk import Handles

Asked = frozenset[tuple[Tag, int | None]]
"""The entries that are asked for by name: what they get is no surprise."""

LOOKED_AT = 2_000
"""Files at most that are read for it; of more than these the names alone are looked at."""

_READ = 4
_INSISTED = (PLAIN_KEY, SEALED_KEY, STORE)
_NAMES = (".netrc", ".pgpass", ".my.cnf", ".esmtprc", ".fetchmailrc")
"""Files that the programs which read them refuse where others could read them too."""

_KEYS = (".key", "_key")
_ENDS = (*_NAMES, *_KEYS)


def concerns(change: Change, asked: Asked) -> bool:
    """Whether it may matter what a file that is changed so holds."""
    before, after = change.before, change.after
    if before.kind is not Kind.FILE or not change.changes:
        return False
    return _opens(before, after, asked) or shows_group_bits(before, after)


def shows_group_bits(before: Posture, after: Posture) -> bool:
    """Whether a list makes group bits appear on a private file: the middle letters show the mask."""
    listed = after.kind is Kind.FILE and before.acl is None and after.acl is not None
    return listed and not before.mode & 0o077 and bool(after.mode & 0o070)


def objections(host: Host, changed: Iterable[tuple[str, Change]], asked: Asked) -> Iterator[Finding]:
    """The guards that object to changes of single files, each with its path, by what the files hold."""
    handles = Handles(host)
    known: dict[int, tuple[bool, bool, Change]] = {}  # of most files the change is the very same
    try:
        for count, (path, change) in enumerate(changed):
            kind = kind_at(handles, path) if count < LOOKED_AT else _by_name(path)
            if kind is None and not path.endswith(_NAMES):
                continue
            before, after = change.before, change.after
            if id(change) not in known:
                known[id(change)] = _opens(before, after, asked), shows_group_bits(before, after), change
            opens, shows, _ = known[id(change)]
            if kind is not None and opens:
                yield Finding("opens-secret", "danger", f"it holds {kind}, and more people could read it", path)
            if shows and (kind in _INSISTED or posixpath.basename(path) in _NAMES):
                shown = f"{octal(before.mode)} becomes {octal(after.mode)}"
                text = (
                    f"{shown}, for the middle letters show the mask: programs that insist on a private file refuse it"
                )
                yield Finding("shows-group-bits", "danger", text, path)
    finally:
        handles.close()


def kind_at(handles: Handles, path: str) -> str | None:
    """What kind of secret is at ``path``, by its first bytes, or where these are not known by its name."""
    with suppress(OSError):
        node = handles.open(path)
        try:
            start = node.beginning(START)
            if start is not None and len(start) == START and goes_on(start):
                start = node.beginning(LARGEST)
            return _by_name(path) if start is None else kind_of(start, path)
        finally:
            node.close()
    return _by_name(path)


def _by_name(path: str) -> str | None:
    if not path.endswith(_ENDS) and "/id_" not in path:  # as most are
        return None
    name = posixpath.basename(path)
    if name in _NAMES:
        return "what opens a service"
    key = name.endswith(_KEYS) or (name.startswith("id_") and not name.endswith(".pub"))
    return PLAIN_KEY if key else None


def _opens(before: Posture, after: Posture, asked: Asked) -> bool:
    """Whether the group, others or somebody whom nobody asked for by name could read who could not."""
    had, has = _readers(before), _readers(after)
    if before.gid != after.gid:
        had -= {(Tag.OWNING_GROUP, None)}
    return bool(has - had - asked)


def _readers(posture: Posture) -> set[tuple[Tag, int | None]]:
    """The classes beside the owner whose entry gives reading."""
    acl: AccessList | None = posture.acl
    if acl is None:
        bits = ((Tag.OWNING_GROUP, posture.mode >> 3), (Tag.OTHER, posture.mode))
        return {(tag, None) for tag, mode in bits if mode & _READ}
    mask = acl.mask
    return {
        (entry.tag, entry.id)
        for entry in acl.entries
        if entry.tag not in (Tag.OWNER, Tag.MASK) and effective(entry, mask) & _READ
    }

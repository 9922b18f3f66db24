"""What everyone may write to. Source: inode(7), "The file type and mode", on other and on the sticky bit."""

from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding, by_use
from fiat.core.model import right as rights
from fiat.core.model.mode import STICKY
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Kind
from fiat.core.model.wish import Wish
from fiat.core.tree.distinct import each_once

_NO_WRITE = Wish(mode=parse_change("o-w"))
_FILES = Mend(_NO_WRITE, chosen=("--only", "files", "--with", "o+w"))
_DIRECTORIES = Mend(_NO_WRITE, chosen=("--only", "dirs", "--with", "o+w", "--without", "sticky"))


def _files(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, _ = audited.columns
    places = np.flatnonzero(audited.files & (mode & 0o002 != 0))
    yield from by_use(audited, places, rights.WRITE, "danger", "everyone may write to it", _FILES)


def _devices(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, _ = audited.columns
    blocks = audited.by_rest(lambda rest: rest.posture.kind is Kind.BLOCK)
    places = np.flatnonzero(blocks & (mode & 0o006 != 0))
    text = "everyone may open this disk, past every file's own permissions"
    mend = Mend(Wish(mode=parse_change("o-rw")))
    yield from by_use(audited, places, rights.READ, "danger", text, mend)


def _directories(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, _ = audited.columns
    places = np.flatnonzero(audited.directories & (mode & 0o003 == 0o003) & (mode & STICKY == 0))
    text = "everyone may add names, and remove or replace what others have there"
    yield from by_use(audited, places, rights.WRITE, "danger", text, _DIRECTORIES)


def _sticky(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, uid, _ = audited.columns
    shared = audited.directories & (mode & 0o003 == 0o003) & (mode & STICKY != 0)
    held = "only the owner of a name removes it; others can still fill it, and take a name before it is used"
    yield from by_use(audited, np.flatnonzero(shared & (uid == 0)), rights.WRITE, "plain", f"sticky: {held}")
    for owner in each_once(uid[shared & (uid != 0)]):
        text = "sticky, but it belongs to an ordinary user, who can still remove and replace what anybody has there"
        mend = Mend(Wish(uid=0))
        yield RuleFinding(
            "plain", text, np.flatnonzero(shared & (uid == owner)), audited.universe.with_uid(owner), mend
        )


RULES = (
    Rule(
        "file-open-to-all",
        "a file that everyone may write to",
        "whatever reads it, or runs it, trusts whoever was there last",
        _files,
    ),
    Rule(
        "disk-open-to-all",
        "a disk that everyone may open",
        "who opens a disk reads and writes every file on it, whatever their permissions say",
        _devices,
    ),
    Rule(
        "directory-open-to-all",
        "a directory in which everyone may remove and replace",
        "what others keep there can be taken away and replaced by something of the same name",
        _directories,
    ),
    Rule(
        "shared-directory",
        "a sticky directory that is open to everyone",
        "what a program makes there under a name that can be foreseen, somebody else may have made before it",
        _sticky,
    ),
)

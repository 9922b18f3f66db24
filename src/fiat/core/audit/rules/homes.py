"""Homes, the files that a login reads, and where root looks for programs. Source: passwd(5), login.defs(5)."""

import posixpath
from collections.abc import Iterator

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.replacing import footholds, mend_of, without
from fiat.core.model import right as rights
from fiat.core.model.accounts import User
from fiat.core.model.mode import EXECUTE_BITS, WRITE
from fiat.core.model.modechange import parse_change
from fiat.core.model.wish import Wish
from fiat.core.text import visible
from fiat.core.tree.walk import USUAL_FOLDERS
from fiat.core.words import naming

_STARTUP = (
    ".profile .bash_profile .bash_login .bash_logout .bashrc .zshrc .zshenv .zprofile .zlogin .kshrc .login .cshrc "
    ".xprofile .xsession .xinitrc .forward .pam_environment .ssh .ssh/authorized_keys .ssh/rc .ssh/config "
    ".ssh/environment .config/autostart .config/systemd/user"
).split()
"""What a login, a shell or a session reads in a home directory."""


def _homes(audited: AuditedTree) -> Iterator[tuple[User, int]]:
    """Each person's home directory in the tree, and root's, that belongs to them."""
    people = [one for one in audited.accounts.users if one.uid == 0 or one.uid >= audited.accounts.first_person]
    homes = {one.home.rstrip("/"): one for one in reversed(people) if one.home.count("/") > 1 or one.uid == 0}
    places = audited.places_of([home for home in homes if home])
    _, uid, _ = audited.columns
    for home, place in sorted(places.items()):
        if audited.directories[place] and uid[place] == homes[home].uid:
            yield homes[home], place


def _open(audited: AuditedTree) -> Iterator[RuleFinding]:
    for account, place in _homes(audited):
        one = np.array([place])
        posture = audited.object(place).posture
        for people, _ in audited.by_others(one, rights.WRITE):
            if people:
                mend = without(audited.universe, posture, people, WRITE)
                text = f"others may replace what is in the home directory of {visible(account.name)}"
                yield RuleFinding("danger", text, one, people, mend)
        for people, _ in audited.by_others(one, rights.READ):
            if people & audited.universe.of_kind("anyone-else"):
                mend = Mend(Wish(mode=parse_change("o-rwx")))
                text = f"everyone may look into the home directory of {visible(account.name)}"
                yield RuleFinding("plain", text, one, people, mend)


def _startup(audited: AuditedTree) -> Iterator[RuleFinding]:
    for account, home in _homes(audited):
        top = audited.path(home)
        places = audited.places_of([f"{top}/{name}" for name in _STARTUP])
        trusted = audited.root | audited.universe.with_uid(account.uid)
        for path, place in places.items():
            for hold in footholds(audited, path, trusted):
                if hold.object.path == top or not hold.object.path.startswith(f"{top}/"):
                    continue  # that is said of the home directory, or of what it lies in
                text = f"{visible(account.name)}'s login reads it, and {hold.words(audited)}"
                yield RuleFinding("danger", text, np.array([place]), hold.people, mend_of(audited, hold))


def _foreign(audited: AuditedTree) -> Iterator[RuleFinding]:
    _, uid, _ = audited.columns
    for account, home in _homes(audited):
        inside = audited.below(home)
        theirs = inside[(uid[inside] != account.uid) & (uid[inside] != 0)]
        for owner in np.unique(uid[theirs]).tolist():
            name = naming.user(owner, audited.accounts)
            text = f"it belongs to {name}, and lies in the home directory of {visible(account.name)}"
            mend = Mend(Wish(uid=account.uid))
            people = audited.universe.with_uid(owner)
            yield RuleFinding("odd", text, theirs[uid[theirs] == owner], people, mend)


def _path_of_root(audited: AuditedTree) -> Iterator[RuleFinding]:
    listed = (audited.evidence.login() or {}).get("ENV_SUPATH", "").removeprefix("PATH=")
    folders = [one for one in listed.split(":") if one.startswith("/")] or list(USUAL_FOLDERS)
    said: set[tuple[str, int, str]] = set()
    for folder in folders:
        end = audited.walk(folder).end
        if end is None or not end.posture.directory:
            continue
        place = audited.places_of([end.path]).get(end.path)
        if place is None:
            continue
        for hold in footholds(audited, end.path, audited.root):
            key = hold.object.path, hold.people, hold.how
            if key in said:
                continue
            said.add(key)
            text = f"root looks for programs in {visible(folder)}, and {hold.words(audited)}"
            yield RuleFinding("danger", text, np.array([place]), hold.people, mend_of(audited, hold))
        yield from _programs(audited, place)


def _programs(audited: AuditedTree, folder: int) -> Iterator[RuleFinding]:
    """Programs in a directory that root looks into, which others own or may write to."""
    mode, uid, _ = audited.columns
    inside = audited.files & (audited.survey.parent == folder) & (mode & EXECUTE_BITS != 0)
    open_to_all = mode & 0o002 != 0  # that is told elsewhere
    for people, some in audited.by_others(np.flatnonzero(inside & ~open_to_all), rights.WRITE):
        for one in some.tolist() if people else ():
            found = audited.object(one)
            mend = without(audited.universe, found.posture, people, WRITE)
            text = f"root finds {visible(posixpath.basename(found.path))} here, and others may write to it"
            yield RuleFinding("danger", text, np.array([one]), people, mend)
    for one in np.flatnonzero(inside & (uid != 0)).tolist():
        found = audited.object(one)
        owner = naming.user(found.posture.uid, audited.accounts)
        text = f"root finds {visible(posixpath.basename(found.path))} here, and it belongs to {owner}"
        people = audited.universe.with_uid(found.posture.uid)
        yield RuleFinding("danger", text, np.array([one]), people, Mend(Wish(uid=0)))


RULES = (
    Rule(
        "home-open",
        "a home directory that is open to others",
        "what a login reads, and the keys it logs in with, lie in there",
        _open,
    ),
    Rule(
        "startup-writable",
        "a file that a login reads, and others may write to",
        "what is in it is done by whoever logs in next",
        _startup,
    ),
    Rule(
        "foreign-in-home",
        "somebody else's file in a home directory",
        "its owner can change it at any time, and whose home it is cannot",
        _foreign,
    ),
    Rule(
        "path-of-root",
        "where root looks for programs, and others may write",
        "root runs by name what lies there",
        _path_of_root,
    ),
)

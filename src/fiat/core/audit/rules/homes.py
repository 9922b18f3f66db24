"""Homes, the files that a login reads, and where root looks for programs. Source: passwd(5), login.defs(5)."""

import posixpath
from collections.abc import Iterator

import numpy as np

from fiat.core.audit.ground import AuditedTree, Mend, Rule, RuleFinding
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


def _homes(ground: AuditedTree) -> Iterator[tuple[User, int]]:
    """Each person's home directory in the tree, and root's, that belongs to them."""
    people = [one for one in ground.accounts.users if one.uid == 0 or one.uid >= ground.accounts.first_person]
    homes = {one.home.rstrip("/"): one for one in reversed(people) if one.home.count("/") > 1 or one.uid == 0}
    places = ground.places_of([home for home in homes if home])
    _, uid, _ = ground.columns
    for home, place in sorted(places.items()):
        if ground.directories[place] and uid[place] == homes[home].uid:
            yield homes[home], place


def _open(ground: AuditedTree) -> Iterator[RuleFinding]:
    for account, place in _homes(ground):
        one = np.array([place])
        posture = ground.object(place).posture
        for people, _ in ground.by_others(one, rights.WRITE):
            if people:
                mend = without(ground.universe, posture, people, WRITE)
                text = f"others may replace what is in the home directory of {visible(account.name)}"
                yield RuleFinding("danger", text, one, people, mend)
        for people, _ in ground.by_others(one, rights.READ):
            if people & ground.universe.of_kind("anyone-else"):
                mend = Mend(Wish(mode=parse_change("o-rwx")))
                text = f"everyone may look into the home directory of {visible(account.name)}"
                yield RuleFinding("plain", text, one, people, mend)


def _startup(ground: AuditedTree) -> Iterator[RuleFinding]:
    for account, home in _homes(ground):
        top = ground.path(home)
        places = ground.places_of([f"{top}/{name}" for name in _STARTUP])
        trusted = ground.root | ground.universe.with_uid(account.uid)
        for path, place in places.items():
            for hold in footholds(ground, path, trusted):
                if hold.object.path == top or not hold.object.path.startswith(f"{top}/"):
                    continue  # that is said of the home directory, or of what it lies in
                text = f"{visible(account.name)}'s login reads it, and {hold.words(ground)}"
                yield RuleFinding("danger", text, np.array([place]), hold.people, mend_of(ground, hold))


def _foreign(ground: AuditedTree) -> Iterator[RuleFinding]:
    _, uid, _ = ground.columns
    for account, home in _homes(ground):
        inside = ground.below(home)
        theirs = inside[(uid[inside] != account.uid) & (uid[inside] != 0)]
        for owner in np.unique(uid[theirs]).tolist():
            name = naming.user(owner, ground.accounts)
            text = f"it belongs to {name}, and lies in the home directory of {visible(account.name)}"
            mend = Mend(Wish(uid=account.uid))
            people = ground.universe.with_uid(owner)
            yield RuleFinding("odd", text, theirs[uid[theirs] == owner], people, mend)


def _path_of_root(ground: AuditedTree) -> Iterator[RuleFinding]:
    listed = (ground.evidence.login() or {}).get("ENV_SUPATH", "").removeprefix("PATH=")
    folders = [one for one in listed.split(":") if one.startswith("/")] or list(USUAL_FOLDERS)
    said: set[tuple[str, int, str]] = set()
    for folder in folders:
        end = ground.walk(folder).end
        if end is None or not end.posture.directory:
            continue
        place = ground.places_of([end.path]).get(end.path)
        if place is None:
            continue
        for hold in footholds(ground, end.path, ground.root):
            key = hold.object.path, hold.people, hold.how
            if key in said:
                continue
            said.add(key)
            text = f"root looks for programs in {visible(folder)}, and {hold.words(ground)}"
            yield RuleFinding("danger", text, np.array([place]), hold.people, mend_of(ground, hold))
        yield from _programs(ground, place)


def _programs(ground: AuditedTree, folder: int) -> Iterator[RuleFinding]:
    """Programs in a directory that root looks into, which others own or may write to."""
    mode, uid, _ = ground.columns
    inside = ground.files & (ground.survey.parent == folder) & (mode & EXECUTE_BITS != 0)
    open_to_all = mode & 0o002 != 0  # that is told elsewhere
    for people, some in ground.by_others(np.flatnonzero(inside & ~open_to_all), rights.WRITE):
        for one in some.tolist() if people else ():
            found = ground.object(one)
            mend = without(ground.universe, found.posture, people, WRITE)
            text = f"root finds {visible(posixpath.basename(found.path))} here, and others may write to it"
            yield RuleFinding("danger", text, np.array([one]), people, mend)
    for one in np.flatnonzero(inside & (uid != 0)).tolist():
        found = ground.object(one)
        owner = naming.user(found.posture.uid, ground.accounts)
        text = f"root finds {visible(posixpath.basename(found.path))} here, and it belongs to {owner}"
        people = ground.universe.with_uid(found.posture.uid)
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

"""Homes, the files that a login reads, and where root looks for programs. Source: passwd(5), login.defs(5)."""

import posixpath
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.evidence import PATH_OF_ROOT
from fiat.core.audit.replacing import footholds, mend_of, without
from fiat.core.model import right as rights
from fiat.core.model.accounts import User
from fiat.core.model.mode import EXECUTE_BITS, WRITE
from fiat.core.model.modechange import parse_change
from fiat.core.model.route import lies_under
from fiat.core.model.wish import Wish
from fiat.core.text import visible
from fiat.core.tree.distinct import each_once
from fiat.core.tree.walk import USUAL_FOLDERS
from fiat.core.words import naming

_STARTUP = (
    ".profile .bash_profile .bash_login .bash_logout .bashrc .zshrc .zshenv .zprofile .zlogin .kshrc .login .cshrc "
    ".xprofile .xsession .xinitrc .forward .pam_environment .ssh .ssh/authorized_keys .ssh/rc .ssh/config "
    ".ssh/environment .config/autostart .config/systemd/user"
).split()
"""What a login, a shell or a session reads in a home directory."""


class _Home(NamedTuple):
    """The home directory of an account, where it is once symlinks are followed: the account's, or somebody else's."""

    account: User
    path: str
    place: int
    owner: int

    @property
    def own(self) -> bool:
        return self.owner == self.account.uid


def _homes(audited: AuditedTree) -> Iterator[_Home]:
    """Each home directory in the tree, of people, of root, and of whoever has keys to log in with."""
    ends: dict[str, list[User]] = {}
    for one in audited.accounts.users:
        if not one.home.startswith("/") or (one.home.rstrip("/").count("/") < 2 and one.uid != 0):
            continue
        end = audited.walk(one.home).end
        if end is not None and end.posture.directory and end.path != "/":
            ends.setdefault(end.path, []).append(one)
    _, uid, _ = audited.columns
    for path, place in sorted(audited.places_of(list(ends)).items()):
        owner = int(uid[place])
        for account in sorted(ends[path], key=lambda one: one.uid != owner)[:1]:
            if _logs_in(audited, account, path):
                yield _Home(account, path, place, owner)


def _logs_in(audited: AuditedTree, account: User, path: str) -> bool:
    """Whether somebody works from there: a person or root, or whose keys open a tunnel even without a shell."""
    person = account.uid >= audited.accounts.first_person and account.name not in audited.accounts.services
    if account.uid == 0 or person:
        return True
    return bool(audited.places_of([f"{path}/.ssh/authorized_keys"]))


def _open(audited: AuditedTree) -> Iterator[RuleFinding]:
    for home in _homes(audited):
        one, name = np.array([home.place]), visible(home.account.name)
        posture = audited.object(home.place).posture
        if not home.own and home.owner != 0:
            text = f"it is the home directory of {name}, and belongs to {naming.user(home.owner, audited.accounts)}"
            people = audited.universe.with_uid(home.owner) & audited.allowed(home.path, rights.CHANGE_MODE)
            if people:
                yield RuleFinding("danger", text, one, people, Mend(Wish(uid=home.account.uid)))
        mine = audited.universe.with_uid(home.account.uid)
        for people, _ in audited.by_others(one, rights.WRITE):
            if people & ~mine:
                mend = without(audited.universe, posture, people & ~mine, WRITE)
                text = f"others may replace what is in the home directory of {name}"
                yield RuleFinding("danger", text, one, people & ~mine, mend)
        for people, _ in audited.by_others(one, rights.READ):
            if people & audited.universe.of_kind("anyone-else"):
                mend = Mend(Wish(mode=parse_change("o-rwx")))
                text = f"everyone may look into the home directory of {name}"
                yield RuleFinding("plain", text, one, people, mend)


def _startup(audited: AuditedTree) -> Iterator[RuleFinding]:
    for home in _homes(audited):
        places = audited.places_of([f"{home.path}/{name}" for name in _STARTUP])
        trusted = audited.root | audited.universe.with_uid(home.account.uid)
        for path, place in places.items():
            for hold in footholds(audited, path, trusted):
                if lies_under(home.path, hold.object.path):
                    continue  # that is said of the home directory, or of what it lies in
                text = f"{visible(home.account.name)}'s login reads it, and {hold.words(audited)}"
                mend = mend_of(audited, hold, home.account.uid)
                yield RuleFinding("danger", text, np.array([place]), hold.people, mend)


def _foreign(audited: AuditedTree) -> Iterator[RuleFinding]:
    _, uid, _ = audited.columns
    for home in _homes(audited):
        account, inside = home.account, audited.below(home.place)
        if not home.own:
            continue
        theirs = inside[(uid[inside] != account.uid) & (uid[inside] != 0)]
        for owner in each_once(uid[theirs]):
            name = naming.user(owner, audited.accounts)
            text = f"it belongs to {name}, and lies in the home directory of {visible(account.name)}"
            mend = Mend(Wish(uid=account.uid))
            people = audited.universe.with_uid(owner)
            yield RuleFinding("odd", text, theirs[uid[theirs] == owner], people, mend)


def _path_of_root(audited: AuditedTree) -> Iterator[RuleFinding]:
    login = audited.evidence.login() or {}
    listed = login.get(PATH_OF_ROOT) or login.get("ENV_SUPATH", "").removeprefix("PATH=")
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

"""Directories where new files will not be what the directory's own pattern suggests.

Source: inode(7), on setgid; acl(5), "OBJECT CREATION AND DEFAULT ACLs"; umask(2).
"""

from collections.abc import Iterator, Mapping
from contextlib import suppress

import numpy as np

from fiat.core.audit.auditedtree import AuditedTree, Mend, Rule, RuleFinding
from fiat.core.audit.evidence import umask_of
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.mode import SETGID
from fiat.core.model.modechange import parse_change
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.tree.distinct import each_once
from fiat.core.words import naming


def _inside(audited: AuditedTree) -> "np.ndarray[tuple[int], np.dtype[np.bool_]]":
    """For each entry whether it is a directory in a directory of the tree."""
    return audited.directories & (audited.survey.parent >= 0)


def _setgid_lost(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, gid = audited.columns
    above = np.maximum(audited.survey.parent, 0)
    lost = _inside(audited) & (mode & SETGID == 0) & (mode[above] & SETGID != 0) & (gid == gid[above])
    lost &= mode & 0o020 != 0
    mend = Mend(Wish(mode=parse_change("g+s")))
    for group in each_once(gid[lost]):
        name = naming.group(group, audited.accounts)
        text = f"the directory above hands group {name} on, and this one does not: what is made here gets its maker's"
        yield RuleFinding("odd", text, np.flatnonzero(lost & (gid == group)), 0, mend)


def _default_differs(audited: AuditedTree) -> Iterator[RuleFinding]:
    profiles = audited.survey.profiles
    numbers: dict[AccessList | None, int] = {None: 0}
    lists: list[AccessList | None] = [None]

    def number(acl: AccessList | None) -> int:
        found = numbers.setdefault(acl, len(lists))
        if found == len(lists):
            lists.append(acl)
        return found

    default = profiles.by_rest(lambda rest: number(rest.posture.default), np.int32)[audited.survey.profile]
    above = default[np.maximum(audited.survey.parent, 0)]
    differs = np.flatnonzero(_inside(audited) & (above != 0) & (default != above))
    for had, has in dict.fromkeys(zip(above[differs].tolist(), default[differs].tolist(), strict=True)):
        places = differs[(above[differs] == had) & (default[differs] == has)]
        what = "has no default list" if not has else "has another default list"
        text = f"it {what}, and the directory above has one: what is made here is not shared as it is there"
        wanted = lists[had]
        assert wanted is not None
        entries = tuple(EntryWish(entry) for entry in wanted.entries if entry.tag is not Tag.MASK)
        wish = Wish(default=ListWish(entries, mask=wanted.mask, drop=bool(has)))
        yield RuleFinding("odd", text, places, 0, Mend(wish))


def _umask_defeats(audited: AuditedTree) -> Iterator[RuleFinding]:
    mode, _, gid = audited.columns
    bare = audited.by_rest(lambda rest: rest.posture.default is None)
    shared = audited.directories & bare & (mode & SETGID != 0) & (mode & 0o030 == 0o030)
    for group in each_once(gid[shared]):
        if audited.accounts.member_count(group) < 2:
            continue
        masks = _login_umasks(audited, group)
        defeated = {name: mask for name, mask in masks.items() if mask & 0o020}
        if not defeated:
            continue
        words = [f"user:{name}" for name in sorted(defeated)]
        whose = "each of them" if len(defeated) == len(masks) else naming.several_words(words, audited.accounts, 3)
        mask = next(iter(defeated.values()))
        team = naming.group(group, audited.accounts)
        text = f"group {team} works here together, and a login's umask {mask:04o} takes w from what {whose} makes"
        entry = Entry(Tag.OWNING_GROUP, 7)
        mend = Mend(Wish(default=ListWish((EntryWish(entry),))))
        yield RuleFinding("odd", text, np.flatnonzero(shared & (gid == group)), 0, mend)


def _login_umasks(audited: AuditedTree, group: int) -> dict[str, int]:
    """The umask of the login of each member of a group, as far as it is known."""
    login = audited.evidence.login() or {}
    found = {}
    for member in dict.fromkeys((*audited.accounts.primary_members(group), *audited.accounts.listed_members(group))):
        word = login.get(umask_of(member.name)) or _by_definitions(login)
        with suppress(ValueError):
            found[member.name] = int(word, 8)
    return found


def _by_definitions(login: Mapping[str, str]) -> str:
    """What login.defs(5) gives everybody; nothing where it gives more to whoever has a group of their own."""
    return "" if login.get("USERGROUPS_ENAB", "").lower() == "yes" else login.get("UMASK", "")


RULES = (
    Rule(
        "setgid-lost",
        "a directory that does not hand its group on, as the one above does",
        "what is made here belongs to its maker's group, and the others of the team cannot use it",
        _setgid_lost,
    ),
    Rule(
        "default-differs",
        "a directory with another default list than the one above",
        "what is made here is open to others than what is made beside it",
        _default_differs,
    ),
    Rule(
        "umask-defeats-team",
        "a directory of a team, in which the umask takes its rights away",
        "each can read what the others made, and none of them can change it",
        _umask_defeats,
    ),
)

"""Trees that look like real ones: most directories alike, few owners, scripts, hard links, sticky and shared folders.

An *estate* is one such tree with the people who use it. What they may do is
asked of the kernel for every one of them, on every path, for every right.
"""

import itertools
import os
import random
import stat
from collections import Counter
from collections.abc import Container
from contextlib import suppress
from pathlib import Path

from fiat.core.model import listbytes
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.model.principals import Principal
from fiat.core.words.entries import parse_list
from support.kernel import STRANGER, tries
from support.worlds import SCRIPT

USERS = {"keeper": 21001, "surveyor": 21002, "steward": 21003, "auditor": 21004, "tidefeed": 21005}
GROUPS = {"watch": 31001, "survey": 31002, "stewards": 31003, "empty": 31004}
MEMBERS = {
    "watch": ("surveyor", "auditor"),
    "survey": ("surveyor", "steward"),
    "stewards": ("steward",),
    "empty": (),
}
PRIMARY = {"keeper": "watch", "surveyor": "survey", "steward": "stewards", "auditor": "watch", "tidefeed": "survey"}

_DIRECTORIES = (0o755, 0o755, 0o755, 0o750, 0o775, 0o2775, 0o777, 0o711, 0o700)
_FILES = (0o644, 0o644, 0o644, 0o640, 0o664, 0o600)
_SCRIPTS = (0o755, 0o755, 0o744, 0o711, 0o600, 0o750)
_MODES = """
    750 755 700 770 0777 1777 0000 711 640 644 o= o+w o+rX g-w g+ws +t -t 0755 go-rx u+x,go-x a+X a+x o-x u-s u+s,g-s
""".split()
_LISTS = (
    "u::rwx,u:21004:r-x,g::r-x,m::r-x,o::---",
    "u::rwx,g::rwx,g:31002:rwx,m::rwx,o::r-x",
    "u::rwx,u:21003:rwx,g::r-x,g:31001:r-x,m::r--,o::---",
)

_GUARDS = "lockout everyone-writes privilege system-path from-root clears-special hard-links unmasks".split()
ACCEPT = [word for guard in _GUARDS for word in ("--accept", guard)]
"""The options of a change that is made whatever any guard says."""

Having = frozenset[tuple[str, str, str]]
"""Who has which right on which path."""


def people() -> dict[str, Principal]:
    """Everyone who is asked, by the word that Fiat has for them: users, members of one group alone, anyone else."""
    found = {"root": Principal("user", "root", 0, frozenset((0,)))}
    for name, uid in USERS.items():
        gids = {GROUPS[PRIMARY[name]], *(GROUPS[group] for group, members in MEMBERS.items() if name in members)}
        found[name] = Principal("user", name, uid, frozenset(gids))
    for name, gid in GROUPS.items():
        found[f"group:{name}"] = Principal("user", None, STRANGER, frozenset((gid,)))
    found["group:root"] = Principal("user", None, STRANGER, frozenset((0,)))
    found["anyone-else"] = Principal("user", None, STRANGER, frozenset())
    return found


def write_accounts(folder: str) -> None:
    """The files passwd and group for the people of every estate."""
    users = ["root:x:0:0::/:/bin/sh"]
    users += [f"{name}:x:{uid}:{GROUPS[PRIMARY[name]]}::/:/bin/sh" for name, uid in USERS.items()]
    groups = ["root:x:0:"] + [f"{name}:x:{gid}:{','.join(MEMBERS[name])}" for name, gid in GROUPS.items()]
    (Path(folder) / "passwd").write_text("\n".join(users) + "\n")
    (Path(folder) / "group").write_text("\n".join(groups) + "\n")


class Estate:
    """One tree at ``top``; the same one for the same seed."""

    def __init__(self, top: str, seed: int) -> None:
        self.dice = random.Random(seed)
        self.top = os.path.join(top, f"e{seed}")
        self.directories: list[str] = []
        self.files: list[str] = []
        self._directory(self.top, self._somebody(), self.dice.choice(_DIRECTORIES), None, depth=0)
        for _ in range(self.dice.randint(1, 3)):  # second names, mostly elsewhere in the tree
            with suppress(FileExistsError):
                name = os.path.join(self.dice.choice(self.directories), f"link{self.dice.randrange(100)}")
                os.link(self.dice.choice(self.files), name)
                self.files.append(name)
        os.symlink(self.dice.choice(self.files), f"{self.top}/current")
        self.links = [f"{self.top}/current"]

    def _somebody(self) -> tuple[int, int]:
        return self.dice.choice((0, 0, *USERS.values())), self.dice.choice((0, *GROUPS.values()))

    def _directory(self, path: str, owner: tuple[int, int], mode: int, acl: str | None, depth: int) -> None:
        """One directory, its files, and those in it, which are mostly just like it."""
        dice = self.dice
        os.mkdir(path)
        self.directories.append(path)
        style = dice.choice(_FILES)
        for number in range(dice.randint(1, 4)):
            whose = self._somebody() if mode & 0o1000 or dice.random() < 0.1 else owner
            if dice.random() < 0.3:
                interpreter = dice.choice(("/bin/sh", "/bin/sh", "/bin/sh", *self._scripts()))
                self._file(f"{path}/run{number}", whose, dice.choice(_SCRIPTS), SCRIPT % interpreter)
            else:
                self._file(f"{path}/data{number}", whose, style, "")
        for number in range(dice.randint(0, 3) if depth < 3 else 0):
            one, bits, entries = owner, mode, acl
            if dice.random() < 0.3:
                one, bits = self._somebody(), dice.choice((*_DIRECTORIES, 0o1777, 0o1775))
                entries = dice.choice((None, None, *_LISTS))
            self._directory(f"{path}/d{number}", one, bits, entries, depth + 1)
        os.chown(path, *owner)
        os.chmod(path, mode)
        if acl is not None:
            os.setxattr(path, ACCESS_XATTR, listbytes.pack(parse_list(acl, int, int)))
            if dice.random() < 0.5:
                os.setxattr(path, DEFAULT_XATTR, listbytes.pack(parse_list(acl, int, int)))

    def _scripts(self) -> list[str]:
        return [path for path in self.files if os.path.basename(path).startswith("run")]

    def _file(self, path: str, owner: tuple[int, int], mode: int, text: str) -> None:
        with open(path, "w") as file:
            file.write(text)
        os.chown(path, *owner)
        if self.dice.random() < 0.1:
            mode |= self.dice.choice((0o4000, 0o2000))
        os.chmod(path, mode)
        self.files.append(path)

    @property
    def paths(self) -> list[str]:
        """Every path in it."""
        return [*self.directories, *self.files, *self.links]

    def plan(self) -> list[str]:
        """The words of a change such as people make, after ``fiat set``."""
        dice = self.dice
        where = dice.choice((self.directories, self.directories, self.directories, self.files))
        targets = [dice.choice(where)]
        if dice.random() < 0.15:
            targets.append(dice.choice((*self.directories, *self.files)))
        words = list(dict.fromkeys(targets))
        tree = os.path.isdir(words[0]) and dice.random() < 0.5
        if tree:
            words.append(dice.choice(("--below", "--below", "--contents")))
            words += dice.choice(([], [], [], ["--only", "dirs"], ["--only", "files"], ["--name", "data*"]))
        return words + self._change(tree)

    def _change(self, tree: bool) -> list[str]:
        dice = self.dice
        user, group = dice.choice(list(USERS)), dice.choice(list(GROUPS))
        mode = dice.choice(_MODES)
        return dice.choice(
            (
                ["--mode", mode],
                ["--mode", mode],
                ["--mode", mode],
                ["--mode", mode],
                ["--dir-mode", "2750", "--file-mode", "640"] if tree else ["--mode", "2750"],
                ["--owner", user],
                ["--group", group],
                ["--owner", user, "--group", group],
                ["--entry", f"user:{user}:rwX"],
                ["--entry", f"group:{group}:rX"],
                ["--entry", f"user:{user}:---"],
                ["--default-entry", f"group:{group}:rX"],
                ["--mask", dice.choice(("r-x", "rwx", "---", "r--"))],
                ["--no-list"],
                ["--like", dice.choice(self.directories)],
            )
        )


RIGHTS_OF = {
    stat.S_IFDIR: ("read", "write", "traverse", "list", "create", "delete", "rename"),
    stat.S_IFREG: ("read", "write", "execute", "append", "create", "delete", "rename"),
    stat.S_IFLNK: ("delete", "rename"),
}
"""The rights of each type of file that the kernel is asked about, changes of its posture apart."""

_CHANGES = ("change-mode", "change-owner", "change-group")
_HOW = {
    (stat.S_IFDIR, "write"): "write in",
    (stat.S_IFDIR, "create"): "write in",
    (stat.S_IFREG, "create"): "create over",
    (stat.S_IFREG, "delete"): "delete by the wrong call",
    (stat.S_IFLNK, "delete"): "delete by the wrong call",
    (stat.S_IFDIR, "rename"): "rename and back",
    (stat.S_IFREG, "rename"): "rename and back",
    (stat.S_IFLNK, "rename"): "rename and back",
}


def asked_of(estate: Estate) -> list[tuple[str, str, str]]:
    """What the kernel is asked: the right, how it is tried, and the path."""
    questions: list[tuple[str, str, str]] = []
    for path in estate.paths:
        mode = os.lstat(path).st_mode
        kind = stat.S_IFMT(mode)
        for right in RIGHTS_OF[kind]:
            if right == "execute" and not mode & 0o111:
                continue  # nobody may
            questions.append((right, _HOW.get((kind, right), right), path))
        if kind != stat.S_IFLNK:
            questions += [(right, right, path) for right in _CHANGES]
    return questions


def having(estate: Estate, among: dict[str, Principal] | None = None) -> Having:
    """What the kernel grants to whom: everyone, or those ``among`` them, tries everything."""
    questions = asked_of(estate)
    tried = [(how, path) for _, how, path in questions]
    found: set[tuple[str, str, str]] = set()
    for word, who in (people() if among is None else among).items():
        for (right, _, path), number in zip(questions, tries(who, tried, _put_right), strict=True):
            if number == 0:
                found.add((word, right, path))
    return frozenset(found)


Shifts = Counter[tuple[str, str]]
"""On how many paths somebody gains, or loses, a right."""


def between(before: Having, after: Having, known: Container[str]) -> Shifts:
    """What is in ``after`` and was not before, by who and right, on the paths that are ``known``."""
    return Counter((who, right) for who, right, path in after - before if path in known)


def paths_under(estate: Estate, words: list[str]) -> set[str]:
    """Everything at and under the paths that are named: what gains and losses speak of."""
    targets = list(itertools.takewhile(lambda word: not word.startswith("--"), words[1:]))
    return {path for path in estate.paths for target in targets if f"{path}/".startswith(f"{target}/")}


def foretold(shifts: object) -> Shifts:
    """Gains or losses as machine output has them."""
    assert isinstance(shifts, list)
    return Counter({(one["who"], one["right"]): one["paths"] for one in shifts})


_saved: dict[str, tuple[int, int, int]] = {}


def remember(estate: Estate) -> None:
    """Keep owners and modes, for putting right what trying a change of them has changed."""
    _saved.clear()
    for path in estate.paths:
        status = os.lstat(path)
        _saved[path] = status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode)


def _put_right(right: str, path: str) -> None:
    uid, gid, mode = _saved[path]
    os.chown(path, uid, gid)
    os.chmod(path, mode)

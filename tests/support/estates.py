"""Trees that look like real ones: most directories alike, few owners, scripts, hard links, sticky and shared folders.

An *estate* is one such tree with the people who use it, with programs and what
they are given, mounts in it, and a few flags. What people may do is asked of
the kernel for every one of them, on every path, for every right.
"""

import itertools
import os
import random
import stat
from collections import Counter
from collections.abc import Container, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

from fiat.core.change.guards import GUARDS
from fiat.core.model import capabilities, listbytes
from fiat.core.model.accounts import User
from fiat.core.model.capabilities import CAPABILITY_XATTR, FileCapabilities
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from fiat.core.model.principals import Principal, user
from fiat.core.words.entries import parse_list
from support import kernel
from support.files import APPEND_ONLY, IMMUTABLE, State, change_flags, flags_of, set_state, state_of
from support.kernel import PROGRAM, STRANGER, Subject, become
from support.worlds import SCRIPT

USERS = {"keeper": 21001, "surveyor": 21002, "relief": 21002, "steward": 21003, "auditor": 21004, "tidefeed": 21005}
"""Two of them are accounts of one number, with other groups: what one owns, the other does too."""

GROUPS = {"watch": 31001, "survey": 31002, "stewards": 31003, "empty": 31004}
MEMBERS = {
    "watch": ("surveyor", "auditor"),
    "survey": ("surveyor", "steward"),
    "stewards": ("steward",),
    "empty": (),
}
PRIMARY = {
    "keeper": "watch",
    "surveyor": "survey",
    "relief": "stewards",
    "steward": "stewards",
    "auditor": "watch",
    "tidefeed": "survey",
}

_DIRECTORIES = (0o755, 0o755, 0o755, 0o750, 0o775, 0o2775, 0o777, 0o711, 0o700)
_OPEN_DIRECTORIES = (0o755, 0o755, 0o775, 0o2775, 0o1777, 0o711)
_FILES = (0o644, 0o644, 0o644, 0o640, 0o664, 0o600)
_SCRIPTS = (0o755, 0o755, 0o744, 0o711, 0o600, 0o750)
_MOUNT_OPTIONS = (kernel.READ_ONLY, kernel.NO_EXEC, kernel.NO_SUID, kernel.NO_EXEC | kernel.NO_DEV, 0)
_MODES = """
    750 755 700 770 0777 1777 0000 711 640 644 o= o+w o+rX g-w g+ws +t -t 0755 go-rx u+x,go-x a+X a+x o-x u-s u+s,g-s
""".split()
_TREE_MODES = ("o=", "go=", "a+rX", "o+rX", "ug+w", "g=rX,o=", "a=rX,u+w", "o+w")
_LISTS = (
    "u::rwx,u:21004:r-x,g::r-x,m::r-x,o::---",
    "u::rwx,g::rwx,g:31002:rwx,m::rwx,o::r-x",
    "u::rwx,u:21003:rwx,g::r-x,g:31001:r-x,m::r--,o::---",
    "u::rwx,u:21002:rwx,g::r-x,g:31002:rwx,m::---,o::r-x",
)
_FILE_LISTS = (
    "u::rw-,u:21004:r--,g::r--,m::r--,o::---",
    "u::rw-,u:21002:rw-,g::rw-,g:31001:-w-,g:31002:r--,m::r--,o::r--",
    "u::rw-,u:21003:rw-,g::r--,g:31002:rw-,m::---,o::r--",
)

ACCEPT = [word for guard in GUARDS for word in ("--accept", guard)]
"""The options of a change that is made whatever any guard says."""

Having = frozenset[tuple[str, str, str]]
"""Who has which right on which path."""


def people() -> dict[str, Principal]:
    """Everyone who is asked, by the word that Fiat has for them: users, members of one group alone, anyone else."""
    found = {"root": user(User("root", 0, 0), (0,))}
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


Crowd = dict[str, Subject]
"""A process for everyone who is asked about, by the word that Fiat has for them."""


@contextmanager
def crowd(among: dict[str, Principal] | None = None) -> Iterator[Crowd]:
    """Everyone, or those ``among`` them, waiting to be asked."""
    with ExitStack() as all_of_them:
        yield {
            word: all_of_them.enter_context(Subject(lambda _, who=who: become(who)))  # type: ignore[misc]
            for word, who in (people() if among is None else among).items()
        }


class Estate:
    """One tree at ``top``; the same one for the same seed, ``whole`` if nothing is mounted in it.

    Ends with the ``with`` block.
    """

    def __init__(self, top: str, seed: int, *, whole: bool = False) -> None:
        self._whole = whole
        self.dice = random.Random(seed)
        self.top = os.path.join(top, f"e{seed}")
        self.directories: list[str] = []
        self.files: list[str] = []
        self.mounts: list[str] = []
        self.flagged: list[str] = []
        self._directory(self.top, self._somebody(), self.dice.choice(_OPEN_DIRECTORIES), None, depth=0)
        for _ in range(self.dice.randint(1, 3)):  # second names, mostly elsewhere in the tree
            with suppress(OSError):  # there is one, or it would be on another file system
                name = os.path.join(self.dice.choice(self.directories), f"link{self.dice.randrange(100)}")
                os.link(self.dice.choice(self.files), name)
                self.files.append(name)
        os.symlink(self.dice.choice(self.files), f"{self.top}/current")
        self.links = [f"{self.top}/current"]
        for path in (*self.directories, *self.files):
            if self.dice.random() < 0.02:
                # what is tried in an append-only directory would stay there
                change_flags(path, self.dice.choice((IMMUTABLE, IMMUTABLE if os.path.isdir(path) else APPEND_ONLY)))
                self.flagged.append(path)
        if not whole:
            self._mount_again()

    def _mount_again(self) -> None:
        """Mount a directory over itself, with options that its surroundings have not got."""
        for path in self.dice.sample(self.directories[1:], min(1, len(self.directories) - 1)):
            if not any(f"{mount}/".startswith(f"{path}/") for mount in self.mounts):
                kernel.bind(path, path, self.dice.choice(_MOUNT_OPTIONS))
                self.mounts.append(path)

    def __enter__(self) -> "Estate":
        return self

    def __exit__(self, *_: object) -> None:
        """Let the tree be removed again."""
        for mount in reversed(self.mounts):
            kernel.unmount(mount)
        for path in dict.fromkeys((*self.directories, *self.files, *self.flagged)):
            with suppress(OSError):  # on a mount that has gone
                if flags_of(path):
                    change_flags(path, 0)

    def _somebody(self) -> tuple[int, int]:
        return self.dice.choice((0, 0, *USERS.values())), self.dice.choice((0, *GROUPS.values()))

    def _directory(self, path: str, owner: tuple[int, int], mode: int, acl: str | None, depth: int) -> None:
        """One directory, its files, and those in it, which are mostly just like it."""
        dice = self.dice
        os.mkdir(path)
        if not self._whole and depth and dice.random() < 0.06:
            kernel.mount_memory(path)
            self.mounts.append(path)
        self.directories.append(path)
        style = dice.choice(_FILES)
        for number in range(dice.randint(1, 4)):
            whose = self._somebody() if mode & 0o1000 or dice.random() < 0.1 else owner
            if PROGRAM and dice.random() < 0.1:
                self._file(f"{path}/tool{number}", whose, dice.choice(_SCRIPTS), PROGRAM)
            elif dice.random() < 0.3:
                interpreter = dice.choice(("/bin/sh", "/bin/sh", "/bin/sh", *self._scripts()))
                self._file(f"{path}/run{number}", whose, dice.choice(_SCRIPTS), (SCRIPT % interpreter).encode())
            else:
                self._file(f"{path}/data{number}", whose, style, b"")
        for number in range(dice.randint(0 if depth else 3, 3) if depth < 3 else 0):
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

    def _file(self, path: str, owner: tuple[int, int], mode: int, text: bytes) -> None:
        with open(path, "wb") as file:
            file.write(text)
        os.chown(path, *owner)
        if self.dice.random() < 0.1:
            mode |= self.dice.choice((0o4000, 0o2000))
        os.chmod(path, mode)
        if self.dice.random() < 0.15:
            os.setxattr(path, ACCESS_XATTR, listbytes.pack(parse_list(self.dice.choice(_FILE_LISTS), int, int)))
        if text == PROGRAM and self.dice.random() < 0.5:
            os.setxattr(path, CAPABILITY_XATTR, capabilities.pack(FileCapabilities(2, 1 << 10, 0, True)))
        self.files.append(path)

    def owners(self) -> list[str]:
        """The users, root apart, that own something here."""
        found = {os.lstat(path).st_uid for path in (*self.directories, *self.files)}
        return [name for name, uid in USERS.items() if uid in found]

    @property
    def paths(self) -> list[str]:
        """Every path in it."""
        return [*self.directories, *self.files, *self.links]

    def plan(self, owner: int | None = None) -> list[str]:
        """The words of a change such as people make, after ``fiat set``; of what belongs to ``owner``, if given."""
        dice = self.dice
        mine = [path for path in (*self.directories, *self.files) if owner in (None, os.lstat(path).st_uid)]
        near = sorted(mine, key=lambda path: (not os.path.isdir(path), path.count("/")))[:4]
        targets = [dice.choice(dice.choice((near[:1], near[:1], near[:2], near, mine)))]
        if dice.random() < 0.15:
            targets.append(dice.choice((*self.directories, *self.files)))
        words = list(dict.fromkeys(targets))
        tree = os.path.isdir(words[0]) and dice.random() < 0.6
        if tree:
            words.append(dice.choice(("--below", "--below", "--contents")))
            words += dice.choice(([], [], [], ["--only", "dirs"], ["--only", "files"], ["--name", "data*"]))
            words += dice.choice(([], [], ["--across-mounts"]))
        return words + self._change(tree)

    def _change(self, tree: bool) -> list[str]:
        dice = self.dice
        user, group = dice.choice(list(USERS)), dice.choice(list(GROUPS))
        mode = dice.choice(_MODES)
        return dice.choice(
            (
                *[["--mode", mode]] * 6,
                *[["--mode", dice.choice(_TREE_MODES)]] * (8 if tree else 2),
                ["--dir-mode", "2750", "--file-mode", "640"] if tree else ["--mode", "2750"],
                *[["--owner", user]] * (4 if tree else 2),
                ["--group", group],
                ["--owner", user, "--group", group],
                ["--entry", f"user:{user}:rwX"],
                ["--entry", f"group:{group}:rX"],
                ["--entry", f"user:{user}:---"],
                ["--default-entry", f"group:{group}:rX"],
                ["--mask", dice.choice(("r-x", "rwx", "---", "r--"))],
                ["--no-list"],
                ["--like", dice.choice(self.directories)],
                ["--flag", "immutable"],
                ["--no-flag", "immutable", "--mode", mode],
                ["--mode", mode, "--through-flags"],
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


def having(estate: Estate, everyone: Crowd) -> Having:
    """What the kernel grants to whom: everyone tries everything."""
    questions = asked_of(estate)
    tried = [(how, path) for _, how, path in questions]
    return frozenset(
        (word, right, path)
        for word, who in everyone.items()
        for (right, _, path), number in zip(questions, who.tries(tried, _put_right), strict=True)
        if number == 0
    )


Shifts = Counter[tuple[str, str]]
"""On how many paths somebody gains, or loses, a right."""


def between(before: Having, after: Having, known: Container[str]) -> Shifts:
    """What is in ``after`` and was not before, by who and right, on the paths that are ``known``."""
    return Counter((who, right) for who, right, path in after - before if path in known)


def topmost(before: Having, after: Having, known: Container[str]) -> dict[tuple[str, str], set[str]]:
    """Where what is in ``after`` and was not before is, by who and right: the paths in whose directory it is not."""
    found: dict[tuple[str, str], set[str]] = {}
    for who, right, path in after - before:
        if path in known:
            found.setdefault((who, right), set()).add(path)
    return {key: {path for path in paths if os.path.dirname(path) not in paths} for key, paths in found.items()}


def paths_under(estate: Estate, words: list[str]) -> set[str]:
    """Everything at and under the paths that are named: what gains and losses speak of."""
    targets = list(itertools.takewhile(lambda word: not word.startswith("--"), words[1:]))
    return {path for path in estate.paths for target in targets if f"{path}/".startswith(f"{target}/")}


def _left_out(estate: Estate, words: list[str], path: str) -> bool:
    """Whether a path lies in a mount that is in a tree which was named, and was not to be entered."""
    if "--across-mounts" in words:
        return False
    targets = list(itertools.takewhile(lambda word: not word.startswith("--"), words[1:]))
    within = [target for target in targets if f"{path}/".startswith(f"{target}/")]
    nearest = max(within, key=len, default="")
    return any(
        path.startswith(f"{mount}/") and mount.startswith(f"{nearest}/") for mount in estate.mounts if mount != nearest
    )


def is_shut(path: str, told: dict[str, Any]) -> bool:
    """Whether ``path`` is in a directory that was said not to be readable to the one who acts."""
    shut = [problem["path"] for problem in told["problems"] if problem["errno"] == "EACCES"]
    return any(path.startswith(f"{one}/") for one in shut)


def counted_on(estate: Estate, words: list[str], told: dict[str, Any]) -> list[set[str]]:
    """The paths that gains and losses may have been counted on.

    Further names of a file that was named, in a directory that was named too
    and need not be looked into, may be left out, where that is said. What is
    in a directory that could not be read is left out, where that is a problem.
    """
    everything = {
        path for path in paths_under(estate, words) if not _left_out(estate, words, path) and not is_shut(path, told)
    }
    targets = set(itertools.takewhile(lambda word: not word.startswith("--"), words[1:]))
    if "--below" in words or not any(caveat["code"] == "names-not-counted" for caveat in told["caveats"]):
        return [everything]
    inodes = {os.lstat(path).st_ino for path in targets if os.path.lexists(path) and not os.path.isdir(path)}
    others = {path for path in everything - targets if os.lstat(path).st_ino in inodes}
    return [everything, everything - others]


def foretold(shifts: object) -> Shifts:
    """Gains or losses as machine output has them."""
    assert isinstance(shifts, list)
    return Counter({(one["who"], one["right"]): one["paths"] for one in shifts})


def keep(estate: Estate) -> dict[str, State]:
    """Everything as it is, for :func:`bring_back`."""
    return {path: state_of(path) for path in estate.paths}


def bring_back(estate: Estate, states: dict[str, State]) -> None:
    """Make everything what it was; what has a flag, or is mounted read-only, was never anything else."""
    for path, state in states.items():
        if state_of(path) != state:
            with suppress(OSError):  # its other name is not on a mount that is read-only
                set_state(path, state)
    assert keep(estate) == states


_saved: dict[str, tuple[int, int, int, bytes | None]] = {}


def remember(estate: Estate) -> None:
    """Keep owners, modes and capabilities, for putting right what trying a change of them has changed."""
    _saved.clear()
    for path in estate.paths:
        status = os.lstat(path)
        held = None
        with suppress(OSError):
            held = os.getxattr(path, CAPABILITY_XATTR, follow_symlinks=False)
        _saved[path] = status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode), held


def _put_right(right: str, path: str) -> None:
    uid, gid, mode, held = _saved[path]
    os.chown(path, uid, gid)
    os.chmod(path, mode)
    if held is not None:
        os.setxattr(path, CAPABILITY_XATTR, held)

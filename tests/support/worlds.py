"""Random worlds: trees with everything that decides about access, and random people in random groups."""

import fcntl
import os
import random
import stat
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from fiat.core.model import accesslist, capabilities, listbytes
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.capabilities import CAPABILITY_XATTR, FileCapabilities
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR
from support.files import APPEND_ONLY, IMMUTABLE, change_flags
from support.filesystems import ROOT
from support.kernel import PROGRAM, RAN

UIDS = range(20001, 20009)
NO_ACCOUNT = 20050
"""A number that owns things and is no account's."""
GIDS = range(30001, 30007)

# Permissions as they occur: full, empty and everything between
_PERMISSIONS = (0, 0, 1, 2, 3, 4, 5, 5, 6, 7, 7, 7)

SCRIPT = f'#!%s\n[ $# -eq 0 ] || {{ next=$1; shift; . "$next"; }}\nexit {RAN}\n'
"""A script that reads the scripts it is the interpreter of, as interpreters do; with a place for its own."""


class World:
    """One random tree under ``top`` and the people who try it."""

    def __init__(self, top: str, seed: int) -> None:
        self.random = random.Random(seed)
        self.top = os.path.join(top, f"w{seed}")
        self.spare = os.path.join(top, f"spare{seed}")  # second names, from which what was deleted comes back
        self.people = self._accounts()
        self.paths: list[str] = [self.top]
        self.seen_at = self.top  # where the tree is looked at: elsewhere, when it is mounted twice
        self._scripts = ["/bin/sh"]
        self._owners: dict[str, tuple[int, int]] = {}
        self._lists: dict[tuple[str, str], bytes] = {}
        self._modes: dict[str, int] = {}
        self._flags: dict[str, int] = {}
        os.mkdir(self.top)
        os.mkdir(self.spare, 0o700)
        directories = [self.top]
        for number in range(self.random.randint(15, 30)):
            path = os.path.join(self.random.choice(directories), f"n{number}")
            self._make(path, directories)
            self.paths.append(path)
        for path in self.paths:
            if not os.path.islink(path):
                self._choose_posture(path)
            self._keep(path)
        for path in reversed(self.paths):
            self._set_posture(path)
        self.objects = list(self.paths)
        # names that are not there, names under what is no directory, and a last slash
        self.paths += [os.path.join(self.random.choice(self.objects), "nothing") for _ in range(3)]
        self.paths += [self.random.choice(self.objects) + "/" for _ in range(2)]

    def _make(self, path: str, directories: list[str]) -> None:
        kinds = {"directory": 16, "file": 12, "script": 10, "link": 8, "fifo": 2, "socket": 1}
        if PROGRAM:
            kinds |= {"program": 4}
        if ROOT:
            kinds |= {"character": 1, "block": 1}
        kind = self.random.choices(list(kinds), list(kinds.values()))[0]
        if kind == "directory":
            os.mkdir(path)
            directories.append(path)
        elif kind == "fifo":
            os.mkfifo(path)
        elif kind == "socket":
            os.mknod(path, stat.S_IFSOCK)
        elif kind == "character":
            os.mknod(path, stat.S_IFCHR, os.makedev(1, 3))
        elif kind == "block":
            os.mknod(path, stat.S_IFBLK, os.makedev(240, 7))  # of a driver that is not there
        elif kind == "link":
            os.symlink(self._target(path), path)
            if ROOT:
                os.lchown(path, self.random.choice((*UIDS, NO_ACCOUNT)), self.random.choice(GIDS))
        elif kind == "program":
            with open(path, "wb") as file:
                file.write(PROGRAM)
            if ROOT and self.random.random() < 0.5:
                powers = self.random.choice((1 << 10, 1 << 13, 1 << 1 | 1 << 13))
                found = FileCapabilities(2, powers, self.random.choice((0, powers)), self.random.random() < 0.8)
                self._lists[path, CAPABILITY_XATTR] = capabilities.pack(found)
        else:
            with open(path, "w") as file:
                if kind == "script":
                    missing = f"{self.top}/no-interpreter"
                    file.write(SCRIPT % self.random.choice((*self._scripts, "/bin/sh", missing, "/bin/sh\r", self.top)))
            if kind == "script":
                self._scripts.append(path)

    def _accounts(self) -> Accounts:
        users = [User("root", 0, 0)] + [User(f"u{uid}", uid, self.random.choice(GIDS)) for uid in UIDS]
        users.append(User("again", UIDS[0], self.random.choice(GIDS)))  # a second account of one number
        groups = [
            Group(f"g{gid}", gid, tuple(user.name for user in users[1:] if self.random.random() < 0.25)) for gid in GIDS
        ]
        return Accounts(users, groups, "this world")

    def _target(self, link: str) -> str:
        other = self.random.choice(self.paths)
        here = os.path.dirname(link)
        return self.random.choice(
            (
                other,
                other,
                os.path.relpath(other, here),
                "nowhere",
                os.path.basename(link),
                other + "/",
                f"{other}/../.",
            )
        )

    # --- postures: chosen once, set again after every change ---

    def _choose_posture(self, path: str) -> None:
        directory = os.path.isdir(path)
        if ROOT:
            self._owners[path] = (self.random.choice((0, *UIDS, *UIDS)), self.random.choice((0, *GIDS)))
        mode = self._permissions() << 6 | self._permissions() << 3 | self._permissions()
        mode |= self.random.choice((0, 0, 0, 0o1000, 0o2000, 0o4000))
        if directory and self.random.random() < 0.6:
            mode |= 0o111  # so that a good share of the tree can be reached at all
        if directory and self.random.random() < 0.15:
            mode |= 0o1003
        if self.random.random() < 0.5:
            acl = self.access_list()
            self._lists[path, ACCESS_XATTR] = listbytes.pack(acl)
            mode = mode & 0o7000 | acl.mode()
        if directory and self.random.random() < 0.2:
            self._lists[path, DEFAULT_XATTR] = listbytes.pack(self.access_list())
        self._modes[path] = mode
        if ROOT and path != self.top and self.random.random() < 0.08 and (directory or os.path.isfile(path)):
            self._flags[path] = self.random.choice((IMMUTABLE, APPEND_ONLY))

    def _set_posture(self, path: str) -> None:
        if path not in self._modes:
            return
        if path in self._owners:
            os.chown(path, *self._owners[path])
        for name in (ACCESS_XATTR, DEFAULT_XATTR, CAPABILITY_XATTR):
            value = self._lists.get((path, name))
            if value is not None:
                os.setxattr(path, name, value)
            else:
                with suppress(OSError):
                    os.removexattr(path, name)
        os.chmod(path, self._modes[path])
        if path in self._flags:
            change_flags(path, self._flags[path])

    def set_again(self, path: str) -> None:
        """Give a path the posture that it was given."""
        self._set_posture(path)

    def flagged(self, path: str) -> bool:
        """Whether it is immutable or append-only."""
        return path in self._flags

    def forget_flags(self) -> None:
        """Have nothing immutable or append-only."""
        for path in self._flags:
            change_flags(path, 0)
        self._flags.clear()

    def _keep(self, path: str) -> None:
        if os.path.islink(path) or not os.path.isdir(path):
            os.link(path, os.path.join(self.spare, os.path.basename(path)), follow_symlinks=False)

    def undo(self, right: str, path: str) -> None:
        """Put right what a try of ``right`` on ``path`` has changed."""
        path = path.rstrip("/")
        if right.startswith("create"):
            self._remove_made(self._at_home(os.path.realpath(self._at_home(path))))
        elif right == "rename":
            os.rename(self._at_home(path) + ".moved", self._at_home(path))
        elif right == "delete":
            self._bring_back(self._at_home(path))
        else:
            self._set_posture(self._at_home(os.path.realpath(self._at_home(path))))

    def _at_home(self, path: str) -> str:
        """The path under ``top`` for one under ``seen_at``."""
        return self.top + path.removeprefix(self.seen_at) if path.startswith(self.seen_at) else path

    def seen(self, path: str) -> str:
        """The path under ``seen_at`` for one under ``top``."""
        return self.seen_at + path.removeprefix(self.top)

    def _remove_made(self, path: str) -> None:
        inside = os.path.isdir(path)
        if not inside and path in self.objects:
            return
        directory = path if inside else os.path.dirname(path)
        append_only = directory in self._flags
        if append_only:
            change_flags(directory, 0)
        if inside:
            os.rmdir(f"{path}/.made")
        else:
            os.unlink(path)
        if append_only:
            change_flags(directory, self._flags[directory])

    def _bring_back(self, path: str) -> None:
        spare = os.path.join(self.spare, os.path.basename(path))
        if os.path.lexists(path):
            return  # a directory that was not empty
        if os.path.lexists(spare):
            os.link(spare, path, follow_symlinks=False)
        else:
            os.mkdir(path)
            self._set_posture(path)

    def __enter__(self) -> "World":
        return self

    def __exit__(self, *_: object) -> None:
        """Let the tree be removed again."""
        for path in self._flags:
            change_flags(path, 0)

    # --- lists ---

    def access_list(self) -> AccessList:
        """A random valid list; its mask is often empty, and entries overlap."""
        people = (os.geteuid(), *UIDS) if not ROOT else UIDS
        entries = [Entry(Tag.OWNER, self._permissions())]
        entries += [Entry(Tag.NAMED_USER, self._permissions(), uid) for uid in people if self.random.random() < 0.3]
        entries.append(Entry(Tag.OWNING_GROUP, self._permissions()))
        spread = self.random.random() < 0.25  # rights that several groups hold together, and none alone
        for gid in GIDS:
            if self.random.random() < (0.8 if spread else 0.35):
                permissions = self.random.choice((1, 2, 5, 6)) if spread else self._permissions()
                entries.append(Entry(Tag.NAMED_GROUP, permissions, gid))
        if len(entries) > 2 or self.random.random() < 0.3:
            mask = 7 if spread else self._permissions()
            entries.append(Entry(Tag.MASK, 0 if self.random.random() < 0.2 else mask))
        return accesslist.check([*entries, Entry(Tag.OTHER, self._permissions())])

    def _permissions(self) -> int:
        return self.random.choice(_PERMISSIONS)


@contextmanager
def mounted_twice(world: World, options: str) -> Iterator[None]:
    """Look at the world through a second mount of its tree, with ``options``."""
    folder = tempfile.mkdtemp(prefix="fiat-test-")
    os.chmod(folder, 0o755)
    at = os.path.join(folder, "at")
    os.mkdir(at)
    subprocess.run(["mount", "--bind", world.top, at], check=True)
    try:
        subprocess.run(["mount", "-o", f"remount,bind,{options}", at], check=True)
        world.seen_at = at
        yield
    finally:
        world.seen_at = world.top
        subprocess.run(["umount", "-l", at], check=True)
        os.rmdir(at)
        os.rmdir(folder)


@contextmanager
def read_only(top: str) -> Iterator[None]:
    """Make the file system that ``top`` is on read-only meanwhile."""
    point = os.path.dirname(top)
    subprocess.run(["mount", "-o", "remount,ro", point], check=True)
    try:
        yield
    finally:
        subprocess.run(["mount", "-o", "remount,rw", point], check=True)


_PROTECTIONS = ("protected_symlinks", "protected_regular", "protected_fifos")


@contextmanager
def protections(levels: tuple[int, int, int] | None = None) -> Iterator[None]:
    """Hold fs.protected_symlinks, _regular and _fifos still, or set them to ``levels`` meanwhile.

    They are the whole machine's: tests that set them wait for those that only
    need them to stay, and the other way round.
    """
    # the temporary folder itself is there for every user, and nothing has to be made in it
    lock = os.open(tempfile.gettempdir(), os.O_RDONLY)
    try:
        fcntl.flock(lock, fcntl.LOCK_SH if levels is None else fcntl.LOCK_EX)
        before = [_sysctl(name) for name in _PROTECTIONS]
        try:
            for name, level in zip(_PROTECTIONS, levels or (), strict=False):
                _sysctl(name, level)
            yield
        finally:
            if levels is not None:
                for name, level in zip(_PROTECTIONS, before, strict=True):
                    _sysctl(name, level)
    finally:
        os.close(lock)


def _sysctl(name: str, level: int | None = None) -> int:
    with open(f"/proc/sys/fs/{name}", "r" if level is None else "w") as file:
        if level is None:
            return int(file.read())
        file.write(str(level))
        return level

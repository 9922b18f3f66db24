"""Random worlds: trees with random modes, owners and access lists; random people in random groups."""

import os
import random

from fiat.core import accesslist
from fiat.core.accesslist import ACCESS_XATTR, DEFAULT_XATTR, AccessList, Entry, Tag
from fiat.core.accounts import Accounts, Group, User
from filesystems import ROOT

UIDS = range(20001, 20009)
GIDS = range(30001, 30007)

# Permissions as they occur: full, empty and everything between
_PERMISSIONS = (0, 0, 1, 2, 3, 4, 5, 5, 6, 7, 7, 7)


class World:
    """One random tree under ``top`` and the people who try it."""

    def __init__(self, top: str, seed: int) -> None:
        self.random = random.Random(seed)
        self.top = os.path.join(top, f"w{seed}")
        self.people = self._accounts()
        self.paths: list[str] = [self.top]
        os.mkdir(self.top)
        directories = [self.top]
        for number in range(self.random.randint(15, 30)):
            path = os.path.join(self.random.choice(directories), f"n{number}")
            kind = self.random.choices(("directory", "file", "fifo", "link"), (8, 10, 1, 3))[0]
            if kind == "directory":
                os.mkdir(path)
                directories.append(path)
            elif kind == "file":
                os.close(os.open(path, os.O_CREAT | os.O_WRONLY))
            elif kind == "fifo":
                os.mkfifo(path)
            else:
                os.symlink(self._target(path), path)
            self.paths.append(path)
        for path in reversed(self.paths):
            if not os.path.islink(path):
                self._posture(path)
        # names that are not there, and names under what is no directory
        self.paths += [os.path.join(self.random.choice(self.paths), "nothing") for _ in range(3)]
        self.paths += [self.random.choice(self.paths) + "/" for _ in range(2)]

    def _accounts(self) -> Accounts:
        users = [User("root", 0, 0)] + [User(f"u{uid}", uid, self.random.choice(GIDS)) for uid in UIDS]
        groups = [
            Group(f"g{gid}", gid, tuple(user.name for user in users[1:] if self.random.random() < 0.25)) for gid in GIDS
        ]
        return Accounts(users, groups, "this world")

    def _target(self, link: str) -> str:
        other = self.random.choice(self.paths)
        return self.random.choice(
            (other, os.path.relpath(other, os.path.dirname(link)), "nowhere", os.path.basename(link), other + "/")
        )

    def _posture(self, path: str) -> None:
        directory = os.path.isdir(path)
        if ROOT:
            os.chown(path, self.random.choice((0, *UIDS, *UIDS)), self.random.choice((0, *GIDS)))
        mode = self._permissions() << 6 | self._permissions() << 3 | self._permissions()
        mode |= self.random.choice((0, 0, 0, 0o1000, 0o2000, 0o4000))
        if directory and self.random.random() < 0.6:
            mode |= 0o111  # so that a good share of the tree can be reached at all
        os.chmod(path, mode)
        if self.random.random() < 0.5:
            os.setxattr(path, ACCESS_XATTR, accesslist.pack(self.access_list()))
        if directory and self.random.random() < 0.2:
            os.setxattr(path, DEFAULT_XATTR, accesslist.pack(self.access_list()))

    def access_list(self) -> AccessList:
        """A random valid list; its mask is often empty, and entries overlap."""
        people = (os.geteuid(), *UIDS) if not ROOT else UIDS
        entries = [Entry(Tag.OWNER, self._permissions())]
        entries += [Entry(Tag.NAMED_USER, self._permissions(), uid) for uid in people if self.random.random() < 0.3]
        entries.append(Entry(Tag.OWNING_GROUP, self._permissions()))
        entries += [Entry(Tag.NAMED_GROUP, self._permissions(), gid) for gid in GIDS if self.random.random() < 0.35]
        if len(entries) > 2 or self.random.random() < 0.3:
            entries.append(Entry(Tag.MASK, 0 if self.random.random() < 0.2 else self._permissions()))
        return accesslist.check([*entries, Entry(Tag.OTHER, self._permissions())])

    def _permissions(self) -> int:
        return self.random.choice(_PERMISSIONS)

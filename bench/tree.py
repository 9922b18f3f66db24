"""Makes the trees and the accounts that the bench measures on; the same ones for the same numbers.

    python bench/tree.py FOLDER --entries 200000 --accounts 1000 --shape homes

FOLDER gets ``tree`` and ``accounts`` (passwd and group). Needs root, for the owners.
"""

import argparse
import os
import random
from pathlib import Path
from typing import NamedTuple

from fiat.core.model import accesslist, listbytes
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.listbytes import ACCESS_XATTR, DEFAULT_XATTR

FIRST_UID, FIRST_GID = 20_000, 30_000
_FILE_MODES = (0o644,) * 9 + (0o640,) * 7 + (0o660,) * 4 + (0o600,) * 3 + (0o755, 0o750)
_EXECUTABLES = (b"#!/bin/sh\nexit 0\n", b"#!/usr/bin/python3\n", b"\x7fELF" + bytes(60), b"\x7fELF" + bytes(60))
_DIRECTORY_MODES = (0o755, 0o755, 0o750, 0o2770, 0o2775, 0o700, 0o711)


def make_accounts(folder: Path, accounts: int, seed: int = 1) -> None:
    """The files passwd and group: a group for every ten users, each user in up to four more."""
    dice = random.Random(seed)
    groups = max(accounts // 10, 4)
    members: list[list[str]] = [[] for _ in range(groups)]
    users = ["root:x:0:0::/root:/bin/sh"]
    for number in range(accounts):
        users.append(f"user{number}:x:{FIRST_UID + number}:{FIRST_GID + dice.randrange(groups)}::/:/bin/sh")
        for group in dice.sample(range(groups), dice.randint(0, 4)):
            members[group].append(f"user{number}")
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "passwd").write_text("\n".join(users) + "\n")
    lines = [f"group{number}:x:{FIRST_GID + number}:{','.join(names)}" for number, names in enumerate(members)]
    (folder / "group").write_text("root:x:0:\n" + "\n".join(lines) + "\n")


class Shape(NamedTuple):
    """What a tree is like: how deep, how wide, how many own something in it, and how much of it is alike.

    ``fan_out`` is how many directories there are at most in one, ``files`` how
    many files. ``lists`` is the share of entries with an access list,
    ``others`` that of directories whose owner is not that of the
    directory above; ``any_group`` says that the group may then be any.
    """

    depth: int = 8
    fan_out: int = 6
    files: tuple[int, int] = (4, 24)
    lists: float = 0.05
    owners: int = 200
    others: float = 0.1
    any_group: bool = False
    modes: tuple[int, ...] = _FILE_MODES
    directory_modes: tuple[int, ...] = _DIRECTORY_MODES


SHAPES = {
    "projects": Shape(),
    "few": Shape(lists=0, owners=3),
    "homes": Shape(
        owners=1_000, others=1.0, any_group=True, modes=(0o644, 0o644, 0o640, 0o660), directory_modes=(0o755, 0o711)
    ),
    "flat": Shape(depth=0, files=(1 << 30, 1 << 30), lists=0),
}
"""Projects of some hundred people; a tree of few owners; homes, where each directory is somebody's; one directory."""


class Grower:
    """Grows one tree."""

    def __init__(self, entries: int, shape: Shape, accounts: int, seed: int = 1) -> None:
        self.dice = random.Random(seed)
        self.left = entries
        self.shape = shape
        self.owners = min(shape.owners, accounts)
        self.groups = max(accounts // 10, 4)
        self.accounts = accounts
        self.inheriting: list[str] = []
        self.kept = [self._list() for _ in range(64)]

    def grow(self, top: str) -> None:
        """Make the tree at ``top``, one level after the other."""
        os.mkdir(top)
        waiting = [(top, 0, 0, 0)]
        while self.left > 0:
            following = []
            for path, level, uid, gid in waiting:
                following += self._fill(path, level, uid, gid)
                if self.left <= 0:
                    break
            waiting = following or waiting
        for path in self.inheriting:  # last, or what is made in them would inherit it
            os.setxattr(path, DEFAULT_XATTR, listbytes.pack(self.dice.choice(self.kept)))

    def _fill(self, path: str, level: int, uid: int, gid: int) -> list[tuple[str, int, int, int]]:
        inside: list[tuple[str, int, int, int]] = []
        shape = self.shape
        start = len(os.listdir(path)) if shape.depth <= level else 0
        for number in range(self.dice.randint(1, shape.fan_out) if level < shape.depth else 0):
            if self.left <= 0:
                return inside
            owner, group = (uid, gid) if level > 1 and self.dice.random() >= shape.others else self._owner()
            child = f"{path}/dir{number}"
            os.mkdir(child)
            self._set(child, owner, group, self.dice.choice(shape.directory_modes) if level else 0o755, directory=True)
            inside.append((child, level + 1, owner, group))
            self.left -= 1
        for number in range(start, start + self.dice.randint(*shape.files)):
            if self.left <= 0:
                return inside
            child = f"{path}/file-{number:04}.dat"
            self.left -= 1
            if self.dice.random() < 0.02:
                os.symlink("elsewhere", child)
                continue
            mode = self.dice.choice(shape.modes)
            fd = os.open(child, os.O_CREAT | os.O_WRONLY)
            if mode & 0o111:
                os.write(fd, self.dice.choice(_EXECUTABLES))
            os.close(fd)
            self._set(child, uid, gid, mode, directory=False)
        return inside

    def _owner(self) -> tuple[int, int]:
        """Somebody, and mostly their own group, or one of two that they share things with."""
        owner = self.dice.randrange(self.owners)
        group = owner * 7 + self.dice.choice((0, 0, 0, 1, 2))
        if self.shape.any_group:
            group = self.dice.randrange(self.groups)
        return FIRST_UID + owner, FIRST_GID + group % self.groups

    def _set(self, path: str, uid: int, gid: int, mode: int, *, directory: bool) -> None:
        os.chown(path, uid, gid)
        os.chmod(path, mode)
        if self.dice.random() < self.shape.lists:
            os.setxattr(path, ACCESS_XATTR, listbytes.pack(self.dice.choice(self.kept)))
            if directory:
                self.inheriting.append(path)

    def _list(self) -> AccessList:
        users = sorted(self.dice.sample(range(self.accounts), min(3, self.accounts)))
        groups = sorted(self.dice.sample(range(self.groups), 2))
        return accesslist.check(
            [
                Entry(Tag.OWNER, 7),
                *(Entry(Tag.NAMED_USER, self.dice.choice((4, 5, 6, 7)), FIRST_UID + number) for number in users),
                Entry(Tag.OWNING_GROUP, 5),
                *(Entry(Tag.NAMED_GROUP, self.dice.choice((4, 5, 7)), FIRST_GID + number) for number in groups),
                Entry(Tag.MASK, self.dice.choice((5, 7, 7))),
                Entry(Tag.OTHER, 0),
            ]
        )


def main() -> None:
    """Make what the command line asks for."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--entries", type=int, default=200_000)
    parser.add_argument("--shape", choices=SHAPES, default="projects")
    parser.add_argument("--accounts", type=int, default=1000)
    args = parser.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    make_accounts(args.folder / "accounts", args.accounts)
    Grower(args.entries, SHAPES[args.shape], args.accounts).grow(str(args.folder / "tree"))


if __name__ == "__main__":
    main()

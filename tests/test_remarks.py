"""Remarks on modes and mounts, held against the letters that Python's own ``stat.filemode`` makes of each mode."""

import itertools
import stat
from collections.abc import Iterator

import pytest

from fiat.core.ask.remarks import remarks_on
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.finding import Finding
from fiat.core.model.posture import Format, Identity, Kind, Mount, Object, Posture, Program, Status

ACCOUNTS = Accounts([User("root", 0, 0), User("keeper", 1, 1)], [Group("watch", 1, ("keeper",))], "the test")
TYPES = {
    Kind.FILE: stat.S_IFREG,
    Kind.DIRECTORY: stat.S_IFDIR,
    Kind.SYMLINK: stat.S_IFLNK,
    Kind.BLOCK: stat.S_IFBLK,
    Kind.CHARACTER: stat.S_IFCHR,
    Kind.FIFO: stat.S_IFIFO,
    Kind.SOCKET: stat.S_IFSOCK,
}
CLASSES = {"the owner": slice(1, 4), "the group": slice(4, 7), "other": slice(7, 10)}


def told(kind: Kind, mode: int, options: tuple[str, ...] = (), program: Program | None = None) -> dict[str, Finding]:
    found = Object(
        "/t/x",
        Posture(kind, mode, 1, 1),
        Status(Identity("", 2)),
        mount=Mount("/t", "ext4", options),
        program=program,
    )
    return {one.code: one for one in remarks_on(found, ACCOUNTS)}


def by_letters(kind: Kind, letters: str) -> Iterator[str]:
    """What is to be said of these letters, as someone reads them who knows what they do; weights where they differ."""
    runs = any(letters[place] in "xst" for place in (3, 6, 9))
    if kind is Kind.DIRECTORY:
        if letters[8] == "w" and letters[9] in "xt":
            yield "everyone-writes plain" if letters[9] == "t" else "everyone-writes danger"
        for where in CLASSES.values():
            read, write, run = tuple(letters[where])
            if run in "-ST" and (read + write) != "--":
                yield "no-traverse odd"
            if run in "xst" and (read + write) == "--":
                yield "traverse-only plain"
        if letters[9] in "tT":
            yield "sticky plain"
        if letters[6] in "sS":
            yield "setgid-directory plain"
        if letters[3] in "sS":
            yield "setuid-without-effect odd"
        return
    if kind in (Kind.FILE, Kind.BLOCK) and letters[8] == "w":
        yield "everyone-writes danger"
    if letters[9] in "tT":
        yield "sticky-without-effect odd"
    if kind is Kind.FILE:
        special = [name for name, place in (("setuid", 3), ("setgid", 6)) if letters[place] in "sS"]
        for name in special:
            if not runs:
                yield "capital-s odd"
            elif name == "setgid" and letters[6] == "S":
                yield "setgid-without-effect odd"
            else:
                yield f"{name} danger"


JUDGED = {word.split()[0] for word in """
    everyone-writes no-traverse traverse-only sticky setgid-directory setuid-without-effect sticky-without-effect
    capital-s setgid-without-effect setuid setgid
""".split()}  # fmt: skip


@pytest.mark.parametrize("kind", [Kind.FILE, Kind.DIRECTORY, Kind.BLOCK, Kind.CHARACTER, Kind.FIFO, Kind.SOCKET])
def test_every_mode_is_remarked_on_as_its_letters_read(kind: Kind) -> None:
    program = Program(Format.BINARY) if kind is Kind.FILE else None
    for mode in range(0o10000):
        letters = stat.filemode(mode | TYPES[kind])
        said = {f"{code} {one.weight}" for code, one in told(kind, mode, (), program).items() if code in JUDGED}
        assert said == set(by_letters(kind, letters)), letters


def test_each_class_is_called_by_its_name() -> None:
    for name, where in CLASSES.items():
        mode = 0o4 << {"the owner": 6, "the group": 3, "other": 0}[name]
        assert stat.filemode(mode)[where] == "r--"
        assert f"r-- for {name} lacks x" in told(Kind.DIRECTORY, mode)["no-traverse"].text


OF_MOUNTS = {
    "read-only": ("ro", {Kind.FILE, Kind.DIRECTORY, Kind.SYMLINK}),
    "noexec": ("noexec", {Kind.FILE}),
    "nodev": ("nodev", {Kind.BLOCK, Kind.CHARACTER}),
    "nosymfollow": ("nosymfollow", {Kind.SYMLINK}),
}
"""What is said for each mount option, and of which objects (mount(8)); devices are written to all the same."""


def test_what_a_mount_refuses_is_said_of_what_it_concerns() -> None:
    options = [option for option, _ in OF_MOUNTS.values()]
    for count in range(len(options) + 1):
        for some in itertools.combinations(options, count):
            for kind in TYPES:
                said = told(kind, 0o755, some).keys() & OF_MOUNTS.keys()
                assert said == {code for code, (option, kinds) in OF_MOUNTS.items() if option in some and kind in kinds}

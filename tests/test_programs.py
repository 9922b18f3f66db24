"""What Fiat says of executing a file, against what execve(2) says: programs with every kind of damage, and scripts."""

import os
import random
import shutil
import struct
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path

import pytest

import fiat
from fiat.app.byname import by_name
from fiat.core.model.principals import Principal
from support.filesystems import ROOT, fresh
from support.kernel import as_somebody
from support.program import fiat as run_fiat

PROGRAM = Path(shutil.which("true") or "/bin/true").resolve()
SEED = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
TRIALS = 150
SOMEBODY = Principal("user", None, 20001, frozenset((30001,)))
_TYPE, _MACHINE, _TABLE, _SIZE, _COUNT = 16, 18, 32, 54, 56
"""Where these stand in the header of a program of 64 bits (elf(5))."""

pytestmark = pytest.mark.skipif(PROGRAM.read_bytes()[:5] != b"\x7fELF\x02", reason="programs here are of another kind")


def begun(path: str) -> int:
    """The errno of execve(2); 0 where the program, such as it is, has begun to run or was killed for what it is."""
    reader, writer = os.pipe()
    child = os.fork()
    if not child:
        null = os.open(os.devnull, os.O_RDWR)
        for stream in (0, 1, 2):
            os.dup2(null, stream)
        try:
            os.execve(path, [path], {})
        except OSError as error:
            os.write(writer, struct.pack("i", error.errno or 0))
        finally:
            os._exit(0)
    os.close(writer)
    data = os.read(reader, 4)
    os.close(reader)
    os.waitpid(child, 0)
    return int(struct.unpack("i", data)[0]) if data else 0


def changed(start: bytes, at: int, form: str, value: int) -> bytes:
    size = struct.calcsize(form)
    return start[:at] + struct.pack(form, value) + start[at + size :]


def loader_entry(program: bytes) -> int:
    """Where the entry of the table stands that names the loader."""
    (table,) = struct.unpack_from("<Q", program, _TABLE)
    size, count = struct.unpack_from("<HH", program, _SIZE)
    return next(at for at in range(table, table + size * count, size) if program[at : at + 4] == b"\x03\0\0\0")


def with_loader(program: bytes, path: bytes) -> bytes:
    """The program with another loader, whose path is put at the end."""
    at = loader_entry(program)
    program = changed(program, at + 8, "<Q", len(program))
    program = changed(program, at + 32, "<Q", len(path) + 1)
    return program + path + b"\0"


def damaged(program: bytes, folder: str) -> Iterator[tuple[str, bytes]]:
    """Files by name, each with one thing that the kernel looks at made different."""
    yield "whole", program
    for count in (0, 1, 2, 3, 4, 16, 40, 63, 64, 100, 500):
        yield f"first-{count}", program[:count]
    for at, form, values in (
        (_TYPE, "<H", (0, 1, 4, 5, 0xFFFF)),
        (_MACHINE, "<H", (0, 2, 8, 40, 20, 0xFFFF)),
        (_SIZE, "<H", (0, 1, 32, 55, 57)),
        (_COUNT, "<H", (0, 1, 1171, 0xFFFF)),
        (_TABLE, "<Q", (1 << 40, len(program), len(program) - 8)),
    ):
        for value in values:
            yield f"at-{at}-{value}", changed(program, at, form, value)
    entry = loader_entry(program)
    for value in (0, 1, 2, 4096, 4097, 1 << 40):
        yield f"loader-length-{value}", changed(program, entry + 32, "<Q", value)
    yield "loader-beyond-the-end", changed(program, entry + 8, "<Q", len(program) + 10)
    for name in ("missing", "plain", "closed", "script", "", "empty", "garbage", "inside/closed-off"):
        yield f"loader-{name.replace('/', '-') or 'directory'}", with_loader(program, f"{folder}/{name}".encode())
    yield "loader-of-no-text", with_loader(program, b"not\xffutf8")
    yield "loader-nowhere", changed(program, entry + 8, "<Q", (1 << 63) - 8)
    yield "loader-at-a-nul", changed(program, entry + 8, "<Q", 9)
    yield "zeros", bytes(300)
    yield "nul-first", b"#!\0/bin/sh\n"
    yield "only-blanks", b"#!" + b" " * 300
    yield "blanks-and-the-end", b"#!" + b" " * 30
    yield "blanks-and-a-newline", b"#!" + b" " * 30 + b"\n"
    yield "text", b"echo hello\n"
    for line in (
        b"#!",
        b"#! ",
        b"#!\n",
        b"#!/bin/sh",
        b"#! /bin/sh -e\n",
        b"#!/bin/sh\r\n",
        b"#!\t/bin/sh\texit",
        b"#!x",
    ):
        yield f"script-{line.hex()}", line
    for length in (250, 253, 254, 255, 256, 257, 300):
        yield f"long-{length}", b"#!/" + b"/" * (length - 9) + b"bin/sh\nexit\n"
        yield f"longer-{length}", b"#!/bin/sh " + b"x" * (length - 10)
    for name in ("plain", "garbage", "empty", "closed", "inside/closed-off"):
        yield f"script-of-{name.replace('/', '-')}", f"#!{folder}/{name}\n".encode()


def surroundings(folder: str) -> None:
    """What loaders and interpreters are taken from."""
    os.mkdir(f"{folder}/inside")
    for name, mode, data in (
        ("plain", 0o644, PROGRAM.read_bytes()),
        ("closed", 0o700, PROGRAM.read_bytes()),
        ("script", 0o755, b"#!/bin/sh\n"),
        ("empty", 0o755, b""),
        ("garbage", 0o755, b"neither program nor script\n"),
        ("inside/closed-off", 0o755, PROGRAM.read_bytes()),
    ):
        Path(f"{folder}/{name}").write_bytes(data)
        os.chmod(f"{folder}/{name}", mode)
    os.chmod(f"{folder}/inside", 0o700)


def compare(folder: str, files: Iterator[tuple[str, bytes]], people: Sequence[Principal | None]) -> int:
    """Write each file, and compare what Fiat says with what happens; how many answers were compared."""
    compared = 0
    host = fiat.open_host()
    for name, data in files:
        path = f"{folder}/{name}"
        Path(path).write_bytes(data)
        os.chmod(path, 0o755)
        for who in people:
            word = "self" if who is None else f"uid:{who.uid}"
            said = fiat.why(host, word, "execute", path).verdict.errno
            real = as_somebody(who, partial(begun, path))
            assert said == real, (name, word, os.strerror(said), os.strerror(real))
            compared += 1
        os.unlink(path)
    return compared


@pytest.mark.slow
def test_every_damage_is_the_kernels_answer() -> None:
    with fresh("here") as folder:
        surroundings(folder)
        people = [None, SOMEBODY] if ROOT else [None]
        assert compare(folder, damaged(PROGRAM.read_bytes(), folder), people) > 70


@pytest.mark.slow
def test_random_damage_to_the_header_is_the_kernels_answer() -> None:
    """Bytes of the header and the table of programs, as they come: what begins to run is stopped at once by itself."""
    dice = random.Random(int(os.environ.get("FIAT_JUDGE_SEED", "1")))
    program = PROGRAM.read_bytes()
    entry = loader_entry(program)
    # not the addresses, whose damage is found only when there is no way back
    places = [
        *range(4),
        *range(16, 20),
        *range(32, 40),
        *range(54, 58),
        *range(entry, entry + 4),
        *range(entry + 8, entry + 16),
    ]

    def files() -> Iterator[tuple[str, bytes]]:
        for number in range(int(os.environ.get("FIAT_JUDGE_PROGRAMS", "150"))):
            data = bytearray(program)
            for _ in range(dice.choice((1, 1, 2))):
                data[dice.choice(places)] = dice.choice((0, 1, 2, 3, 56, 255, dice.randrange(256)))
            yield f"r{number}", bytes(data)

    with fresh("here") as folder:
        assert compare(folder, files(), [None]) >= 100


@pytest.mark.root
def test_handlers_for_further_kinds_of_programs() -> None:
    """What a handler takes is run by its interpreter, whatever the kernel itself would say of it."""
    with fresh("here") as folder:
        surroundings(folder)
        registry = f"{folder}/registry"
        os.mkdir(registry)
        subprocess.run(["mount", "-t", "binfmt_misc", "none", registry], check=True)
        handlers = {
            "fiat-magic": rf":fiat-magic:M:1:\xf1\xa7:\xff\x7f:{PROGRAM}:",
            "fiat-name": f":fiat-name:E::fiatname::{folder}/closed:",
            "fiat-gone": f":fiat-gone:E::fiatgone::{folder}/missing:",
            "fiat-off": f":fiat-off:E::fiatoff::{PROGRAM}:",
        }
        try:
            for line in handlers.values():
                Path(f"{registry}/register").write_text(line)
            Path(f"{registry}/fiat-off").write_text("0")
            files = [
                ("magic", b"x\xf1\xa7"),
                ("masked", b"y\xf1\x27 and more"),
                ("elsewhere", b"xx\xf1\xa7"),
                ("short", b"x\xf1"),
                ("a.fiatname", b""),
                ("b.fiatname", b"#!/bin/sh\n"),
                ("c.fiatgone", PROGRAM.read_bytes()),
                ("d.fiatoff", b"nothing"),
                ("fiatname", b"nothing"),
                ("script-of-it", f"#!{folder}/kept.fiatname\n".encode()),
            ]
            Path(f"{folder}/kept.fiatname").write_bytes(b"")
            os.chmod(f"{folder}/kept.fiatname", 0o755)
            assert compare(folder, iter(files), [None, SOMEBODY]) == 2 * len(files)
            text = run_fiat("why", "root", "execute", f"{folder}/kept.fiatname").stdout
            assert "run by the handler fiat-name (binfmt_misc), which decides in the end" in text
        finally:
            for name in handlers:
                with suppress(OSError):
                    Path(f"{registry}/{name}").write_text("-1")
            subprocess.run(["umount", registry], check=True)


@pytest.mark.parametrize(
    ("line", "missing"),
    [
        ("#!/usr/bin/env nothere", "nothere"),
        ("#!/usr/bin/env sh", ""),
        ("#!/usr/bin/env sh -u", "sh -u"),
        ("#!/usr/bin/env -S sh -u", ""),
        ("#!/usr/bin/env -S X=1 nothere -u", "nothere"),
        ("#!/usr/bin/env -i sh", ""),
        ("#!/bin/sh nothere", ""),
    ],
)
def test_a_program_that_env_will_not_find_is_told(folder: str, line: str, missing: str) -> None:
    Path(f"{folder}/script").write_text(f"{line}\nexit 7\n")
    os.chmod(f"{folder}/script", 0o755)
    found = fiat.why(fiat.open_host(), "self", "execute", f"{folder}/script")
    assert found.verdict.allowed
    said = [caveat.text for caveat in found.caveats if caveat.code == "not-in-path"]
    assert bool(said) == bool(missing)
    assert not said or f"'{missing}'" in said[0]


_CONTENTS = ("#!/bin/sh\necho RAN {0}\n", "echo RAN {0}\n", "#!/bin/bash\necho RAN {0}\n", "", "#!/nowhere/sh\n")


@pytest.mark.root
@pytest.mark.slow
def test_what_is_found_by_a_name_is_what_a_shell_runs(folder: str) -> None:
    """Folders and files of all kinds of modes and owners; a shell of somebody is asked for the name."""
    choices = random.Random(SEED)
    os.chmod(folder, 0o755)
    host = fiat.open_host()
    ran = refused = 0
    for trial in range(TRIALS):
        top = f"{folder}/{trial}"
        os.mkdir(top, 0o755)
        folders = [f"{top}/{number}" for number in range(choices.randint(1, 4))]
        for where in folders:
            os.mkdir(where)
            if choices.random() < 0.7:
                path = f"{where}/tool"
                if choices.random() < 0.1:
                    os.mkdir(path)
                else:
                    Path(path).write_text(choices.choice(_CONTENTS).format(path))
                os.chmod(path, choices.choice((0o755, 0o644, 0o711, 0o750, 0o070, 0o500, 0o001)))
                os.chown(path, choices.choice((0, 20001)), choices.choice((0, 30001)))
            os.chmod(where, choices.choice((0o755, 0o755, 0o711, 0o744, 0o700)))
            os.chown(where, choices.choice((0, 20001)), 0)
        path_list = ":".join(folders)
        command = ["/bin/bash", "--norc", "-c", "tool"]
        done = as_somebody(
            SOMEBODY,
            partial(
                subprocess.run, command, env={"PATH": path_list}, capture_output=True, text=True, check=False, cwd="/"
            ),
        )
        found = by_name(host, SOMEBODY, "tool", path_list)
        told = found.program.path if found.program is not None else None
        really = done.stdout.strip().removeprefix("RAN ") or None
        if told is not None and os.path.getsize(told) == 0:
            assert (done.returncode, done.stdout) == (0, ""), (done, path_list)
        else:
            assert told == really, (done, path_list)
        if told is None:
            nothing = "command not found" in done.stderr  # which this shell also says of what has no x at all
            taken = any(place.takes for place in found.places)
            assert nothing if not found.refused else not (taken and nothing), (done, path_list)
        ran, refused = ran + (told is not None), refused + bool(found.refused)
    assert min(ran, refused) > TRIALS / 10

"""What execve(2) sees of a file, and what it leaves of a process's capabilities.

execve(2), "Interpreter scripts"; elf(5); the kernel's ``load_script``
(``fs/binfmt_script.c``) and ``load_elf_binary`` (``fs/binfmt_elf.c``);
capabilities(7), "Transformation of capabilities during execve()".
"""

import os
import re
import struct
from collections.abc import Callable
from functools import lru_cache

from fiat.core.model import capabilities
from fiat.core.model.program import Format, Program

SHORTEST = 3
"""Bytes of ``#!x``: nothing shorter can be run."""

FIRST_BYTES = 1024
"""How much is read at once: a script's line, and mostly all that a program says of its loader."""

_LINE = 256  # BINPRM_BUF_SIZE: what execve(2) reads of a script's first line
_LONGEST_PATH = 4096  # PATH_MAX

_MACHINES = {
    "x86_64": {62: True, 3: False},
    "aarch64": {183: True, 40: False},
    "riscv64": {243: True},
    "ppc64le": {21: True},
}
"""For each machine the programs that its kernel runs: the number in their header, and whether their words are 64 bits.

elf(5), e_machine. All of these machines are little-endian.
"""

Reader = Callable[[int, int], bytes]
"""Reads so many bytes from an offset on; fewer where the file ends."""


def program_in(start: bytes, read: Reader, machine: str) -> Program:
    """What the file that begins with ``start`` is to the kernel of a ``machine`` (as uname(2) names it).

    ``read`` is asked for what lies beyond the start. Raises OSError as it does.
    """
    if start.startswith(b"#!"):
        return _script(*start[2:_LINE].partition(b"\n")[:2])
    if start.startswith(b"\x7fELF"):
        return _binary(start, read, machine)
    if not start:
        return Program(Format.NONE, problem="it is empty")
    return Program(Format.NONE, problem="it is neither a program nor a script with #! in its first line")


@lru_cache(1024)
def _script(line: bytes, newline: bytes) -> Program:
    """A script, by the rules of ``load_script``: only spaces, tabs, newlines and NUL end the interpreter's name."""
    name = re.match(rb"[ \t]*([^ \t\0]+)", line)
    if name is None:
        return Program(Format.NONE, problem="no interpreter follows its #!")
    if not newline and name.end() == _LINE - 2:
        return Program(Format.NONE, problem="its first line is too long")
    problem = "its first line ends with a carriage return" if name[1].endswith(b"\r") else ""
    return Program(Format.SCRIPT, os.fsdecode(name[1]), problem)


def _binary(start: bytes, read: Reader, machine: str) -> Program:
    """A program in the ELF format, and its loader."""
    known = _MACHINES.get(machine)
    wide, order = start[4:5] == b"\x02", ">" if start[5:6] == b"\x02" else "<"
    if known is not None:  # the kernel looks at the number alone
        processor, order = int.from_bytes(start[18:20], "little"), "<"
        if processor not in known:
            return Program(Format.NONE, problem="it is a program for another kind of processor")
        wide = known[processor]
    header = struct.Struct(order + ("16xHHIQQQIHHH" if wide else "16xHHIIIIIHHH"))
    if len(start) < header.size:
        return Program(Format.NONE, problem="it is a program cut short")
    kind, _, _, _, table, _, _, _, size, count = header.unpack_from(start)
    if kind not in (2, 3) or size != (56 if wide else 32) or not 0 < count * size <= 65536:
        return Program(Format.NONE, problem="it is no program that can be run, such as a part of one")
    entries = _bytes(start, read, table, count * size)
    if len(entries) < count * size:
        return Program(Format.NONE, problem="it is a program cut short")
    for number in range(count):
        offset, length = _loader_of(entries, number * size, order, wide=wide)
        if not length:
            continue
        if not 2 <= length <= _LONGEST_PATH:
            return Program(Format.NONE, problem="the path of its loader is no path")
        path = _bytes(start, read, offset, length)
        if len(path) < length or path[-1:] != b"\0":
            return Program(Format.NONE, problem="it is a program cut short")
        return Program(Format.BINARY, os.fsdecode(path.partition(b"\0")[0]))
    return Program(Format.BINARY)


def _loader_of(entries: bytes, at: int, order: str, *, wide: bool) -> tuple[int, int]:
    """Where the loader's path stands, and its length with the NUL; 0 where this entry of the table is about another."""
    if wide:
        kind, _, offset, _, _, length = struct.unpack_from(order + "IIQQQQ", entries, at)
    else:
        kind, offset, _, _, length = struct.unpack_from(order + "IIIII", entries, at)
    return (offset, length) if kind == 3 else (0, 0)  # PT_INTERP


def _bytes(start: bytes, read: Reader, offset: int, count: int) -> bytes:
    return start[offset : offset + count] if offset + count <= len(start) else read(offset, count)


def left_after_exec(*, root: bool, inheritable: int, bounding: int, ambient: int) -> int:
    """The capabilities that a process leaves to a program which it runs and which has none of its own.

    ``root`` tells whether its real or effective user is number 0; the others
    are the process's own sets, by mask.
    """
    return (inheritable | bounding) & capabilities.ALL if root else ambient

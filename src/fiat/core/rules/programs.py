"""What execve(2) sees of a file, and what it leaves of a process's capabilities.

execve(2), "Interpreter scripts"; elf(5); the kernel's ``load_script``
(``fs/binfmt_script.c``) and ``load_elf_binary`` (``fs/binfmt_elf.c``);
capabilities(7), "Transformation of capabilities during execve()".
"""

import errno
import os
import re
import struct
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from fiat.core.model import capabilities
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.posture import Format, Program
from fiat.core.model.principals import Limits

if TYPE_CHECKING:
    from fiat.core.rules.handlers import Handler


SHORTEST = 2
"""Bytes of ``#!``: of anything shorter it is known what execve(2) says (ENOEXEC)."""

FIRST_BYTES = 1024
"""How much is read at once: a script's line, and mostly all that a program says of its loader."""

_LINE = 256  # BINPRM_BUF_SIZE: what execve(2) reads of a script's first line
_LONGEST_PATH = 4096  # PATH_MAX
_HEADER = 64  # bytes of the header of a program of 64 bits
_RUNS = (2, 3)  # ET_EXEC, ET_DYN
_LOADER = 3  # PT_INTERP
_FARTHEST = 1 << 63  # what lies there cannot be asked for (EINVAL)

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


def program_in(start: bytes, read: Reader, machine: str, handlers: "Sequence[Handler]" = (), name: str = "") -> Program:
    """What the file that begins with ``start`` is to the kernel of a ``machine`` (as uname(2) names it).

    ``read`` is asked for what lies beyond the start. ``handlers`` are those of
    the host, which may go by the file's ``name``. Raises OSError as ``read`` does.
    """
    handler = None
    if handlers:
        from fiat.core.rules.handlers import taking  # most hosts have none

        handler = taking(handlers, start, name)
    if handler is not None:
        as_loader = _own(start, read, machine).loader_errno
        runs_with = None if handler.opened else handler.interpreter
        return Program(Format.HANDLED, runs_with, "", 0, as_loader, handler.name)
    return _own(start, read, machine)


def _own(start: bytes, read: Reader, machine: str) -> Program:
    """What it is to the kernel by itself."""
    if start.startswith(b"\x7fELF"):
        return _binary(start, read, machine)
    # a loader's header is read whole before anything is looked at (elf_read)
    as_loader = errno.EIO if len(start) < _HEADER else errno.ELIBBAD
    if start.startswith(b"#!"):
        return _script(*start[2:_LINE].partition(b"\n")[:2], as_loader)
    if not start:
        return _nothing(NO_FORMAT[0], loader_errno=as_loader)
    return _nothing(NO_FORMAT[1], loader_errno=as_loader)


NO_FORMAT = ("it is empty", "it is neither a program nor a script with #! in its first line")
"""What is wrong with what a shell takes for a script of its own, where it may read it."""


def _nothing(problem: str, *, error: int = errno.ENOEXEC, loader_errno: int = errno.ELIBBAD) -> Program:
    return Program(Format.NONE, None, problem, error, loader_errno)


@lru_cache(1024)
def _script(line: bytes, newline: bytes, as_loader: int) -> Program:
    """A script, by the rules of ``load_script``: only spaces, tabs, newlines and NUL end the interpreter's name."""
    name = re.match(rb"[ \t]*([^ \t\0]+)", line)
    if name is None:
        # where it is not the line's end that comes first, the name is empty: the kernel opens the current directory
        ended = bool(newline) or len(line) == _LINE - 2
        error = errno.ENOEXEC if ended and not line.strip(b" \t") else errno.EACCES
        return _nothing("no interpreter follows its #!", error=error, loader_errno=as_loader)
    if not newline and name.end() == _LINE - 2:
        return _nothing("its first line is too long", loader_errno=as_loader)
    problem = "its first line ends with a carriage return" if name[1].endswith(b"\r") else ""
    sought = _sought(line[name.end() :]) if os.path.basename(name[1]) == b"env" else ""
    return Program(Format.SCRIPT, os.fsdecode(name[1]), problem, 0, as_loader, sought)


def _sought(rest: bytes) -> str:
    """What env(1) looks for, told by the rest of a script's line; empty where that is not plain.

    The kernel gives all of it as one word, so a program's own arguments become
    a part of its name, unless ``-S`` has env split them.
    """
    word = os.fsdecode(rest.partition(b"\0")[0]).strip(" \t")
    split = re.match(r"(?:-S|--split-string=)[ \t]*(.*)", word)
    if split is not None:
        words = [one for one in split[1].split() if "=" not in one]
        word = words[0] if words else ""
    return "" if word.startswith("-") else word


def _binary(start: bytes, read: Reader, machine: str) -> Program:
    """A program in the ELF format, and its loader."""
    known = _MACHINES.get(machine)
    wide, order = start[4:5] == b"\x02", ">" if start[5:6] == b"\x02" else "<"
    cut = errno.EIO if len(start) < _HEADER else errno.ELIBBAD
    if known is not None:  # the kernel looks at the number alone
        processor, order = int.from_bytes(start[18:20], "little"), "<"
        if processor not in known:
            return _nothing("it is a program for another kind of processor", loader_errno=cut)
        wide = known[processor]
    header = struct.Struct(order + ("16xHHIQQQIHHH" if wide else "16xHHIIIIIHHH"))
    kind, _, _, _, table, _, _, _, size, count = header.unpack_from(start.ljust(header.size, b"\0"))
    entries = b""
    if size == (56 if wide else 32) and 0 < count * size <= 65536:
        entries = _bytes(start, read, table, count * size)
    if not entries or len(entries) < count * size:
        return _nothing("it is a program cut short, or a part of one", loader_errno=cut)
    if kind not in _RUNS:  # of a loader this is looked at when there is no way back
        return _nothing("it is no program that can be run, such as a part of one", loader_errno=0)
    return _with_loader(start, read, entries, order, wide=wide)


def _with_loader(start: bytes, read: Reader, entries: bytes, order: str, *, wide: bool) -> Program:
    """The program with the loader that the first such entry of its table names; as a loader it would need none."""
    entry = struct.Struct(order + ("I4xQ16xQ" if wide else "II8xI"))
    for at in range(0, len(entries), 56 if wide else 32):
        kind, offset, length = entry.unpack_from(entries, at)
        if kind != _LOADER:
            continue
        if not 2 <= length <= _LONGEST_PATH:
            return _nothing("the path of its loader is no path", loader_errno=0)
        if offset + length >= _FARTHEST:
            return _nothing("the path of its loader lies nowhere", error=errno.EINVAL, loader_errno=0)
        path = _bytes(start, read, offset, length)
        if len(path) < length:
            return _nothing("the path of its loader lies beyond its end", error=errno.EIO, loader_errno=0)
        if path[-1:] != b"\0":
            return _nothing("the path of its loader has no end", loader_errno=0)
        if path.startswith(b"\0"):  # the kernel opens the current directory
            return _nothing("the path of its loader is empty", error=errno.EACCES, loader_errno=0)
        return Program(Format.BINARY, os.fsdecode(path.partition(b"\0")[0]))
    return Program(Format.BINARY)


def _bytes(start: bytes, read: Reader, offset: int, count: int) -> bytes:
    if offset + count <= len(start):
        return start[offset : offset + count]
    return read(offset, count) if offset + count < _FARTHEST else b""


def left_after_exec(permitted: int, ambient: int, limits: Limits, *, root: bool) -> int:
    """The capabilities that a process leaves to a program which it runs and which has none of its own.

    ``root`` tells whether its effective user is root in its user namespace,
    and its securebits let that count (SECBIT_NOROOT). The sets are the
    process's own, by mask. The kernel's ``cap_bprm_creds_from_file`` and
    ``handle_privileged_root``; with no_new_privs nothing is gained.
    """
    if not root:
        return ambient
    gained = limits.inheritable | limits.bounding
    if limits.no_new_privileges and gained & ~permitted:
        gained &= permitted
    return gained & capabilities.ALL | ambient


def may_not_hold(held: FileCapabilities, limits: Limits) -> bool:
    """Whether execve(2) of a program with the capabilities ``held`` is refused (EPERM).

    That is where the program is to have them from its start, and a process may
    not have them all (capabilities(7), "Safety checking for capability-dumb
    binaries"). Capabilities for another user namespace count for nothing.
    """
    if not held.effective or (held.rootid is not None and held.rootid != limits.root):
        return False
    gained = held.permitted & limits.bounding | held.inheritable & limits.inheritable
    return bool(held.permitted & ~gained & capabilities.ALL)

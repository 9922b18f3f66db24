"""Reading a word in any notation for permissions, and saying which one it was.

A word may fit more than one: then it has more than one reading, the likelier
first. Sources: :mod:`fiat.core.model.mode`, :mod:`fiat.core.words.entries`,
:mod:`fiat.core.model.capabilities` and :mod:`fiat.core.model.umask` name theirs.
"""

import binascii
import re
import stat
from collections.abc import Callable
from typing import NamedTuple

from fiat.core.errors import FiatError, NotationError
from fiat.core.model import capabilities, listbytes, umask
from fiat.core.model.accesslist import AccessList, Entry
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.mode import parse_letters
from fiat.core.model.modechange import ModeChange, parse_change
from fiat.core.model.posture import Kind
from fiat.core.text import quoted
from fiat.core.words import entries
from fiat.core.words.modes import type_letter


class ModeReading(NamedTuple):
    """A mode, in octal or letters. ``kind`` is told by ten letters, ``has_list`` by a ``+`` after them."""

    notation: str
    mode: int
    kind: Kind | None = None
    has_list: bool = False


class PermissionsReading(NamedTuple):
    """What one class has: three letters, or those of them that are there."""

    notation: str
    permissions: int


class ChangeReading(NamedTuple):
    """Clauses, and the modes that they make of one that a file has, and of one that a directory has.

    ``program`` is what they make of a file that has the mode of the directory, where both are not the same.
    """

    notation: str
    change: ModeChange
    on_file: int
    on_directory: int
    file: int
    directory: int
    program: int | None = None


class UmaskReading(NamedTuple):
    """A umask, in octal or clauses."""

    notation: str
    umask: int


class EntryReading(NamedTuple):
    """A single access entry in text form."""

    notation: str
    entry: Entry


class ListReading(NamedTuple):
    """A whole access list: text, or the kernel's bytes in hexadecimal or base64."""

    notation: str
    acl: AccessList


class CapabilitiesReading(NamedTuple):
    """File capabilities: the kernel's bytes in hexadecimal or base64."""

    notation: str
    capabilities: FileCapabilities


Reading = (
    ModeReading | PermissionsReading | ChangeReading | UmaskReading | EntryReading | ListReading | CapabilitiesReading
)

USUAL = (0o644, 0o755)
"""The modes that files and directories most often have: what clauses are applied to where no other is given."""


def read(word: str, accounts: Accounts, *, on: int | None = None, mask: int = 0) -> list[Reading]:
    """Every reading of ``word``, the likelier first; clauses are applied to the mode ``on`` under the umask ``mask``.

    Raises :class:`NotationError` (or another :class:`FiatError`) that says
    what is wrong with the word in the notation that it is nearest to.
    """
    text = word.strip()
    if re.fullmatch(r"0o[0-7]{1,4}", text):
        return _read_octal(text[2:])
    if re.fullmatch(r"[0-9]{1,4}", text):
        return _read_octal(text)
    if re.fullmatch(r"0?[0-7]{5,6}", text):
        return [_read_with_type(text)]
    if re.fullmatch(r"r?w?x?|[r-][w-][x-]", text) and text:
        value = entries.parse_permissions(text)
        alone: list[Reading] = [PermissionsReading("letters", value)]
        return [*alone, _read_clauses(text, on, mask)] if text[0] == "-" and value else alone
    data = _bytes_of(text)
    if data is not None:
        return _read_bytes(*data)
    if ":" in text:
        return _read_entries(text, accounts)
    if re.search(r"[-rwxsStT]{6}", text) or (len(text) > 6 and not re.search(r"[+=,]", text[:-1])):
        return [_read_letters(text)]
    if re.search(r"[-+=]", text):
        return [_read_clauses(text, on, mask)]
    raise NotationError(
        word,
        f"no notation fits {quoted(word)}; these do: 640, 2750, rwxr-x---, u=rw,g+X, user:NAME:r-x, "
        "or the bytes of a list in hexadecimal or base64",
    )


def read_umask(word: str, current: int) -> UmaskReading:
    """``word`` as a umask; clauses change the umask ``current``."""
    notation = "octal" if word.isdecimal() else "clauses"
    return UmaskReading(notation, umask.parse(word, current))


def _read_octal(word: str) -> list[Reading]:
    value = parse_change(word).octal
    assert value is not None
    as_mode = ModeReading("octal", value)
    if value == 0 or value & 0o400 or value > 0o777:
        return [as_mode]
    # As a mode it would not let the owner read: a umask is at least as likely.
    return [UmaskReading("octal", value), as_mode]


def _read_with_type(word: str) -> ModeReading:
    """The mode with the type of the file before it, as stat(2) gives both in one number."""
    number = int(word, 8)
    kind = _KINDS.get(stat.S_IFMT(number))
    if kind is None:
        known = ", ".join(f"{value:o} {kind.value}" for value, kind in _KINDS.items())
        raise NotationError(word, f"{quoted(word)} begins with no type of file; these do: {known}")
    return ModeReading("octal", stat.S_IMODE(number), kind)


_KINDS = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIRECTORY,
    stat.S_IFLNK: Kind.SYMLINK,
    stat.S_IFIFO: Kind.FIFO,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFBLK: Kind.BLOCK,
    stat.S_IFCHR: Kind.CHARACTER,
}
"""The types of files by their bits (inode(7))."""


def _read_clauses(word: str, on: int | None, mask: int) -> ChangeReading:
    change = parse_change(word)
    before = USUAL if on is None else (on, on)
    file, directory = (
        change.apply(mode, directory=kind, umask=mask) for mode, kind in zip(before, (False, True), strict=True)
    )
    program = change.apply(before[1], directory=False, umask=mask) if on is None else None
    return ChangeReading("clauses", change, *before, file, directory, program)


def _read_letters(word: str) -> ModeReading:
    has_list = word.endswith("+")
    letters = word.removesuffix("+")
    kind = None
    if len(letters) == 10:
        kind = type_letter(word)
        letters = letters[1:]
    return ModeReading("letters", parse_letters(letters), kind, has_list)


def _read_entries(text: str, accounts: Accounts) -> list[Reading]:
    if not re.search(r"[,\n]", text):
        return [EntryReading("entry", entries.parse_entry(text, accounts.user_id, accounts.group_id))]
    return [ListReading("entries", entries.parse_list(text, accounts.user_id, accounts.group_id))]


# --- bytes -------------------------------------------------------------------


def _bytes_of(word: str) -> tuple[str, bytes] | None:
    """The bytes that ``word`` writes out, and how; None where it writes none."""
    digits = word.removeprefix("0x").removeprefix("0X")
    if re.fullmatch(r"(?:[0-9a-fA-F]{2}){4,}", digits):
        return "hexadecimal", bytes.fromhex(digits)
    if len(word) >= 8 and len(word) % 4 == 0 and re.fullmatch(r"[A-Za-z0-9+/]+={0,2}", word):
        try:
            data = binascii.a2b_base64(word, strict_mode=True)
        except binascii.Error:
            return None
        # letters such as "rwxrwxrwx---" are base64 too: take it for that only where a list could begin so
        if data[:4] == b"\x02\0\0\0" or (len(data) >= 12 and data[3:4] in (b"\x01", b"\x02", b"\x03")):
            return "base64", data
    return None


def _read_bytes(notation: str, data: bytes) -> list[Reading]:
    as_list: Callable[[], Reading] = lambda: ListReading(notation, listbytes.unpack(data))  # noqa: E731
    as_capabilities: Callable[[], Reading] = lambda: CapabilitiesReading(notation, capabilities.unpack(data))  # noqa: E731
    order = (as_list, as_capabilities) if data[:4] == b"\x02\0\0\0" else (as_capabilities, as_list)
    first: FiatError | None = None
    for reading in order:
        try:
            return [reading()]
        except FiatError as error:
            first = first or error
    assert first is not None
    raise first


def in_bytes(data: bytes) -> dict[str, str]:
    """``data`` in both notations for bytes, each of which :func:`read` takes."""
    return {"hexadecimal": f"0x{data.hex()}", "base64": binascii.b2a_base64(data, newline=False).decode()}


def sum_of(permissions: int) -> str:
    """The sum that makes an octal digit: ``4 + 2 + 1 = 7``."""
    parts = [str(bit) for bit in (4, 2, 1) if permissions & bit]
    return f"{' + '.join(parts)} = {permissions}" if len(parts) > 1 else str(permissions)

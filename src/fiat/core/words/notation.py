"""Reading a word in any notation for permissions, and saying which one it was.

A word may fit more than one: then it has more than one reading, the likelier
first. Sources: :mod:`fiat.core.model.mode`, :mod:`fiat.core.words.entries`,
:mod:`fiat.core.model.capabilities` and :mod:`fiat.core.model.umask` name theirs.
"""

import binascii
import re
from collections.abc import Callable

from fiat.core.errors import FiatError, NotationError
from fiat.core.model import capabilities, listbytes, umask
from fiat.core.model.accesslist import AccessList, Entry
from fiat.core.model.accounts import Accounts
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.kind import Kind
from fiat.core.model.mode import ModeChange, parse_change, parse_letters
from fiat.core.text import quoted
from fiat.core.typed import NamedTuple
from fiat.core.words import entries

_TYPE_LETTERS = {
    "-": Kind.FILE,
    "d": Kind.DIRECTORY,
    "l": Kind.SYMLINK,
    "p": Kind.FIFO,
    "s": Kind.SOCKET,
    "b": Kind.BLOCK,
    "c": Kind.CHARACTER,
}
"""The first letter of a ten-letter mode (POSIX.1-2017 XCU, file mode field of a directory listing)."""


class ModeReading(NamedTuple):
    """A mode, in octal or letters. ``kind`` is told by ten letters, ``has_list`` by a ``+`` after them."""

    notation: str
    mode: int
    kind: Kind | None = None
    has_list: bool = False


class ChangeReading(NamedTuple):
    """Clauses, and the modes that they make of ``on``."""

    notation: str
    change: ModeChange
    on: int
    file: int
    directory: int


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


Reading = ModeReading | ChangeReading | UmaskReading | EntryReading | ListReading | CapabilitiesReading


def read(word: str, accounts: Accounts, *, on: int = 0, mask: int = 0) -> list[Reading]:
    """Every reading of ``word``, the likelier first; clauses are applied to the mode ``on`` under the umask ``mask``.

    Raises :class:`NotationError` (or another :class:`FiatError`) that says
    what is wrong with the word in the notation that it is nearest to.
    """
    text = word.strip()
    if re.fullmatch(r"[0-9]{1,4}", text):
        return _read_octal(text)
    data = _bytes_of(text)
    if data is not None:
        return _read_bytes(*data)
    if ":" in text:
        return _read_entries(text, accounts)
    if re.search(r"[-rwxsStT]{6}", text) or (len(text) > 6 and not re.search(r"[+=,]", text[:-1])):
        return [_read_letters(text)]
    if re.search(r"[-+=]", text):
        change = parse_change(text)
        file, directory = (change.apply(on, directory=kind, umask=mask) for kind in (False, True))
        return [ChangeReading("clauses", change, on, file, directory)]
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


def _read_letters(word: str) -> ModeReading:
    has_list = word.endswith("+")
    letters = word.removesuffix("+")
    kind = None
    if len(letters) == 10:
        kind = _TYPE_LETTERS.get(letters[0])
        if kind is None:
            known = " ".join(_TYPE_LETTERS)
            raise NotationError(
                letters[0],
                f"{quoted(letters[0])}, the first of ten letters in {quoted(word)}, is no type; these are: {known}",
            )
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

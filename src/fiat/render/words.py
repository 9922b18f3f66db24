"""Plain words for what the core holds in codes."""

from collections.abc import Iterable

from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Principal
from fiat.core.text import visible

KIND = {
    Kind.FILE: "regular file",
    Kind.DIRECTORY: "directory",
    Kind.SYMLINK: "symlink",
    Kind.FIFO: "named pipe",
    Kind.SOCKET: "socket",
    Kind.BLOCK: "block device",
    Kind.CHARACTER: "character device",
}


def permissions(value: int, kind: Kind) -> str:
    """What permissions (0 to 7) let one do with an object of this kind: ``read, write``."""
    if kind is Kind.DIRECTORY:
        return _on_directory(value)
    return ", ".join(word for bit, word in ((4, "read"), (2, "write"), (1, "execute")) if value & bit) or "nothing"


def _on_directory(value: int) -> str:
    if value & 1:
        return ", ".join(
            word
            for bits, word in ((4, "list names"), (3, "add and remove names"), (1, "traverse"))
            if value & bits == bits
        )
    if value & 4:
        return "list names, no more: nothing in it can be used without x"
    return "nothing: w does nothing without x" if value else "nothing"


_PHRASES = {
    "read": "read",
    "write": "write",
    "execute": "execute",
    "traverse": "traverse",
    "list": "list the names in",
    "create": "create",
    "delete": "delete",
    "rename": "rename",
    "change-mode": "change the mode of",
    "change-owner": "change the owner of",
    "change-group": "change the group of",
}


def right_heading(right: str, kind: Kind) -> str:
    """The column heading of a right on an object of this kind."""
    if kind is Kind.DIRECTORY:
        return {"read": "list", "write": "add, remove", "create": "add"}.get(right, right)
    return right


def right_phrase(right: str, kind: Kind | None) -> str:
    """The right as a verb for a sentence: ``list the names in``."""
    if kind is Kind.DIRECTORY and right in ("read", "write", "create"):
        return {"read": "list the names in", "write": "add or remove names in", "create": "add names in"}[right]
    if kind is Kind.SOCKET and right == "write":
        return "connect to"
    if kind is not None and right == "create":
        return "open for writing, creating it,"
    return _PHRASES[right]


def user_name(uid: int, accounts: Accounts) -> str:
    """``keeper (7101)``, or ``7188 (no account)``."""
    user = accounts.user_numbered(uid)
    return f"{visible(user.name)} ({uid})" if user else f"{uid} (no account)"


def group_name(gid: int, accounts: Accounts) -> str:
    """``watch (7201)``, or ``7299 (no group of this number)``."""
    group = accounts.group_numbered(gid)
    return f"{visible(group.name)} ({gid})" if group else f"{gid} (no group of this number)"


def principal(who: Principal) -> str:
    """Who, for a sentence: ``surveyor``, ``uid 7188``, ``a member of watch alone``, ``process 812``."""
    name = visible(who.name) if who.name is not None else None
    if who.kind == "group":
        (gid,) = who.gids
        return f"a member of {name or gid} alone"
    if who.kind == "anyone-else":
        return "anyone else"
    if who.kind == "process":
        return f"process {who.pid} ({name or f'uid {who.uid}'})"
    return name or f"uid {who.uid}"


def who_word(who: Principal) -> str:
    """Who, as a word that a command line takes: ``surveyor``, ``uid:7188``, ``group:watch``."""
    if who.kind == "group":
        (gid,) = who.gids
        return f"group:{gid if who.name is None else who.name}"
    if who.kind == "anyone-else":
        return "anyone-else"
    if who.kind == "process":
        return f"pid:{who.pid}"
    return f"uid:{who.uid}" if who.name is None else who.name


def counted(number: int, one: str, many: str = "") -> str:
    """``1 user``, ``12 users``."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def of_all(number: int, whole: int, one: str) -> str:
    """``12 paths``, or ``5 of 12 paths`` where that is not all."""
    return counted(number, one) if number == whole else f"{number:,} of {counted(whole, one)}"


def several(names: Iterable[str], what: str = "", show: int = 6) -> str:
    """``4 users: keeper, steward, …``: the count where there are several, the first names, how many more."""
    given = list(names)
    return several_of(given[:show], len(given), what)


def several_of(first: list[str], count: int, what: str = "") -> str:
    """The same, where only the first names are at hand."""
    if not count:
        return ""
    shown = ", ".join(first)
    if count > len(first):
        shown += f" and {count - len(first):,} more"
    return f"{count:,} {what}: {shown}" if what and count > 1 else shown

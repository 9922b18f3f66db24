"""What is to be changed, from the words of a command line."""

from collections.abc import Iterable

from fiat.core.errors import NotationError, PathError
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.modechange import ModeChange
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.wish import ListWish, Wish
from fiat.core.text import quoted, visible
from fiat.core.tree.walk import walk
from fiat.core.words.entries import parse_entries, parse_permissions, parse_whom
from fiat.core.words.modes import is_mode, parse_mode


def mode_among(host: Host, words: list[str], *, alone: bool) -> tuple[list[str], str | None]:
    """The paths among ``words``, and the one mode: of several words the first or the last, where no file is called so.

    ``alone`` tells that the command line says nothing else of what is to be changed; a word
    that is only a mode is refused otherwise.
    """
    for place in (0, -1) if len(words) > 1 else ():
        word = words[place]
        if is_mode(word):
            there, shown = walk(host, word, follow=False).end is not None, visible(word)
            if not alone and not there:
                raise NotationError(word, f"there is no file {quoted(word)}; as a mode write --mode {shown}")
            if not alone:
                continue
            if there:
                raise NotationError(
                    word, f"{quoted(word)} is a mode and a file here; write --mode {shown}, or ./{shown}"
                )
            return [one for at, one in enumerate(words) if at != place % len(words)], word
    return words, None


def colons_among(host: Host, words: list[str]) -> tuple[list[str], str | None]:
    """The paths among ``words``, and the one word with colons that is no path: an owner and a group, or an access
    entry; of several words the first or the last, where no file is called so.
    """
    for place in (0, -1) if len(words) > 1 else ():
        word = words[place]
        if ":" in word and "/" not in word and walk(host, word, follow=False).end is None:
            return [one for at, one in enumerate(words) if at != place % len(words)], word
    return words, None


def list_wish(
    accounts: Accounts,
    *,
    entries: Iterable[str] = (),
    no_entries: Iterable[str] = (),
    mask: str | None = None,
    drop: bool = False,
) -> ListWish:
    """What is to become of a list; entries in text form, those to remove as ``user:NAME`` or ``group:NAME``."""
    return ListWish(
        parse_entries(entries, accounts.user_id, accounts.group_id),
        tuple(parse_whom(word, accounts.user_id, accounts.group_id) for word in no_entries),
        None if mask is None else parse_permissions(mask),
        drop,
    )


def wish(
    host: Host,
    *,
    mode: str | None = None,
    file_mode: str | None = None,
    dir_mode: str | None = None,
    owner: str | None = None,
    group: str | None = None,
    access: ListWish = ListWish(),  # noqa: B008
    default: ListWish = ListWish(),  # noqa: B008
    like: str | None = None,
    flags: Iterable[str] = (),
    no_flags: Iterable[str] = (),
) -> Wish:
    """What is to be changed.

    Modes are octal, letters or clauses, accounts names or numbers; ``owner`` may hold a group after a colon. Raises
    :class:`NotationError` or :class:`UnknownAccount` for a wrong word,
    :class:`PathError` where the path ``like`` cannot be looked at.
    """
    accounts = host.accounts
    for_all, for_files, for_directories = _modes(mode, file_mode, dir_mode)
    owner, group = _owners(owner, group)
    found = Wish(
        mode=for_all,
        file_mode=for_files,
        dir_mode=for_directories,
        uid=None if owner is None else accounts.user_id(owner),
        gid=None if group is None else accounts.group_id(group),
        access=access,
        default=default,
        like=None if like is None else _posture_of(host, like),
        flags=tuple(dict.fromkeys(flags)),
        no_flags=tuple(dict.fromkeys(no_flags)),
    )
    both = [flag for flag in found.flags if flag in found.no_flags]
    if both:
        shown = f"--flag {both[0]} and --no-flag {both[0]}"
        raise NotationError(both[0], f"{shown} contradict each other; write one of them")
    if found == Wish():
        raise NotationError("", "what shall be set? --mode, --owner, --entry, --flag and others say it; see --help")
    return found


def _modes(mode: str | None, file_mode: str | None, dir_mode: str | None) -> tuple[ModeChange | None, ...]:
    """The mode for everything, for what is no directory, and for directories; ten letters say for which they are."""
    found: dict[Kind | None, ModeChange] = {}
    if mode is not None:
        typed = parse_mode(mode)
        found[typed.kind] = typed.change
    for option, word, kind in (("--file-mode", file_mode, Kind.FILE), ("--dir-mode", dir_mode, Kind.DIRECTORY)):
        if word is None:
            continue
        typed = parse_mode(word)
        if typed.kind not in (None, kind):
            raise NotationError(word, f"{quoted(word)} is the mode of a {typed.kind.value}, and {option} is for others")
        found[kind] = typed.change
    return found.get(None), found.get(Kind.FILE), found.get(Kind.DIRECTORY)


def _owners(owner: str | None, group: str | None) -> tuple[str | None, str | None]:
    """The owner and the group; the owner's word may hold both, with a colon between."""
    if owner is None or ":" not in owner:
        return owner, group
    user, _, its_group = owner.partition(":")
    if group is not None:
        raise NotationError(owner, f"{quoted(owner)} names a group, and --group another; write one of them")
    if not its_group:
        raise NotationError(
            owner, f"a group is missing after {quoted(owner)}; write --owner {visible(user)} for the owner alone"
        )
    return user or None, its_group


def _posture_of(host: Host, path: str) -> Posture:
    route = walk(host, path) if path else None
    if route is None or route.end is None:
        raise PathError(path, route.errno if route else 2)
    return route.end.posture

"""The paths that a command is about: on the command line, or in a file."""

import argparse
import os

from fiat.app.trust import Trust
from fiat.cli.options.common import trust_of
from fiat.core.errors import NotationError
from fiat.core.text import quoted, shell_word, shortened
from fiat.core.words.who import parse_rights


def add_paths(parser: argparse.ArgumentParser, help: str, metavar: str = "PATH", *, needed: bool = True) -> None:
    """The paths, of which there must be one at least where they are ``needed``; and the option that says where more
    are."""
    action = parser.add_argument("paths", nargs="*", default=[], metavar=metavar, help=help)
    action.needed = needed  # type: ignore[attr-defined] # the parser does not ask for them: a file may hold them
    parser.set_defaults(paths_needed=metavar if needed else None)
    parser.add_argument("--paths-from", metavar="FILE", help=argparse.SUPPRESS)


def take_paths(args: argparse.Namespace) -> None:
    """Add the paths that are in a file to those of the command line.

    What is to be changed is read from a file that nobody else can write to. Raises :class:`NotationError` where there
    is none at all, :class:`fiat.core.errors.PathError` and :class:`fiat.core.errors.UntrustedFile`.
    """
    if args.paths_from is None:
        if args.paths_needed and not args.paths:
            raise _missing(args)
        return
    ended_by_null = getattr(args, "null", False) or getattr(args, "format", "") == "null"
    acts = (hasattr(args, "preview") and not args.preview and not hasattr(args, "do")) or bool(getattr(args, "do", 0))
    trust = trust_of(args, acts=acts) if hasattr(args, "trust_file") else Trust()
    found = _paths_in(args.paths_from, trust, ended_by_null=ended_by_null)
    if not found:
        raise NotationError("--paths-from", f"{quoted(args.paths_from)} holds no path")
    args.paths = [*args.paths, *found]


def _missing(args: argparse.Namespace) -> NotationError:
    """What is said where there is no path: the word that is missing may be another one, and the path in its place."""
    right = getattr(args, "right", None)
    if right is None:
        return NotationError("PATH", f"which {args.paths_needed}? Give one or more; see --help")
    try:
        parse_rights([right])
    except NotationError:
        line = " ".join(map(shell_word, (args.command, args.who, "read", right)))
        return NotationError(
            right, f"RIGHT is missing between {quoted(args.who)} and {quoted(right)}; write: fiat {line}"
        )
    return NotationError("PATH", f"which PATH? Write: fiat {args.command} {shell_word(args.who)} {right} PATH")


def add_null_of_paths(parser: argparse.ArgumentParser) -> None:
    """For a command that prints no lists of paths: that those which it reads are ended by NUL."""
    known = {option for action in parser._actions for option in action.option_strings}
    if "--paths-from" in known and "--null" not in known:
        parser.add_argument("--null", action="store_true", help=argparse.SUPPRESS)


def _paths_in(file: str, trust: Trust, *, ended_by_null: bool) -> list[str]:
    if file == "-":
        with open(0, "rb", closefd=False) as stdin:
            data = stdin.read(_LARGEST + 1)
        if len(data) > _LARGEST:
            raise NotationError("-", f"more than {_LARGEST:,} bytes of paths came through stdin")
    else:
        data = trust.read(file, "the list of paths", _LARGEST)
    ended = b"\0" if ended_by_null or b"\0" in data else b"\n"
    found = [os.fsdecode(one) for one in dict.fromkeys(data.split(ended)) if one]
    for path in found:
        if len(path) > _LONGEST:
            raise NotationError(
                path, f"{shortened(path)} in {quoted(file)} is no path: it has {len(path):,} characters"
            )
    return found


_LARGEST = 256 * 1024 * 1024
"""Bytes of a list of paths: some millions of them."""

_LONGEST = 65_536
"""Characters of a path: more than a call of the kernel takes at once, which is 4,096 bytes (path_resolution(7))."""

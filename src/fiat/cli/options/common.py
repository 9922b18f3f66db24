"""The options that every command takes, how options go together, and numbers on the command line."""

import argparse
import os
import re
import sys
from collections.abc import Iterator
from contextlib import ExitStack, suppress
from typing import TYPE_CHECKING

from fiat.app.configuration import NO_SETTINGS, Settings
from fiat.app.hosts import SAMPLE, open_host
from fiat.app.trust import FREE, Trust
from fiat.cli import progress
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import bounded, quoted, shortened, visible
from fiat.core.words.who import means_group
from fiat.render.output import Output
from fiat.render.terminal import height, say

if TYPE_CHECKING:
    from fiat.app.fleetwork import Engine
    from fiat.core.model.accounts import Accounts
    from fiat.render.pager import Pager

_SELECTING = ("--only", "--name", "--owned-by", "--in-group", "--with", "--with-any", "--without")


def goes_with(option: str, given: object, needed: str, there: object) -> None:
    """Refuse ``option``, if it is ``given``, where what it needs is not ``there``; :class:`NotationError`."""
    if given and not there:
        raise NotationError(option, f"{option} goes with {needed}")


def not_with(option: str, given: object, other: str, there: object, why: str) -> None:
    """Refuse ``option`` together with another one; :class:`NotationError`."""
    if given and there:
        raise NotationError(option, f"{option} does not go with {other}: {why}")


def selection_goes_with(args: argparse.Namespace, needed: str, there: object) -> None:
    """Refuse what chooses among many where there are not many; :class:`NotationError`."""
    given = (args.only, args.name, args.owned_by, args.in_group, args.having, args.with_any, args.without)
    for option, value in zip(_SELECTING, given, strict=True):
        goes_with(option, value, needed, there)


def process_number(word: str) -> int:
    """The number of a process as written."""
    return _number(word, "number of a process", most=2**31 - 1)


def count_of_users(word: str) -> int:
    """How many users, as written."""
    return _number(word, "number of users", most=2**32)


def rank_of_way(word: str) -> int:
    """The number of a way, as written."""
    return _number(word, "number of a way", most=10**6, from_one=True)


def count_of_entries(word: str) -> int:
    """How many entries of trees, as written."""
    return _number(word, "number of entries", most=2**32)


def count_of_snapshots(word: str) -> int:
    """How many snapshots, as written."""
    return _number(word, "number of snapshots", most=10**6, from_one=True)


def _number(word: str, what: str, *, most: int, from_one: bool = False) -> int:
    found = bounded(word, most)
    if found is None or (from_one and not found):
        hint = "; write one from 1 up" if from_one else ""
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no {what}{hint}")
    return found


def add_trust(parser: argparse._ActionsContainer) -> None:
    """Files that are trusted by name."""
    parser.add_argument("--trust-file", action="append", default=[], metavar="FILE", help=argparse.SUPPRESS)


def trust_of(args: argparse.Namespace, *, acts: bool) -> Trust:
    """What may say what is to be done, where this command line ``acts``; anything where it only looks."""
    held = getattr(args, "held", None)
    if held is not None:
        return Trust(held=held)
    return Trust(True, tuple(args.trust_file)) if acts else FREE


COMMON = {
    "--format": "text, json, jsonl, csv or parquet; --json is -f json",
    "--quiet": "print just what is wrong; the exit status says it",
    "--no-pager": "do not show long answers through FIAT_PAGER or PAGER",
    "--null": "print just the paths, ended by NUL; those read end so, too",
    "--paths-from": "more paths, in a file or - (stdin), ended by NUL, or lines",
    "--trust-file": "follow a file of orders, though others could write it",
    "--accounts": "users, groups from DIR/passwd, DIR/group (FIAT_ACCOUNTS)",
    "--accounts-timeout": "wait so many seconds for directories of accounts (5)",
    "--from": f"ask a snapshot, or a folder of many hosts'; {SAMPLE} is the sample",
    "--incomplete": "of a snapshot that is cut short use what there is",
    "--host": "of a folder of snapshots (--from FOLDER) just these hosts",
    "--at": "of each host the last snapshot up to this time",
    "--not-older": "leave out hosts whose snapshot is older (2d)",
    "--same-people": "who is the same on two hosts: by name, or by number",
    "--engine": "have workers elsewhere do it (tls://HOST:PORT; FIAT_ENGINE)",
    "--engine-tls": "the folder with their certificates (FIAT_ENGINE_TLS)",
}
"""The options that many commands have, which the help of each only names, with what they do."""


def common_in(parser: argparse.ArgumentParser) -> str:
    """The options of many commands that this one has, as the end of its help."""
    found = []
    for action in parser._actions:
        if action.option_strings[-1:] and action.option_strings[-1] in COMMON:
            words = " ".join(filter(None, (", ".join(action.option_strings), str(action.metavar or ""))))
            found.append(f"[{words}]")
    return f"as in other commands (see fiat --help): {' '.join(found)}" if found else ""


def add_common(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """How the result is shown, and which host is asked."""
    add_format(parser, formats)
    add_host(parser)


def add_format(parser: argparse.ArgumentParser, formats: tuple[str, ...]) -> None:
    """How the result is shown."""
    parser.add_argument(
        "-f", "--format", choices=formats, default="text", metavar="|".join(formats), help=argparse.SUPPRESS
    )
    parser.add_argument("--json", dest="format", action="store_const", const="json", help=argparse.SUPPRESS)
    parser.add_argument("-q", "--quiet", action="store_true", help=argparse.SUPPRESS)
    parser.add_argument("--no-pager", action="store_true", help=argparse.SUPPRESS)


def add_null(parser: argparse._ActionsContainer) -> None:
    """The form of nothing but paths."""
    parser.add_argument(
        "--null",
        dest="format",
        action="store_const",
        const="null",
        default=argparse.SUPPRESS,
        help=argparse.SUPPRESS,
    )


def add_paths_behind(parser: argparse._ActionsContainer) -> None:
    """Whether gains and losses are told with their paths."""
    parser.add_argument(
        "--paths", dest="with_paths", action="store_true", help="of gains and losses the topmost paths, too"
    )


def add_host(parser: argparse.ArgumentParser) -> None:
    """Add the options that say which host is asked: a snapshot, accounts from a folder."""
    parser.add_argument(
        "--accounts",
        metavar="DIR",
        help=argparse.SUPPRESS,
    )
    add_accounts_timeout(parser)
    parser.add_argument("--from", dest="snapshot", action=_From, metavar="SNAPSHOT", help=argparse.SUPPRESS)
    parser.add_argument("--incomplete", action="store_true", help=argparse.SUPPRESS)


class _From(argparse.Action):
    """Every snapshot, and every folder of them, that is named; ``snapshot`` is the last one."""

    def __call__(self, parser: object, namespace: argparse.Namespace, values: object, option: object = None) -> None:
        namespace.snapshot = values
        namespace.snapshots = [*(getattr(namespace, "snapshots", None) or []), values]


def add_accounts_timeout(parser: argparse.ArgumentParser) -> None:
    """How long the sources of accounts may take."""
    parser.add_argument("--accounts-timeout", type=seconds, metavar="N", help=argparse.SUPPRESS)


def seconds(word: str) -> float:
    """Seconds to wait at most, above 0; :class:`NotationError` for anything else."""
    if re.fullmatch(r"\d{1,6}(\.\d{1,3})?", word) and float(word) > 0:
        return float(word)
    raise NotationError(word, f"{shortened(word)} is no number of seconds; write 5, or 0.5")


def host_of(args: argparse.Namespace, trust: Trust = FREE) -> Host:
    """The host that is asked, or changed, with accounts that may be followed then."""
    goes_with("--incomplete", args.incomplete, "--from", args.snapshot is not None)
    collected = getattr(args, "collected", None)
    if collected is not None:
        from fiat.app.fleet import open_one

        names = getattr(args, "names", None)
        found, collected.people = open_one(args.snapshot, args.accounts, names, incomplete=args.incomplete)
        found.accounts.services = settings_of(args).system_accounts
        return found
    if args.accounts is not None:
        trust.expect_accounts(args.accounts)
    host = open_host(args.snapshot, args.accounts, incomplete=args.incomplete, accounts_timeout=args.accounts_timeout)
    host.accounts.services = settings_of(args).system_accounts
    speaks_of(args, host)
    if args.snapshot is None and getattr(args, "engine", None) is not None:
        from fiat.app.fleetwork import have_trees_read

        have_trees_read(host, args.engine, args.engine_tls, at_end, _say_who_reads)
    return host


def settings_of(args: argparse.Namespace) -> Settings:
    """What the configuration sets."""
    return getattr(args, "settings", NO_SETTINGS)


at_end = ExitStack()
"""What is to be closed when the command has ended."""


def _say_who_reads(engine: "Engine") -> None:
    if engine.about:
        say(f"fiat: {engine.about}")
    progress.who_reads(engine.doing)


def speaks_of(args: argparse.Namespace, *hosts: Host) -> None:
    """Have the output end with what the accounts of these hosts could not tell."""
    args.opened = (*getattr(args, "opened", ()), *hosts)


def output_of(command: str, args: argparse.Namespace, *, changes: bool = False) -> Output:
    """Where the results of ``command`` go, in the form that the options say."""
    not_with("--format parquet", args.format == "parquet", "a terminal", sys.stdout.isatty(), "write it to a file")
    elsewhere: Output | None = getattr(args, "collected", None) or getattr(args, "kept", None)
    if elsewhere is not None:
        return elsewhere
    shows = not changes or getattr(args, "preview", False)
    pager = None
    if shows and args.format == "text" and not args.quiet and not args.no_pager and sys.stdout.isatty():
        pager = _pager(settings_of(args).pager)

    def accounts() -> "Iterator[Accounts]":
        return (host.accounts for host in getattr(args, "opened", ()))

    return Output(command, args.format, changes=changes, quiet=args.quiet, pager=pager, accounts=accounts)


def _pager(setting: str | None) -> "Pager | None":
    """What long answers go through, where the environment, or the configuration, names it."""
    named = os.environ.get("FIAT_PAGER", setting if setting is not None else os.environ.get("PAGER"))
    if not named:
        return None
    from fiat.app.running import runs_as_another
    from fiat.render.pager import Pager, chosen

    as_another = runs_as_another()
    words = chosen(named, as_another=as_another)
    rows = height()
    if words is None or rows is None:
        return None
    _pagers.append(Pager(words, rows, sys.stdout.write, as_another=as_another))
    return _pagers[-1]


_pagers: list["Pager"] = []


def show_what_is_held() -> None:
    """Show what a pager still holds back, where a command ended in the middle."""
    while _pagers:
        with suppress(OSError):  # whoever flushes stdout is told
            _pagers.pop().close()


def say_groups(words: str, host: Host, output: Output) -> None:
    """Say of each name that is that of a group, where users are meant, that it is answered for the group."""
    for word in words.split(","):
        if means_group(word, host):
            known = f"no user is called {quoted(word)}, but a group is: this is about group:{visible(word)}"
            output.complain(f"{known}, membership alone")


def take_usual_accounts(args: argparse.Namespace) -> None:
    """Take the accounts that the environment names, where the command line names none, and no host in a file.

    Raises :class:`NotationError` for an empty word: it is not the current directory.
    """
    if getattr(args, "accounts", None) == "":
        raise NotationError("--accounts", "--accounts names no folder: the word after it is empty")
    if "snapshot" in args and args.snapshot is None and args.accounts is None:
        args.accounts = os.environ.get("FIAT_ACCOUNTS") or None


def same_host(args: argparse.Namespace) -> list[tuple[str, str]]:
    """The options by which another command line speaks of the same host; none for a fleet: it is typed on the host."""
    if getattr(args, "collected", None) is not None:
        return []
    said_elsewhere = args.accounts == os.environ.get("FIAT_ACCOUNTS")
    about = [("--from", args.snapshot), ("--accounts", None if said_elsewhere else args.accounts)]
    return [(option, value) for option, value in about if value is not None]

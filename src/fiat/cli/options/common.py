"""The options that every command takes."""

import argparse

from fiat.app.hosts import SAMPLE, Host, open_host
from fiat.app.trust import FREE, Trust
from fiat.cli.options.together import goes_with
from fiat.render.output import Output


def add_common(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """How the result is shown, and which host is asked."""
    add_format(parser, formats)
    add_host(parser)


def add_format(parser: argparse.ArgumentParser, formats: tuple[str, ...]) -> None:
    """How the result is shown."""
    parser.add_argument(
        "--format",
        choices=formats,
        default="text",
        metavar="FORM",
        help=f"print the result as {', '.join(formats[1:-1])}{' or ' if len(formats) > 2 else ''}{formats[-1]}",
    )
    parser.add_argument("--json", dest="format", action="store_const", const="json", help="the same as --format json")
    parser.add_argument("--quiet", action="store_true", help="print only what goes wrong; the exit status says it")


def add_host(parser: argparse.ArgumentParser) -> None:
    """Which host is asked."""
    parser.add_argument(
        "--accounts",
        metavar="DIR",
        help="take users and groups from DIR/passwd and DIR/group",
    )
    parser.add_argument(
        "--from",
        dest="snapshot",
        metavar="SNAPSHOT",
        help=f"ask a snapshot file; {SAMPLE} is the sample host",
    )
    parser.add_argument("--incomplete", action="store_true", help="of a snapshot that is cut short use what there is")


def host_of(args: argparse.Namespace, trust: Trust = FREE) -> Host:
    """The host that is asked, or changed, with accounts that may be followed then."""
    goes_with("--incomplete", args.incomplete, "--from", args.snapshot is not None)
    if args.accounts is not None:
        trust.expect_accounts(args.accounts)
    return open_host(args.snapshot, args.accounts, incomplete=args.incomplete)


def output_of(command: str, args: argparse.Namespace, *, changes: bool = False) -> Output:
    """Where the results of ``command`` go, in the form that the options say."""
    return Output(command, args.format, changes=changes, quiet=args.quiet)


def same_host(args: argparse.Namespace) -> list[tuple[str, str]]:
    """The options by which another command line speaks of the same host."""
    about = [("--from", args.snapshot), ("--accounts", args.accounts)]
    return [(option, value) for option, value in about if value is not None]

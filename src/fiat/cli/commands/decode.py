"""Translate any notation into all the others and into words: a mode in octal
(640, 2750), letters (rwxr-x---, or ten with the type) or clauses (u=rw,g+X),
an access entry or a whole list in text, the bytes of a list or of file
capabilities in hexadecimal or base64, a umask.

What could be a mode or a umask is answered both ways; --umask takes it for a
umask."""

import argparse
import re

from fiat.app.decode import decode, mode
from fiat.app.status import ExitStatus
from fiat.cli.options.common import add_common, host_of, not_with, output_of
from fiat.core.errors import FiatError
from fiat.render.decode import DecodedView

EXAMPLES = (
    ("a mode", "fiat decode 2750"),
    ("what a change makes of a mode", "fiat decode g-w,o= --on 664"),
    ("an access list", "fiat decode u::rw,u:auditor:r,g::r,m::r,o::-"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat decode``."""
    parser.add_argument("words", nargs="+", metavar="WORD", help="what to translate")
    parser.add_argument("--on", metavar="MODE", help="the mode that clauses are applied to (none unless given)")
    parser.add_argument("--umask", action="store_true", help="take each word for a umask")
    add_common(parser)


def prepare(arguments: list[str]) -> list[str]:
    """Letters may begin with a dash, as no option does: a space before them keeps the parser from asking."""
    return [f" {word}" if re.match(r"-[-rwxsStT]{2}[-rwxsStT+=,]*$", word) else word for word in arguments]


def run(args: argparse.Namespace) -> int:
    """Translate each word into all notations; the exit status."""
    output = output_of("decode", args)
    host = host_of(args)
    not_with("--on", args.on, "--umask", args.umask, "it is the mode that clauses are applied to")
    on = None if args.on is None else mode(host, args.on)
    failed = False
    for word in (word.strip() for word in args.words):
        try:
            output.add(DecodedView(decode(host, word, on=on, as_umask=args.umask)))
        except FiatError as error:
            output.wrong_word(word, error)
            failed = True
    if not failed:
        return output.finish()
    return output.finish(ExitStatus.IN_PART if output.answered else ExitStatus.WRONG_COMMAND_LINE)

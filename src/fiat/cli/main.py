"""The program ``fiat``: finds the command, runs it, turns errors into one line each."""

import gc
import importlib
import os
import sys
from types import ModuleType

import fiat
from fiat.cli.status import Status

COMMANDS = {
    "show": "what a path says about access, in words too",
    "decode": "any notation into all others and into words",
    "who": "which users and groups can really get at a path, and how",
    "why": "one verdict, walked component by component",
    "set": "change modes, owners and lists; who gains and who loses is shown first",
    "history": "what was changed, by whom, and what has become of it",
    "undo": "put back what was changed",
    "demo": "the whole example on the sample host skerry",
}
"""Every command with its summary; the module is named after the command."""


def main(arguments: list[str] | None = None) -> int:
    """Run one command line (without the program's name); the exit status."""
    if arguments is None:
        # This process ends soon. Nothing here is circular, and searching millions of objects for what is takes long.
        gc.disable()
        arguments = sys.argv[1:]
    _prepare_streams()
    try:
        status = _run(arguments)
        sys.stdout.flush()
        return status
    except BrokenPipeError:
        # The reader has gone, as `head` does. Python would complain again when it closes stdout.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return Status.DONE
    except KeyboardInterrupt:
        print("\nfiat: stopped", file=sys.stderr)
        return 130
    except OSError as error:
        # Paths are handled where they are asked about; what is left is stdout (a full disk).
        print(f"fiat: cannot go on: {error.strerror or error}", file=sys.stderr)
        return Status.IN_PART


def _prepare_streams() -> None:
    """Streams that take any text: whatever the locale, and where the caller has closed them."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115 - open until the end
        else:
            stream.reconfigure(errors="backslashreplace")


def _run(arguments: list[str]) -> int:
    if arguments == ["--version"]:  # scripts ask this often: no need to load anything for it
        print(f"fiat {fiat.__version__}")
        return Status.DONE
    from fiat.cli.parser import Parser
    from fiat.core.errors import FiatError

    word = arguments[0] if arguments else ""
    if word in COMMANDS:
        command = importlib.import_module(f"fiat.cli.commands.{word}")
        parser = Parser(prog=f"fiat {word}", description=command.__doc__, epilog=_examples(command))
        command.add_arguments(parser)
        try:
            prepare = getattr(command, "prepare", list)
            status: int = command.run(parser.parse_args(prepare(arguments[1:])))
            return status
        except FiatError as error:
            print(f"fiat {word}: {error}", file=sys.stderr)
            return Status.WRONG_COMMAND_LINE
    parser = Parser(
        prog="fiat",
        usage="fiat COMMAND [WORD…]",
        description="What a path allows, and who can therefore really get at it.",
        epilog=_command_list() + "\nfiat COMMAND --help explains one. Start with: fiat demo",
    )
    parser.add_argument("--version", action="version", version=f"fiat {fiat.__version__}")
    if word and not word.startswith("-"):
        from fiat.core.model.accounts import near
        from fiat.core.text import quoted

        print(
            f"fiat: no command is called {quoted(word)}{near(word, COMMANDS)}; fiat --help lists them", file=sys.stderr
        )
        return Status.WRONG_COMMAND_LINE
    parser.parse_args(arguments)
    parser.print_help()
    return Status.DONE if word else Status.WRONG_COMMAND_LINE


def _examples(command: ModuleType) -> str:
    """The examples of a command, which run on the sample host as they stand."""
    rows = getattr(command, "EXAMPLES", ())
    if not rows:
        return ""
    lines = [f"  # {what}\n  {line}" for what, line in rows]
    return "examples, on the sample host with --from skerry:\n" + "\n".join(lines)


def _command_list() -> str:
    return "commands:\n" + "".join(f"  {name:<9}{summary}\n" for name, summary in COMMANDS.items())

"""The program ``fiat``: finds the command, runs it, turns errors into one line each.

With FIAT_DEBUG=1 in the environment the traceback behind such a line is shown.
"""

import _signal  # type: ignore[import-not-found]  # what the module signal has besides takes loading
import gc
import os
import sys


def run() -> None:
    """Run the command line of this process, and end it: everything is written and closed by then.

    To free millions of objects one by one, which Python would do now, takes longer than many a command. Ctrl-C
    ends the process at once until a command runs (``scripts/fiat`` begins with that): nothing has been done by then.
    """
    try:
        _signal.signal(_signal.SIGINT, lambda *_: os._exit(_INTERRUPTED))
        status = main(starting=True)
    except KeyboardInterrupt:  # in the moments before, and after a command
        status = _INTERRUPTED
    os._exit(status)


_INTERRUPTED = 130


def main(arguments: list[str] | None = None, *, starting: bool = False) -> int:
    """Run one command line (without the program's name); the exit status.

    A process that is ``starting`` hears of Ctrl-C as Python has it once a command runs.
    """
    try:
        return _main(arguments, starting=starting)
    except MemoryError:
        if os.environ.get("FIAT_DEBUG"):
            raise
    except SystemError as error:  # which C code may make of too little memory, where it does not look for that
        if os.environ.get("FIAT_DEBUG"):
            raise
        said = str(error)
        if not any(text in said for text in ("without setting an exception", "without exception set", "internal")):
            return _tell_of_defect()
    except Exception:  # whatever else comes here is a defect, and no answer: never 1
        return _tell_of_defect()
    os.write(2, b"fiat: cannot go on: there is not enough memory\n")  # without asking for any
    return 3


def _tell_of_defect() -> int:
    """The traceback of a defect of Fiat's own, harmless for a terminal, and what to do with it; status 5."""
    import traceback
    from contextlib import suppress

    from fiat.core.text import visible

    lines = [*traceback.format_exc().split("\n")]
    text = "\n".join(visible(line) for line in lines)
    with suppress(OSError, ValueError):
        sys.stderr.write(f"{text}fiat: this is a defect of Fiat; please report it with the lines above (SECURITY.md)\n")
        sys.stderr.flush()
    return 5


def _main(arguments: list[str] | None, *, starting: bool) -> int:
    if arguments is None:
        # This process ends soon. Nothing here is circular, and searching millions of objects for what is takes long.
        gc.disable()
        arguments = sys.argv[1:]
    _prepare_streams()
    if arguments[:1] == ["--words"]:  # a shell asks this at each press of Tab
        from fiat.cli.words import print_words

        return print_words(arguments[1:])
    if arguments == ["--version"]:  # scripts ask this often: no need to load anything for it
        from fiat.app.version import version_told

        try:
            print(version_told(), flush=True)
        except OSError:  # its reader has gone, or there is no room
            return 3
        return 0
    from fiat.render.terminal import OutputCut, give_up, say, say_cut

    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # NumPy would start threads that nothing here needs
    called = _called(arguments)
    try:
        status = _run(arguments, starting=starting)
    except OutputCut as cut:
        status = cut.status
        say_cut(called, cut.error)
    except KeyboardInterrupt:
        say("\nfiat: stopped")
        status = _INTERRUPTED
    except BrokenPipeError as error:
        give_up(sys.stdout)
        say_cut(called, error)
        return 0
    except OSError as error:
        # Paths are handled where they are asked about; what is left is this process: its open files, its stdout.
        _debug()
        say(f"{called}: cannot go on: {error.strerror or error}")
        status = 3
    except ImportError as error:  # a library that does not fit into memory, or is not there
        _debug()
        if not _heard:
            say(f"{called}: cannot go on: {_first_cause(error)}")
        status = _INTERRUPTED if _heard else 3
    return _flushed(called, status)


def _first_cause(error: BaseException) -> str:
    """The first line of the error that led to this one."""
    while error.__context__ is not None:
        error = error.__context__
    text = str(error).strip().partition("\n")[0]
    return text if isinstance(error, ImportError | OSError) else f"{type(error).__name__}: {text}"


def _called(arguments: list[str]) -> str:
    """The program as messages name it."""
    word = arguments[0] if arguments else ""
    return f"fiat {word}" if word.isalpha() and word.isascii() else "fiat"


def _flushed(called: str, status: int) -> int:
    """Print what is still waiting, of what has not been printed by way of an Output; the exit status."""
    try:
        sys.stdout.flush()
    except OSError as error:
        from fiat.render.terminal import give_up, say_cut

        give_up(sys.stdout)
        say_cut(called, error)
        return status if isinstance(error, BrokenPipeError) else 3
    return status


def _prepare_streams() -> None:
    """Streams that take any text: whatever the locale, and where the caller has closed them.

    What the caller has closed leads nowhere: no file of ours is to be 0, 1 or 2, for something may write to these.
    """
    while (fd := os.open(os.devnull, os.O_RDWR)) <= 2:
        pass
    os.close(fd)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115 - open until the end
        else:
            stream.reconfigure(errors="backslashreplace")


def _run(arguments: list[str], *, starting: bool) -> int:
    from fiat.app.configuration import configured
    from fiat.app.status import ExitStatus
    from fiat.cli.registry import COMMANDS, as_it_is, kind_of, run_command
    from fiat.cli.where import configuration_named, where
    from fiat.core.errors import (
        AccountNotKnown,
        ElevationUnread,
        EngineError,
        FiatError,
        HistoryError,
        HostError,
        OtherNow,
        UntrustedFile,
        WorkError,
    )
    from fiat.render.terminal import say

    if arguments[:1] == ["help"]:  # as many people ask
        arguments = [*arguments[1:2], "--help"]
    word = ""
    try:
        named, arguments = configuration_named(arguments)
        word = arguments[0] if arguments else ""
        if word == "--where":
            return where(configured(named), arguments[1:])
        if word not in COMMANDS:
            return _without_command(word, arguments)
        found = configured(named)
        for file in found.files:
            if file.why:
                say(f"fiat: {file.why}")
        return run_command(word, arguments[1:], _hear_of_interrupts if starting else as_it_is, found)
    except FiatError as error:
        _debug()
        say(f"{' '.join(filter(None, ('fiat', word, *kind_of(arguments))))}: {error}")
        if isinstance(error, UntrustedFile):
            return ExitStatus.GUARDED
        failed = isinstance(
            error, WorkError | EngineError | HistoryError | HostError | AccountNotKnown | ElevationUnread
        )
        # something was put in the place of what is meant while Fiat looked at it: no word was wrong
        failed |= isinstance(error, OtherNow)
        return ExitStatus.IN_PART if failed else ExitStatus.WRONG_COMMAND_LINE


def _hear_of_interrupts() -> None:
    """Have Ctrl-C raise KeyboardInterrupt from now on."""
    _signal.signal(_signal.SIGINT, _interrupt)


def _interrupt(number: int, frame: object) -> None:
    _heard.append(number)
    raise KeyboardInterrupt


_heard: list[int] = []
"""An interrupt may come out of a library that is just being loaded as an error of another kind."""


_OWN = {
    "--version": "which Fiat this is, and what reads trees in it",
    "--where": "which configuration is read, and what each setting is",
    "--config FILE": "before COMMAND: read this file too; none reads none",
}


def overview_options() -> list[tuple[str, str]]:
    """The options of fiat itself, with what they do."""
    return list(_OWN.items())


def _without_command(word: str, arguments: list[str]) -> int:
    """Help, or a word that is no command."""
    from fiat.app.status import ExitStatus
    from fiat.cli.parser import Parser
    from fiat.cli.registry import commands_near, overview
    from fiat.core.text import quoted
    from fiat.render.terminal import say

    parser = Parser(
        prog="fiat",
        usage="fiat COMMAND [WORD…]",
        description="What a path allows, and who can therefore really get at it.",
        epilog=overview() + "\nfiat COMMAND --help explains one. Start with: fiat demo",
    )
    parser.add_argument("--version", action="store_true", help=_OWN["--version"])
    parser.add_argument("--where", action="store_true", help=_OWN["--where"])
    parser.add_argument("--config", metavar="FILE", help=_OWN["--config FILE"])
    if word and not word.startswith("-"):
        said = f"no command is called {quoted(word)}{commands_near(word)}; fiat --help lists them"
        say(f"fiat: {said}")
        return ExitStatus.WRONG_COMMAND_LINE
    if parser.parse_args(arguments).version:
        from fiat.app.version import version_told

        print(version_told())
        return ExitStatus.DONE
    parser.print_help()
    return ExitStatus.DONE if word else ExitStatus.WRONG_COMMAND_LINE


def _debug() -> None:
    """Show the traceback of the error that is being handled, where that is asked for."""
    if os.environ.get("FIAT_DEBUG"):
        import traceback

        traceback.print_exc()

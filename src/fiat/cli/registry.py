"""Every command: its name, its group, its summary, and where it is."""

import argparse
import importlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from types import MappingProxyType

from fiat.app.configuration import NO_SETTINGS, Configured, Settings
from fiat.app.status import ExitStatus
from fiat.cli.options.common import COMMON, at_end, common_in, show_what_is_held, take_usual_accounts
from fiat.cli.options.fleet import asks_fleet, take_engine
from fiat.cli.options.paths import add_null_of_paths, take_paths
from fiat.cli.parser import Parser
from fiat.core.errors import NotationError
from fiat.core.text import joined, near, quoted

GROUPS = {
    "look": "look and understand",
    "ask": "ask who can really get at it",
    "risk": "find what is dangerous, and what is no longer as it was meant",
    "change": "change, and put back",
    "keep": "remember, compare, put back",
    "show": "show it to others",
    "learn": "get to know it",
}
"""The groups of commands, in the order of the work."""


class Command:
    """One command; the module with its name holds the rest. ``aliases`` are other words that people have for it.

    One that has ``kinds``, each with what it is for, is a package, with a module for each of them.
    """

    __slots__ = ("aliases", "group", "kinds", "name", "summary")

    def __init__(
        self,
        name: str,
        group: str,
        summary: str,
        aliases: tuple[str, ...] = (),
        kinds: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        self.name = name
        self.group = group
        self.summary = summary
        self.aliases = aliases
        self.kinds = kinds


COMMANDS = {
    command.name: command
    for command in (
        Command(
            "show",
            "look",
            "what a path says about access, in words too",
            ("list", "ls", "look", "info", "display", "view"),
        ),
        Command(
            "decode",
            "look",
            "any notation into all others and into words",
            ("translate", "convert", "mode", "umask", "octal"),
        ),
        Command(
            "who",
            "ask",
            "which users and groups can really get at a path, and how",
            ("access", "can", "users", "effective"),
        ),
        Command(
            "why",
            "ask",
            "one verdict, walked component by component",
            ("explain", "reason", "debug", "trace", "test"),
        ),
        Command(
            "foresee",
            "ask",
            "what is made in a directory tomorrow, and who could reach it",
            ("predict", "forecast", "inherit", "inherits", "new", "umask", "default"),
        ),
        Command(
            "audit",
            "risk",
            "what is dangerous, who can use it, and what mends it",
            ("scan", "dangers", "risks", "security", "problems", "find"),
        ),
        Command(
            "check",
            "risk",
            "whether what was meant still holds, and what makes it hold",
            ("verify", "expect", "policy", "assert", "compliance", "intent"),
        ),
        Command(
            "set",
            "change",
            "change modes, owners and lists; who gains, who loses is shown first",
            ("change", "modify", "chmod", "chown", "apply"),
        ),
        Command("let", "change", "the least change that gives somebody a right", ("allow", "grant", "permit", "give")),
        Command(
            "bar", "change", "the least change that takes a right from somebody", ("deny", "forbid", "block", "revoke")
        ),
        Command(
            "history",
            "change",
            "what was changed, by whom, and what has become of it",
            ("log", "runs", "changes", "list-runs"),
        ),
        Command("undo", "change", "put back what was changed", ("revert", "rollback", "back", "reset")),
        Command("save", "keep", "keep the state of a tree in a file", ("snapshot", "dump", "backup", "record", "keep")),
        Command("restore", "keep", "put back the postures that a snapshot has", ("recover", "reinstate")),
        Command(
            "compare",
            "keep",
            "what differs between two states, and who gained or lost by it",
            ("diff", "changed", "since", "delta", "drift"),
        ),
        Command(
            "chart",
            "show",
            "pictures, and a page to hand over",
            ("picture", "plot", "draw", "graph", "report", "html", "page", "map"),
            {
                "who": "people and paths: who can do what with which",
                "below": "a map of a tree: how many can write where, what is open to anyone",
                "change": "what a change did, or would do: who gains, who loses, before and after",
                "why": "one verdict: the way there, where it stops, and what would open it",
                "over-time": "a folder of snapshots, day by day: how many can, dangers, expectations",
                "page": "a page for somebody without a shell: answers, reasons, findings, pictures",
            },
        ),
        Command(
            "completion",
            "learn",
            "a script with which a shell completes command lines",
            ("complete", "tab", "bash", "zsh", "fish", "shell"),
        ),
        Command(
            "demo",
            "learn",
            "the whole example on the sample host skerry",
            ("tour", "example", "examples", "sample", "start"),
        ),
    )
}


def commands_near(word: str) -> str:
    """What a word that is no command may have been meant for, as the end of a sentence."""
    meant = [command for command in COMMANDS.values() if word.lower() in command.aliases]
    if meant:
        return f"; fiat {meant[0].name} is for that: {meant[0].summary}"
    return near(word, COMMANDS)


def names() -> Iterator[str]:
    """The name of every command that :func:`load` takes; of one with kinds each, as ``chart who``."""
    for command in COMMANDS.values():
        yield from [f"{command.name} {kind}" for kind in command.kinds] or [command.name]


class LoadedCommand:
    """A command that is about to run: its parser, its examples, and what runs it.

    ``parse`` makes arguments of words. Examples are pairs of what they show and the command line;
    they run on the sample host as they stand.
    """

    __slots__ = ("examples", "parse", "parser", "run")

    def __init__(
        self,
        parser: Parser,
        run: Callable[..., int],
        parse: Callable[[list[str]], argparse.Namespace],
        examples: tuple[tuple[str, str], ...],
    ) -> None:
        self.parser = parser
        self.run = run
        self.parse = parse
        self.examples = examples


def kind_of(arguments: Sequence[str]) -> tuple[str, ...]:
    """The kind that a command line names of a command that has kinds, as ``who`` of ``chart``; nothing of another."""
    command = COMMANDS.get(arguments[0]) if arguments else None
    return tuple(word for word in arguments[1:2] if command is not None and word in command.kinds)


def load(name: str) -> LoadedCommand:
    """The command called ``name``, which is one of :func:`names`."""
    place = name.replace(" ", ".").replace("-", "")
    try:
        module = importlib.import_module(f"fiat.cli.commands.{place}")
    except (ImportError, OSError, MemoryError, SystemError):
        raise
    except Exception as error:  # what a library makes of too little memory while it is loaded may be anything
        raise ImportError(f"{type(error).__name__}: {error}") from error
    examples: tuple[tuple[str, str], ...] = module.EXAMPLES
    parser = Parser(prog=f"fiat {name}", description=module.__doc__)
    module.add_arguments(parser)
    add_null_of_paths(parser)
    names_host = "--from" not in parser.options() or any("--from" in line for _, line in examples)
    parser.epilog = "\n\n".join(filter(None, (common_in(parser), _epilog(examples, names_host=names_host))))
    parser.usage = " ".join([f"fiat {name}", *parser.places(), "[OPTION…]"])
    prepare: Callable[[list[str]], list[str]] = getattr(module, "prepare", list)

    def parse(words: list[str]) -> argparse.Namespace:
        found: argparse.Namespace = parser.parse_args(prepare(words))
        return found

    return LoadedCommand(parser, module.run, getattr(module, "parse", parse), examples)


NOT_CONFIGURED = Configured((), None, NO_SETTINGS)


def as_it_is() -> None:
    """Leave signals to whoever called."""


def run_command(
    name: str,
    arguments: list[str],
    ready: Callable[[], None] = as_it_is,
    configuration: Configured = NOT_CONFIGURED,
) -> int:
    """Run a command line that begins with the command ``name``; its exit status. ``ready`` is called before it runs.

    What the ``configuration`` says counts where the command line says nothing.
    """
    if COMMANDS[name].kinds:
        kind = kind_of([name, *arguments])
        if not kind:
            return _without_kind(COMMANDS[name], arguments)
        name, arguments = f"{name} {kind[0]}", arguments[1:]
    command = load(name)
    if configuration.found is not None:
        from fiat.cli.configuration import words_for

        arguments = [*words_for(name, [*names()], command.parser, configuration.found, arguments), *arguments]
    try:
        return _run(command, name, arguments, ready, configuration.settings)
    except NotationError as error:
        error.args = (error.word, command.parser.with_file(str(error), error.word))
        raise


def _run(command: LoadedCommand, name: str, arguments: list[str], ready: Callable[[], None], settings: Settings) -> int:
    parsed = command.parse(arguments)
    parsed.command = name
    parsed.settings = settings
    take_usual_accounts(parsed)
    take_engine(parsed)
    fleet = asks_fleet(parsed)
    ready()
    if hasattr(parsed, "paths_from"):
        take_paths(parsed)
    try:
        if fleet:
            from fiat.cli.fleet import run

            return run(parsed)
        return command.run(parsed)
    finally:
        at_end.close()
        show_what_is_held()


def _without_kind(command: Command, arguments: list[str]) -> int:
    """Help that lists the kinds of a command, or a word that is none of them."""
    wide = max(map(len, command.kinds)) + 2
    lines = [f"  {kind:<{wide}}{about}" for kind, about in command.kinds.items()]
    parser = Parser(
        prog=f"fiat {command.name}",
        usage=f"fiat {command.name} KIND [WORD…]",
        description=f"{command.summary[0].upper()}{command.summary[1:]}. KIND is one of these:\n" + "\n".join(lines),
        epilog=f"fiat {command.name} KIND --help explains one",
    )
    word = arguments[0] if arguments else ""
    if word and not word.startswith("-"):
        raise NotationError(
            word,
            f"no kind of {command.name} is called {quoted(word)}{near(word, command.kinds)}; "
            f"there are {joined(command.kinds)}",
        )
    parser.parse_args(arguments)
    parser.print_help()
    return ExitStatus.DONE if word else ExitStatus.WRONG_COMMAND_LINE


def _epilog(examples: tuple[tuple[str, str], ...], *, names_host: bool) -> str:
    if not examples:
        return ""
    lines = [f"  # {what}\n  {line}" for what, line in examples]
    host = "on the sample host" if names_host else "on the sample host with --from skerry"
    return f"examples, {host}:\n" + "\n".join(lines)


def overview() -> str:
    """Every command with its summary, group by group."""
    lines, widest = [], max(map(len, COMMANDS)) + 2
    for group, title in GROUPS.items():
        lines.append(f"{title}:")
        lines += [f"  {one.name:<{widest}}{one.summary}" for one in COMMANDS.values() if one.group == group]
    wide = max(map(len, COMMON)) + 2
    lines += ["options of many commands:", *(f"  {name:<{wide}}{about}" for name, about in COMMON.items())]
    return "\n".join(lines) + "\n"

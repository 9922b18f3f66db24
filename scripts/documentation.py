"""Build the documentation from docs/ and from the registry of commands: a site, and manual pages.

    python scripts/documentation.py [html] [man]      into build/site and build/man; both where none is named

FIAT_BUILD names another folder than build.

Sphinx makes both, and takes every warning, such as a link that leads nowhere, for an error.
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

from fiat import __version__
from fiat.cli.main import overview_options
from fiat.cli.options.common import COMMON
from fiat.cli.registry import COMMANDS, GROUPS, LoadedCommand, load, names

HOME = Path(__file__).resolve().parent.parent
BUILD = Path(os.environ.get("FIAT_BUILD") or HOME / "build")
PAGES = {
    "access-model": ("fiat-rules", 7, "the rules of access that Fiat goes by"),
    "formats": ("fiat-formats", 5, "what Fiat prints, and the files that it keeps"),
    "check": ("fiat-expectations", 5, "files of expectations, for fiat check"),
    "arrangements": ("fiat-arrangements", 5, "named postures of directories"),
    "configuration": ("fiat-configuration", 5, "defaults of options, and other settings"),
}
"""Pages of docs/ that are manual pages as well."""

_TOP = ("README.md", "CHANGELOG.md", "CONTRIBUTING.md", "SECURITY.md")


def main() -> int:
    """Build what is named on the command line; the exit status."""
    wanted = sys.argv[1:] or ["html", "man"]
    return max(_made(kind) for kind in wanted)


def _made(kind: str) -> int:
    source = BUILD / f"{kind}-source"
    shutil.rmtree(source, ignore_errors=True)
    _copy(source, tables=kind == "html")
    _write_commands(source / "commands")
    return _built(source, kind)


def _copy(source: Path, *, tables: bool) -> None:
    """The pages, with links that lead where they will stand; without ``tables`` each row of one is a paragraph."""
    shutil.copytree(HOME / "docs", source, ignore=shutil.ignore_patterns("take"))
    shutil.copytree(HOME / "bench", source / "bench", ignore=shutil.ignore_patterns("__pycache__"))
    for name in _TOP:
        shutil.copy(HOME / name, source / name.lower())
    for page in source.glob("*.md"):
        text = page.read_text(encoding="utf-8")
        text = re.sub(r"\]\((?:\.\./|docs/)+", "](", text)
        for name in _TOP:
            text = text.replace(f"]({name}", f"]({name.lower()}")
        page.write_text(text if tables else _TABLE.sub(_as_list, text), encoding="utf-8")


_TABLE = re.compile(r"^\|(.*)\|\n\|[-|: ]+\|\n((?:\|.*\|\n)+)", re.M)
_CELL = re.compile(r"(?<!\\)\|")
"""What parts the cells of a row; one with a backslash is a bar in a cell."""


def _as_list(table: re.Match[str]) -> str:
    """A table as a list of definitions: a terminal is too narrow for many of them."""
    _, *headings = [cell.strip() for cell in _CELL.split(table[1])]
    rows = []
    for line in table[2].splitlines():
        first, *others = [cell.strip() for cell in _CELL.split(line.strip()[1:-1])]
        told = "; ".join(
            f"{heading}: {cell}" if len(headings) > 1 and heading else cell
            for heading, cell in zip(headings, others, strict=True)
            if cell and heading != "test"  # which are for those who work on Fiat
        )
        rows.append(f"{first or '–'}\n: {told}\n")
    return "\n".join(rows)


# --- pages of commands -------------------------------------------------------


def _write_commands(folder: Path) -> None:
    folder.mkdir()
    (folder / "fiat.rst").write_text("\n".join(_overview()), encoding="utf-8")
    for name in names():
        (folder / f"{_page(name)}.rst").write_text("\n".join(_command(name)), encoding="utf-8")
    pages = "\n".join(f"   {page}" for page in ("fiat", *map(_page, names())))
    title = _title("Commands")
    (folder / "index.rst").write_text(f"{title}\n.. toctree::\n   :maxdepth: 1\n\n{pages}\n", encoding="utf-8")


def _page(name: str) -> str:
    return f"fiat-{name.replace(' ', '-')}"


def _title(text: str, mark: str = "=") -> str:
    return f"{text}\n{mark * len(text)}\n"


def _safe(text: str) -> str:
    """Text in which nothing is taken for markup (reStructuredText)."""
    return re.sub(r"([\\*`|_])", r"\\\1", " ".join(text.split()))


def _literal(text: str) -> str:
    return f"``{text}``"


def _summary(name: str) -> str:
    command, _, kind = name.partition(" ")
    return COMMANDS[command].kinds[kind] if kind else COMMANDS[command].summary


def _overview() -> Iterator[str]:
    yield _title("fiat")
    yield _title("Synopsis", "-")
    yield "``fiat [--config FILE] COMMAND [WORD…]``\n\n``fiat --where`` | ``fiat --version`` | ``fiat --help``\n"
    yield _title("Description", "-")
    yield "What a path allows, and who can therefore really get at it, before and after each change."
    yield "Fiat answers without becoming anyone: it reads modes, owners, access lists, flags and mounts along the"
    yield "whole route, decides as the running kernel does, and says which rule decided, and where.\n"
    for group, title in GROUPS.items():
        yield _title(title.capitalize(), "-")
        for command in COMMANDS.values():
            if command.group == group:
                yield f"**fiat {command.name}**\n    {_safe(command.summary)}\n"
    yield _title("Options of many commands", "-")
    for option, about in COMMON.items():
        yield f"``{option}``\n    {_safe(about)}\n"
    yield _title("Options of fiat itself", "-")
    for option, about in overview_options():
        yield f"``{option}``\n    {_safe(about)}\n"
    yield from _ending()


def _command(name: str) -> Iterator[str]:
    command = load(name)
    yield _title(f"fiat {name}")
    yield _title("Synopsis", "-")
    yield f"{_literal(command.parser.usage or '')}\n"
    yield _title("Description", "-")
    yield from _prose(command.parser.description or "")
    yield from _arguments(command)
    if command.examples:
        yield _title("Examples", "-")
        yield "On the sample host; where none is named, with ``--from skerry``.\n"
        for about, line in command.examples:
            yield f"{_safe(about)}::\n\n    {line}\n"
    yield from _ending()


def _prose(text: str) -> Iterator[str]:
    """A description: paragraphs, and lists of a word and what it means."""
    words: list[str] = []
    for line in [*text.split("\n"), ""]:
        item = re.match(r"  (\S(?:.*?\S)?) {2,}(\S.*)", line)
        if item is None and line.strip() and not line.startswith("  "):
            words.append(line)
            continue
        if words:
            yield f"{_safe(' '.join(words))}\n"
            words = []
        if item is not None:
            yield f"``{item[1]}``\n    {_safe(item[2])}\n"
        elif line.strip():
            yield f"::\n\n    {line.strip()}\n"


def _arguments(command: LoadedCommand) -> Iterator[str]:
    for group in command.parser._action_groups:
        lines = [line for action in group._group_actions for line in _argument(action)]
        if lines:
            yield _title(_HEADINGS.get(group.title or "", (group.title or "").capitalize()), "-")
            yield from lines


_HEADINGS = {"positional arguments": "Words"}


def _argument(action: argparse.Action) -> Iterator[str]:
    option = action.option_strings[-1] if action.option_strings else ""
    about = action.help if action.help != argparse.SUPPRESS else COMMON.get(option)
    if about is None or option == "--help":
        return
    choices = "|".join(map(str, action.choices)) if action.choices and action.nargs != 0 else ""
    metavar = str(action.metavar or choices).replace("`", "")
    words = [f"{one} {metavar}".strip() for one in action.option_strings] or [metavar]
    yield f"{', '.join(map(_literal, words))}\n    {_safe(about)}\n"


def _ending() -> Iterator[str]:
    yield _title("Exit status", "-")
    for status, about in (
        ("0", "done, or the answer is yes"),
        ("1", "the answer is no: denied, differs, found"),
        ("2", "the command line was wrong"),
        ("3", "done in part; each path that failed is named"),
        ("4", "refused by a guard, nothing changed"),
        ("5", "Fiat itself failed"),
        ("130", "interrupted"),
    ):
        yield f"{status}\n    {about}\n"
    yield _title("See also", "-")
    pages = [f"{name}({section})" for name, section, _ in PAGES.values()]
    yield f"{', '.join(('fiat(1)', *pages, 'acl(5)', 'path_resolution(7)', 'capabilities(7)'))}\n".replace("_", "\\_")


# --- Sphinx ------------------------------------------------------------------


def _built(source: Path, kind: str) -> int:
    from sphinx.cmd.build import build_main

    target = BUILD / ("site" if kind == "html" else kind)
    shutil.rmtree(target, ignore_errors=True)
    (source / "conf.py").write_text(_configuration(), encoding="utf-8")
    return build_main(["-q", "-W", "--keep-going", "-b", kind, str(source), str(target)])


def _configuration() -> str:
    settings: dict[str, object] = {
        "project": "Fiat",
        "version": __version__,
        "release": __version__,
        "copyright": "the authors of Fiat, under the MIT licence",
        "extensions": ["myst_parser"],
        "myst_enable_extensions": ["deflist"],
        "myst_heading_anchors": 4,
        "html_theme": "furo",
        "html_title": f"Fiat {__version__}",
        "html_show_sphinx": False,
        "html_copy_source": False,
        "highlight_language": "none",
        "exclude_patterns": ["bench/*.md"],
        "man_pages": _man_pages(),
        "man_show_urls": False,
        "smartquotes": False,
        "suppress_warnings": ["misc.highlighting_failure"],
    }
    return "".join(f"{name} = {value!r}\n" for name, value in settings.items())


ManPage = tuple[str, str, str, list[str], int]
"""As Sphinx has it: the page, the name, what it is, nobody as its author, and the section."""


def _man_pages() -> list[ManPage]:
    found: list[ManPage] = [("commands/fiat", "fiat", "what a path allows, and who can really get at it", [], 1)]
    found += [(f"commands/{_page(name)}", _page(name), _summary(name), [], 1) for name in names()]
    return found + [(page, name, about, [], section) for page, (name, section, about) in PAGES.items()]


if __name__ == "__main__":
    raise SystemExit(main())

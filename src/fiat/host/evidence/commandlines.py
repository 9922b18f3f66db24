"""What a command line runs and reads: words as sh(1) splits them (POSIX, Shell Command Language 2.3 to 2.9), as far as
plain words go. What hangs on variables, or on what a program prints, is not evaluated."""

import os
import re
import shlex
import stat
from collections.abc import Iterator
from contextlib import suppress
from typing import NamedTuple

from fiat.core.audit.evidence import StartedFile
from fiat.core.tree.walk import USUAL_FOLDERS

_LONGEST = 1 << 16
"""Characters of a command line that are looked at."""

_NESTED = 4
"""Command lines within command lines that are looked into."""

_REDIRECTIONS = frozenset(("<", ">", ">>", "<>", ">|", ">&", "<&", "&>", "<<", "<<<"))
_KEYWORDS = frozenset("! { } if then elif else fi while until do done exec command builtin time".split())
"""What stands before a command, or instead of one, and is none itself."""

_WRAPPERS = frozenset("nice ionice chrt nohup setsid env timeout flock stdbuf chronic sudo runuser systemd-cat".split())
"""Programs that run what follows their options."""

_SHELLS = frozenset(("sh", "bash", "dash", "ksh", "mksh", "zsh", "ash"))
_TESTS = frozenset(("test", "["))
_ASSIGNMENT = re.compile(r"\w+=")
_PARTS = re.compile(r"[A-Za-z0-9_-]+")


class Setting(NamedTuple):
    """For whom and by what a command line is run, in which directory, and in which folders its programs are looked
    for; the user's home, and in how many other command lines it stands."""

    uid: int | None
    by: str
    cwd: str = "/"
    path: tuple[str, ...] = USUAL_FOLDERS
    home: str = "/"
    depth: int = 0


def of_command(line: str, setting: Setting) -> Iterator[StartedFile]:
    """What a line does that is one command and that no shell splits, as a unit has it (systemd.service(5))."""
    try:
        words = shlex.split(line[:_LONGEST])
    except ValueError:  # a quotation that does not end
        words = line[:_LONGEST].split()
    yield from of_words(words, setting)


def of_shell(line: str, setting: Setting) -> Iterator[StartedFile]:
    """What a line does that a shell is given: each command in it, wherever ``cd`` has led by then, a subshell's too."""
    for words in _commands(line[:_LONGEST]):
        while words and (words[0] in _KEYWORDS or _ASSIGNMENT.match(words[0])):
            words = words[1:]
        if words[:1] == ["cd"]:
            folder = next((word for word in words[1:] if not word.startswith("-")), setting.home)
            setting = setting._replace(cwd=os.path.normpath(os.path.join(setting.cwd, folder)))
        elif words:
            yield from of_words(words, setting)


def of_words(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What one command runs, with what it runs in turn, and the files that it names with their whole path."""
    if not words or os.path.basename(words[0]) in _TESTS:
        return  # what is only asked about is neither run nor read
    path = _program(words[0], setting)
    if path:
        yield StartedFile(path, setting.uid, setting.by)
    name = os.path.basename(words[0])
    rest = words[1:]
    if name in (".", "source") and rest:
        rest = [os.path.join(setting.cwd, rest[0]), *rest[1:]]
    if setting.depth < _NESTED:
        deeper = setting._replace(depth=setting.depth + 1)
        if name in _SHELLS and "-c" in rest[:-1]:
            yield from of_shell(rest[rest.index("-c") + 1], deeper)
        elif name in _SHELLS:
            script = next((word for word in rest if not word.startswith("-")), "")
            rest = [os.path.join(setting.cwd, word) if word == script else word for word in rest]
        elif name in _WRAPPERS:
            yield from of_words(_wrapped(rest, setting), deeper)
        elif name == "run-parts":
            for word in rest:
                if not word.startswith("-") and word.startswith("/"):
                    yield from (StartedFile(one, setting.uid, setting.by) for one in run_parts(word))
    for word in rest:
        named = word.rpartition("=")[2]
        if named.startswith("/") and "%" not in named and "$" not in named and os.path.isfile(named):
            yield StartedFile(named, setting.uid, setting.by, run=os.access(named, os.X_OK))


def _wrapped(words: list[str], setting: Setting) -> list[str]:
    """The command that a wrapper is given: from the first word on that is a program."""
    places = (place for place, word in enumerate(words) if not word.startswith("-") and _program(word, setting))
    return words[next(places, len(words)) :]


def _program(word: str, setting: Setting) -> str:
    """The file that is run by this word; empty where there is none, or it hangs on something else."""
    if "$" in word or "`" in word:
        return ""
    folders = [setting.cwd] if "/" in word else setting.path
    for folder in folders:
        path = os.path.join(folder, word)
        if os.path.isfile(path):
            return os.path.normpath(path)
    return ""


def _commands(line: str) -> Iterator[list[str]]:
    """The words of each simple command, without redirections; of what a shell would refuse, what is between spaces."""
    lexer = shlex.shlex(line.replace("\\\n", ""), posix=True, punctuation_chars="();<>|&\n")
    lexer.whitespace, lexer.whitespace_split, lexer.commenters = " \t\r", True, ""
    try:
        tokens = list(lexer)
    except ValueError:  # a quotation that does not end
        tokens = line.split()
    words: list[str] = []
    target = False
    for token in tokens:
        if target:
            target = False
        elif token in _REDIRECTIONS:
            target = True
        elif token and not token.strip("();&|\n"):  # what stands between two commands
            yield words
            words = []
        else:
            words.append(token)
    yield words


def run_parts(folder: str) -> list[str]:
    """What run-parts(8) runs of a folder, in its order: executable files, by Debian's rule of names where that is the
    host's, and elsewhere all but those that look like copies."""
    found = []
    with suppress(OSError):
        for name in sorted(os.listdir(folder)):
            path = f"{folder.rstrip('/')}/{name}"
            with suppress(OSError):
                if stat.S_ISREG(os.stat(path).st_mode) and os.access(path, os.X_OK) and is_part(name):
                    found.append(path)
    return found


def is_part(name: str) -> bool:
    """Whether a file of this name is run, or read as a table: Debian's run-parts(8) and cron(8) take no dots."""
    if os.path.exists("/etc/debian_version"):
        return _PARTS.fullmatch(name) is not None
    return not name.startswith((".", "#")) and not name.endswith(("~", ",", ".rpmsave", ".rpmorig", ".rpmnew", ".swp"))

"""What a command line runs and reads: words as sh(1) splits them (POSIX, Shell Command Language 2.3 to 2.9), as far as
plain words go. A variable is known where the line or its setting gives it a plain value; what hangs on anything else,
or on what a program prints, is not evaluated."""

import os
import re
import shlex
import stat
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from types import MappingProxyType
from typing import NamedTuple

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.core.tree.walk import USUAL_FOLDERS

_LONGEST = 1 << 16
"""Characters of a command line that are looked at."""

_LONGEST_VALUE = 4096
"""Signs of a value that are followed: a line may double one again and again."""

_FOLDERS = 200
"""Folders of a search path that are looked through."""

_NESTED = 4
"""Command lines within command lines that are looked into."""

_SEVERAL = 3
"""Commands within one command that are looked into: whoever wrote the line may have put thousands in one another."""

_REDIRECTIONS = frozenset(("<", ">", ">>", "<>", ">|", ">&", "<&", "&>", "<<", "<<<"))
_KEYWORDS = frozenset("! { } if then elif else fi while until do done exec command builtin time".split())
"""What stands before a command, or instead of one, and is none itself."""

_WRAPPERS = frozenset(
    (
        "nice ionice chrt nohup setsid env timeout stdbuf chronic systemd-cat time taskset prlimit xargs "
        "setarch unshare nsenter chroot systemd-run systemd-inhibit dbus-run-session daemon"
    ).split()
)
"""Programs that run what follows their options."""

_FOR_OTHERS = frozenset(("sudo", "runuser", "su", "setuidgid", "chpst"))
"""Those that run it as another user."""

_SHELLS = frozenset(("sh", "bash", "dash", "ksh", "mksh", "zsh", "ash", "rbash"))
_INTERPRETERS = re.compile(r"(?:python|pypy|perl|ruby|node|nodejs|php|lua|tclsh|wish|expect|guile|Rscript)[\d.]*|g?awk")
"""Programs whose first plain word is the script that they run."""

_FED = re.compile(rf"(?:{_INTERPRETERS.pattern}|psql|mysql|mariadb|sqlite3|at|batch|xargs|crontab)")
"""Programs, beside shells, that do what they read."""

_TESTS = frozenset(("test", "[", "[["))
_ONLY_NAMES = frozenset(
    (
        "echo printf rm rmdir ls cat touch mkdir chmod chown cp mv ln install stat head tail grep egrep fgrep "
        "sed wc logger tar gzip bzip2 xz zstd rsync du df find kill pkill readlink realpath basename dirname mount "
        "umount cmp diff sort tee true false : exit return trap type which hash sleep date md5sum sha256sum file mktemp"
    ).split()
)
"""Programs that neither run nor obey the files that they are given."""
_LISTED_FOR_READING = re.compile(
    r"(?i)(?:.*\.(?:conf|cfg|cnf|ini|ya?ml|toml|json|rules|env|service|sh|bash|py|pl|rb|sql|jar|lua|php|js|tcl)|.*rc)"
)
"""Names of what a program reads in order to do it."""

_GIVEN = re.compile(
    r"-[cCfF]|--?(?![\w-]*(?:log|pid|lock|sock|out))[\w-]*(?:conf|config|rc|script|init|env|rules|include|load|exec|"
    r"defaults-?file|options?-?file)[\w-]*"
)
"""Options whose value is a file that says what is to be done."""

_NOWHERE = "\0"
"""The current directory once it is not known: no path lies there."""

_ASSIGNMENT = re.compile(r"(\w+)=(.*)", re.DOTALL)
_VARIABLE = re.compile(r"\$(?:(\w+)|\{(\w+)\})")
_PARTS = re.compile(r"[A-Za-z0-9_-]+")
_NOTHING: Mapping[str, str] = MappingProxyType({})


class Setting(NamedTuple):
    """For whom and by what a command line is run, in which directory, and in which folders its programs are looked
    for; the user's home, in how many other command lines it stands, and which variables have a known value.

    ``accounts`` is where the users are found whom ``su`` and its like are given.
    """

    uid: int | None
    by: str
    cwd: str = "/"
    path: tuple[str, ...] = USUAL_FOLDERS
    home: str = "/"
    depth: int = 0
    values: Mapping[str, str] = _NOTHING
    accounts: Accounts | None = None

    def started(self, path: str, *, run: bool = True, folder: bool = False) -> StartedFile:
        """A file, or whatever lies in a folder, as something that this starts."""
        return StartedFile(os.path.normpath(path), self.uid, self.by, run, folder)

    def within(self, word: str) -> str:
        """The path that a word means in the current directory."""
        return os.path.normpath(os.path.join(self.cwd, word))

    def assigned(self, name: str, value: str) -> "Setting":
        """The same once a variable has this value."""
        if name == "PATH":
            folders = [f for word in value.split(":") for f in (self.path if word in _OWN_PATH else (word,))]
            return self._replace(path=tuple(self.plain(one) for one in folders[:_FOLDERS] if self.plain(one)))
        return self._replace(values={**self.values, name: self.plain(value)})

    def plain(self, word: str) -> str:
        """The word with known variables replaced, and a ``~`` at its beginning."""
        if word == "~" or word.startswith("~/"):
            word = self.home + word[1:]
        if "$" not in word:
            return word
        known = {"HOME": self.home, "PWD": self.cwd, **self.values}
        whole = _VARIABLE.sub(lambda found: known.get(found[1] or found[2], found[0]), word)
        return whole if len(whole) <= _LONGEST_VALUE else word

    def as_user(self, name: str) -> "Setting":
        """The same for another user; for nobody known where there is no such account."""
        account = self.accounts.user_named(name) if self.accounts is not None else None
        if account is None:
            return self._replace(uid=int(name) if name.isascii() and name.isdigit() else None)
        return self._replace(uid=account.uid, home=account.home or "/")


_OWN_PATH = ("$PATH", "${PATH}")


def of_command(line: str, setting: Setting) -> Iterator[StartedFile]:
    """What a line does that is one command and that no shell evaluates."""
    try:
        words = shlex.split(line[:_LONGEST])
    except ValueError:  # a quotation that does not end
        words = line[:_LONGEST].split()
    yield from of_words(words, setting)


def of_shell(line: str, setting: Setting) -> Iterator[StartedFile]:
    """What a line does that a shell is given: each command in it, wherever ``cd`` has led by then."""
    around: list[Setting] = []
    for opened, words, closed, fed in _commands(line[:_LONGEST]):
        around += [setting] * opened
        words = _command(words)
        while words and (assigned := _ASSIGNMENT.fullmatch(words[0])):
            if all(_ASSIGNMENT.fullmatch(word) for word in words):
                setting = setting.assigned(assigned[1], assigned[2])
            words = words[1:]
        words = _command(words)
        if words[:1] == ["cd"]:
            folder = next((setting.plain(word) for word in words[1:] if not word.startswith("-")), setting.home)
            setting = setting._replace(cwd=setting.within(folder) if _known(folder) else _NOWHERE)
        elif words[:1] in (["export"], ["readonly"], ["local"], ["declare"], ["typeset"]):
            for assigned in map(_ASSIGNMENT.fullmatch, words[1:]):
                if assigned is not None:
                    setting = setting.assigned(assigned[1], assigned[2])
        elif words:
            yield from of_words(words, setting)
            yield from _fed_to(words, fed, setting)
        for _ in range(closed):
            setting = around.pop() if around else setting


def _command(words: list[str]) -> list[str]:
    while words and words[0] in _KEYWORDS:
        words = words[1:]
    return words


def of_words(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What one command runs, with what it runs in turn, and the files that tell it what to do."""
    words = [setting.plain(word) for word in words]
    if not words or os.path.basename(words[0]) in _TESTS:
        return  # what is only asked about is neither run nor read
    yield from _program(words[0], setting)
    name, rest = os.path.basename(words[0]), words[1:]
    if setting.depth >= _NESTED:
        return
    deeper = setting._replace(depth=setting.depth + 1)
    if name in (".", "source"):
        yield from (setting.started(setting.within(word)) for word in rest[:1] if _known(word))
    elif name in _SHELLS or _INTERPRETERS.fullmatch(name):
        yield from _interpreted(name, rest, deeper)
    elif name == "eval":
        yield from of_shell(" ".join(rest), deeper)
    elif name in _FOR_OTHERS:
        yield from _for_others(name, rest, deeper)
    elif name == "flock":
        yield from _wrapped(_after_first(rest), deeper)
    elif name in _WRAPPERS:
        yield from _wrapped(rest, deeper)
    elif name == "run-parts":
        yield from _of_parts(rest, setting)
    elif name == "find":
        places = [place for place, word in enumerate(rest) if word in ("-exec", "-execdir", "-ok", "-okdir")]
        for place in places[:_SEVERAL]:
            yield from of_words(rest[place + 1 :], deeper)
    elif name == "start-stop-daemon":
        yield from _started_by_option(rest, deeper)
    elif name not in _ONLY_NAMES:
        yield from _named(rest, setting)


def _interpreted(name: str, words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What a shell or another interpreter is given: a line, or a script by its name."""
    shell = name in _SHELLS
    for place, word in enumerate(words):
        if shell and re.fullmatch(r"-[a-zA-Z]*c[a-zA-Z]*", word):
            following = [one for one in words[place + 1 :] if not one.startswith("-")]
            yield from of_shell(following[0] if following else "", setting)
            return
        if not shell and word in ("-c", "-e", "-E", "-m", "-"):
            return  # its text stands in the line, or it is found among its modules
        if not word.startswith("-"):
            if _known(word):
                yield setting.started(setting.within(word), run=True)
            return


_VALUED = frozenset(
    "-s --shell -g -G --group -h --host -p --prompt -C -D --chdir -R -T -w --whitelist-environment".split()
)
"""Options of su(1), runuser(1) and sudo(8) that take the next word; but ``-p`` of su and of runuser takes none."""


def _for_others(name: str, words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What is run as another user, who is named before the command or by an option."""
    setting = setting.as_user("root")
    line, named = None, name == "sudo"
    pending = list(words)
    while pending:
        word = pending.pop(0)
        option, equals, value = word.partition("=")
        if option in ("-u", "--user"):
            setting, named = setting.as_user(value if equals else "".join(pending[:1])), True
            pending = pending if equals else pending[1:]
        elif option in ("-c", "--command") and name != "sudo":
            line = value if equals else "".join(pending[:1])
            pending = pending if equals else pending[1:]
        elif word in _VALUED and not (word == "-p" and name != "sudo"):
            pending = pending[1:]
        elif not word.startswith("-") and not named and name != "chpst":
            setting, named = setting.as_user(word), True
        elif not word.startswith("-") and not _ASSIGNMENT.fullmatch(word):
            pending.insert(0, word)
            break
    if line is not None:
        yield from of_shell(line, setting)
    elif pending and name != "su":
        yield from of_words(pending, setting)


def _wrapped(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """The command that a wrapper is given: from the first word on that is a program, after what it assigns."""
    for place, word in enumerate(words):
        assigned = _ASSIGNMENT.fullmatch(word)
        if assigned and not word.startswith("-"):
            setting = setting.assigned(assigned[1], assigned[2])
        elif not word.startswith("-") and any(os.path.isfile(one.path) for one in _program(word, setting)):
            yield from of_words(words[place:], setting)
            return
        elif word == "-c" and words[place + 1 :]:  # flock(1) hands a line to a shell
            yield from of_shell(words[place + 1], setting)
            return
    for word in words:  # what is not there yet is run once it is
        if word.startswith(("/", "./")) and _known(word) and not os.path.exists(setting.within(word)):
            yield setting.started(setting.within(word))
            return


def _after_first(words: list[str]) -> list[str]:
    """What follows the first word that is no option, but ``-c`` as well: of flock(1), behind its lock."""
    place = next((place for place, word in enumerate(words) if not word.startswith("-")), len(words))
    return words[place + 1 :]


def _of_parts(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """The folder that run-parts(8) is given last, and what it runs of it."""
    pattern = next((word.partition("=")[2] for word in words if word.startswith("--regex=")), None)
    folders = [word for word in words if not word.startswith("-")]
    if folders and _known(folders[-1]):
        yield from folder_of_parts(setting.within(folders[-1]), setting, pattern)


def folder_of_parts(folder: str, setting: Setting, pattern: str | None = None) -> Iterator[StartedFile]:
    """A folder of which everything is run, and what that is today."""
    yield setting.started(folder, folder=True)
    yield from (setting.started(one) for one in run_parts(folder, pattern))


def _started_by_option(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What start-stop-daemon(8) starts, and as whom."""
    for place, word in enumerate(words[:-1]):
        if word in ("-c", "--chuid"):
            setting = setting.as_user(words[place + 1].partition(":")[0])
    named = [place for place, word in enumerate(words) if word.partition("=")[0] in ("-x", "--exec", "-a", "--startas")]
    for place in named[:_SEVERAL]:
        _, equals, value = words[place].partition("=")
        if value or not equals:
            value = value if equals else "".join(words[place + 1 : place + 2])
            rest = words[words.index("--") + 1 :] if "--" in words else []
            yield from of_words([value, *rest], setting)


def _named(words: list[str], setting: Setting) -> Iterator[StartedFile]:
    """The files that are named with their whole path and tell a program what to do."""
    before = ""
    for word in words:
        option, equals, value = word.partition("=") if word.startswith("-") else (before, "", word)
        if word.startswith("-") and not equals:
            before = word
            continue
        if value.startswith("/") and _known(value) and not os.path.isdir(value):
            run = os.access(value, os.X_OK)
            there = os.path.isfile(value)
            if run or (there and _LISTED_FOR_READING.fullmatch(os.path.basename(value))) or _GIVEN.fullmatch(option):
                yield setting.started(value, run=run)
        before = ""


def _fed_to(words: list[str], fed: list[str], setting: Setting) -> Iterator[StartedFile]:
    """What is redirected to the input of a program that does what it reads."""
    name = os.path.basename(words[0])
    if name in _SHELLS or _FED.fullmatch(name):
        for word in map(setting.plain, fed):
            if _known(word):
                yield setting.started(setting.within(word), run=False)


def _known(word: str) -> bool:
    """Whether a word says what it means, all variables replaced, and can be a path at all."""
    return bool(word) and not any(sign in word for sign in "$`*?%\0")


def _program(word: str, setting: Setting) -> Iterator[StartedFile]:
    """The file that is run by this word, whether it is there or not; a name is looked for in each folder in turn, and
    whoever may add names to one of the first decides what is found."""
    if not _known(word):
        return
    if "/" in word:
        path = setting.within(word)
        if not os.path.isdir(path):
            yield setting.started(path)
        return
    before: list[str] = []
    for folder in setting.path:
        path = os.path.join(setting.within(folder), word)
        if os.path.isfile(path) and os.access(path, os.X_OK):
            yield from (setting.started(one) for one in before)
            yield setting.started(path)
            return
        if folder not in USUAL_FOLDERS:
            before.append(path)
    yield from (setting.started(one) for one in before)


_Command = tuple[int, list[str], int, list[str]]
"""How many subshells a simple command opens, its words, how many end after it, and what its input is read from."""


def _commands(line: str) -> Iterator[_Command]:
    """Each simple command; of what a shell would refuse, what is between spaces, line by line."""
    tokens = _tokens(line.replace("\\\n", ""))
    if tokens is not None:
        yield from _split(tokens)
        return
    for one in line.split("\n"):
        tokens = _tokens(one)
        yield from _split(one.split() if tokens is None else tokens)


def _tokens(line: str) -> list[str] | None:
    """The words and operators of a line; None where a quotation does not end."""
    lexer = shlex.shlex(line, posix=True, punctuation_chars="();<>|&\n`")
    lexer.whitespace, lexer.whitespace_split, lexer.commenters = " \t\r", True, ""
    try:
        return list(lexer)
    except ValueError:
        return None


def _split(tokens: Iterable[str]) -> Iterator[_Command]:
    """The simple commands that these make."""
    words: list[str] = []
    fed: list[str] = []
    opened = 0
    target = ""
    comment = False
    for token in tokens:
        if comment and "\n" not in token:
            continue
        comment = False
        if target:
            fed += [token] if target == "<" else []
            target = ""
        elif token in _REDIRECTIONS:
            target = token
            if words and words[-1].isdigit():
                words.pop()
        elif token.startswith("#"):
            comment = True
        elif token and not token.strip("();&|\n`"):  # what stands between two commands
            closed = token.count(")")
            yield opened, words, closed, fed
            words, fed, opened = [], [], token.count("(")
        else:
            words.append(token)
    yield opened, words, 0, fed


def run_parts(folder: str, pattern: str | None = None) -> list[str]:
    """What run-parts(8) runs of a folder, in its order: executable files, by Debian's rule of names where that is the
    host's, and elsewhere all but those that look like copies; or by a regular expression. A symlink that leads to
    nothing is run as soon as it does lead to something."""
    found = []
    with suppress(OSError, ValueError):
        for name in sorted(os.listdir(folder)):
            path = f"{folder.rstrip('/')}/{name}"
            if (is_part(name) if pattern is None else _matches(pattern, name)) and is_program(path):
                found.append(path)
    return found


def is_program(path: str) -> bool:
    """Whether an executable file is there, or a symlink that leads nowhere yet."""
    try:
        return stat.S_ISREG(os.stat(path).st_mode) and os.access(path, os.X_OK)
    except OSError:
        return os.path.islink(path)


def listed_parts(folder: str, pattern: str | None) -> list[str]:
    """What run-parts(8) lists of a folder, where it is only asked to: by a pattern, what is not executable too."""
    if pattern is None:
        return run_parts(folder)
    with suppress(OSError, ValueError):
        names = sorted(name for name in os.listdir(folder) if _matches(pattern, name))
        return [f"{folder.rstrip('/')}/{name}" for name in names]
    return []


_PLAIN_PATTERN = re.compile(r"\^?(?:\[\^?[\w.-]+\]|\\?[.\w-])*(?:\[[\w.-]+\]|\.)?[*+]?(?:\\?[.\w-])*\$?")
"""Regular expressions that cannot be made to take long: whoever wrote the command line may have meant them to."""


def _matches(pattern: str, name: str) -> bool:
    """Whether a name fits a pattern; of one that is no plain one it is taken that it does."""
    with suppress(re.error):
        return _PLAIN_PATTERN.fullmatch(pattern) is None or re.search(pattern, name) is not None
    return True


def is_part(name: str) -> bool:
    """Whether a file of this name is run, or read as a table: Debian's run-parts(8) and cron(8) take no dots."""
    if os.path.exists("/etc/debian_version"):
        return _PARTS.fullmatch(name) is not None
    return not name.startswith((".", "#")) and not name.endswith(("~", ",", ".rpmsave", ".rpmorig", ".rpmnew", ".swp"))

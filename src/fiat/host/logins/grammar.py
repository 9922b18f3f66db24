"""The grammar of a shell's file, done as it is read: POSIX.1-2017, Shell Command Language 2.9 and 2.10."""

import contextlib
import fnmatch
import glob
import os
import re
from collections.abc import Iterator
from itertools import islice
from typing import Protocol

from fiat.host.logins.conditions import Known, Tested, Truth, both, either, negated
from fiat.host.logins.words import Token

_ASSIGNMENT = re.compile(r"(?s)([A-Za-z_]\w*)(\+?)=(.*)")
_SETS_NOTHING = frozenset(
    "echo printf cd pushd popd hash alias unalias bind complete compgen shopt set stty mesg trap read ulimit setterm "
    "tput clear biff bindkey autoload zstyle setopt unsetopt bashcompinit compinit limit logger true false :".split()
)
_ENDINGS = frozenset("then elif else fi do done esac }".split())
_DEEPEST = 8


class EndOfFile(Exception):
    """The file ends here, or the whole shell does."""


class Shell(Protocol):
    """What the grammar asks of a shell: its variables and functions, and what becomes of a command."""

    values: dict[str, Known]
    functions: dict[str, tuple[list[Token], int, str]]
    adds: bool

    def expand(self, word: str) -> Known:
        """A word with its quotations taken off and its expansions made."""

    def assign(self, name: str, value: Known, place: str, run: Truth) -> None:
        """Set a variable, as far as that is known to happen."""

    def set_mask(self, word: Known, place: str, run: Truth) -> None:
        """Set the umask, as far as that is known to happen."""

    def left_open(self, text: str, of: str = "") -> None:
        """Keep what could not be evaluated, and what it may decide."""

    def read(self, path: str, depth: int = 0) -> bool:
        """Do what is in a file."""

    def step(self) -> None:
        """Count what is done."""


class Reader:
    """Goes through one file's words, and does at once what they say. ``run`` is whether what is read is done."""

    def __init__(self, shell: Shell, tokens: list[Token], path: str, depth: int) -> None:
        self.shell = shell
        self.tokens = tokens
        self.path = path
        self.depth = depth
        self.at = 0

    def whole(self) -> None:
        """All of the file."""
        while self.at < len(self.tokens):
            before = self.at
            self._list(True)
            if self.at == before:
                self.at += 1  # what ends something that never began

    # --- tokens ---

    def _peek(self) -> Token | None:
        return self.tokens[self.at] if self.at < len(self.tokens) else None

    def _is(self, text: str, *, operator: bool = False) -> bool:
        tokens, at = self.tokens, self.at
        return at < len(tokens) and tokens[at].text == text and tokens[at].operator == operator

    def _skip_lines(self) -> None:
        while (token := self._peek()) is not None and token.operator and token.text in ("\n", ";"):
            self.at += 1

    def _take(self, text: str) -> None:
        self._skip_lines()
        if not self._is(text):
            raise IndexError(text)
        self.at += 1

    # --- lists and commands ---

    def _list(self, run: Truth) -> Truth:
        """Commands one after the other, up to a word that ends them."""
        status: Truth = True
        while (token := self._peek()) is not None:
            if token.operator and token.text in ("\n", ";", "&"):
                self.at += 1
            elif (token.operator and token.text in (")", ";;")) or (not token.operator and token.text in _ENDINGS):
                break
            else:
                status = self._and_or(run)
        return status

    def _and_or(self, run: Truth) -> Truth:
        status = self._pipeline(run)
        while self._is("&&", operator=True) or self._is("||", operator=True):
            wanted = self.tokens[self.at].text == "&&"
            self.at += 1
            while self._is("\n", operator=True):
                self.at += 1
            goes_on = both(run, status if wanted else negated(status))
            other = self._pipeline(goes_on)
            if goes_on is not False:
                status = other if goes_on else None
        return status

    def _pipeline(self, run: Truth) -> Truth:
        turned = self._is("!")
        self.at += turned
        status = self.command(run)
        while self._is("|", operator=True):
            self.at += 1
            while self._is("\n", operator=True):
                self.at += 1
            self.command(False)  # each in a shell of its own
            status = None
        return negated(status) if turned else status

    def command(self, run: Truth) -> Truth:
        """One command, compound or simple; whether it succeeds."""
        self.shell.step()
        token = self.tokens[self.at]
        if token.operator and token.text == "(":
            self.at += 1
            self._list(False)
            self.at += 1
            status: Truth = None
        elif token.text in _COMPOUND and not token.operator:
            self.at += 1
            status = getattr(self, _COMPOUND[token.text])(run)
        else:
            return self._simple(run)
        self._redirections()
        return status

    def _redirections(self) -> None:
        while (token := self._peek()) is not None and token.operator and token.text[0] in "<>":
            self.at += 2

    def _if(self, run: Truth) -> Truth:
        status: Truth = True
        left = run
        while True:
            held = self._list(left)
            self._take("then")
            done = self._list(both(left, held))
            if both(left, held):
                status = done
            left = both(left, negated(held))
            self._skip_lines()
            word = self.tokens[self.at].text
            self.at += 1
            if word == "elif":
                continue
            if word == "else":
                self._list(left)
                self._take("fi")
            return status

    def _group(self, run: Truth) -> Truth:
        status = self._list(run)
        self._take("}")
        return status

    def _while(self, run: Truth) -> Truth:
        held = self._list(run)
        self._take("do")
        self._list(False if held is False else None if run is not False else False)
        self._take("done")
        return None

    def _for(self, run: Truth) -> Truth:
        name = self.tokens[self.at].text
        self.at += 1
        words: list[Known] = []
        if self._is("in"):
            self.at += 1
            while (token := self._peek()) is not None and not token.operator:
                words += self._fields(token.text)
                self.at += 1
        self._take("do")
        begins = self.at
        for word in words or [""]:
            self.at = begins
            does = run if words and word is not None else (False if not words else None)
            if does is not False or not words:
                if run is not False:
                    self.shell.values[name] = word
                self._list(does if run is not False else False)
        self._take("done")
        return None

    def _fields(self, word: str) -> Iterator[Known]:
        """A word as the several that it becomes: split, where it was not quoted, and names of files put in."""
        value = self.shell.expand(word)
        if value is None or word.startswith(("'", '"')):
            yield value
            return
        for part in value.split() if "$" in word or "`" in word else [value]:
            yield from _names_like(part) if glob.has_magic(part) else [part]

    def _case(self, run: Truth) -> Truth:
        value = self.shell.expand(self.tokens[self.at].text)
        self.at += 1
        self._take("in")
        left = run
        while True:
            self._skip_lines()
            if self._is("esac"):
                self.at += 1
                return None
            if self._is("(", operator=True):
                self.at += 1
            matches: Truth = False
            while not self._is(")", operator=True):
                token = self.tokens[self.at]
                if not token.operator:
                    pattern = self.shell.expand(token.text)
                    one = None if value is None or pattern is None else fnmatch.fnmatchcase(value, pattern)
                    matches = either(matches, one)
                self.at += 1
            self.at += 1
            self._list(both(left, matches))
            left = both(left, negated(matches))
            if self._is(";;", operator=True):
                self.at += 1

    def _function(self, run: Truth) -> Truth:
        """``function NAME { … }``, as some shells have it."""
        name = self.tokens[self.at].text
        self.at += 1
        if self._is("(", operator=True):
            self.at += 2
        return self._defined(name, run)

    def _defined(self, name: str, run: Truth) -> Truth:
        while self._is("\n", operator=True):
            self.at += 1
        if run:
            self.shell.functions[name] = (self.tokens, self.at, self.path)
        self.command(False)
        return True

    # --- simple commands ---

    def _simple(self, run: Truth) -> Truth:
        words: list[Token] = []
        while (token := self._peek()) is not None:
            if token.operator and token.text[0] in "<>":
                if words and words[-1].text.isdigit() and len(words) > 1:
                    words.pop()
                self.at += 2
            elif token.operator:
                break
            else:
                words.append(token)
                self.at += 1
        if not words:
            self.at += 1
            return None
        if len(words) == 1 and self._is("(", operator=True) and self.tokens[self.at + 1].text == ")":
            self.at += 2
            return self._defined(words[0].text, run)
        if run is False:
            return None
        place = f"{self.path}:{words[0].line}"
        assigned = []
        while words and (found := _ASSIGNMENT.fullmatch(words[0].text)) and (self.shell.adds or not found[2]):
            assigned.append(found)
            words = words[1:]
        if not words:
            for found in assigned:
                self._assign(found, place, run)
            return True
        return self._builtin(words[0].text, [word.text for word in words[1:]], place, run)

    def _assign(self, found: re.Match[str], place: str, run: Truth) -> None:
        shell = self.shell
        value = shell.expand(found[3])
        if found[2] and value is not None:
            before = shell.values.get(found[1], "")
            value = None if before is None else before + value
        shell.assign(found[1], value, place, run)

    def _builtin(self, name: str, words: list[str], place: str, run: Truth) -> Truth:
        shell = self.shell
        if name in ("builtin", "command") and words and not words[0].startswith("-"):
            return self._builtin(words[0], words[1:], place, run)
        if name in ("export", "readonly", "declare", "typeset", "local"):
            for word in words:
                if found := _ASSIGNMENT.fullmatch(word):
                    self._assign(found, place, run)
            return True
        if name == "umask":
            given = [word for word in words if word not in ("-S", "-p", "--")]
            if given:
                shell.set_mask(shell.expand(given[0]), place, run)
            return True
        if name in (".", "source") and words:
            return self._sourced(shell.expand(words[0]), place, run)
        if name in ("[", "test", "[["):
            return Tested([shell.expand(word) for word in words if word not in ("]", "]]")]).truth()
        if name in ("return", "exit", "logout", "exec"):
            if run:
                raise EndOfFile
            shell.left_open(f"whether the file ends at {place}")
            return None
        if name == "unset":
            for word in words:
                shell.values.pop(word, None)
            return True
        if name in ("true", ":"):
            return True
        if name == "false":
            return False
        if name in shell.functions:
            return self._call(name, words, run)
        if name == "eval":
            shell.left_open(f"what {place} evaluates")
        return None if name not in _SETS_NOTHING else True

    def _sourced(self, path: Known, place: str, run: Truth) -> Truth:
        shell = self.shell
        if path is None or run is None:
            shell.left_open(f"which file {place} reads" if path is None else f"whether {place} reads {path}")
            return None
        if self.depth < _DEEPEST:
            return shell.read(os.path.join(str(shell.values.get("HOME") or "/"), path), self.depth + 1)
        return None

    def _call(self, name: str, words: list[str], run: Truth) -> Truth:
        shell = self.shell
        tokens, begins, path = shell.functions[name]
        kept = {str(number): shell.values.get(str(number), "") for number in range(1, 10)}
        given = [shell.expand(word) for word in words]
        shell.values |= {str(number): given[number - 1] if number <= len(given) else "" for number in range(1, 10)}
        if self.depth >= _DEEPEST:
            return None
        reader = Reader(shell, tokens, path, self.depth + 1)
        reader.at = begins
        status: Truth = None
        with contextlib.suppress(EndOfFile):
            status = reader.command(run)
        shell.values |= kept
        return status


def _names_like(pattern: str) -> list[Known]:
    """The names of a pattern, itself where there are none; unknown where many directories would have to be read."""
    if sum(glob.has_magic(one) for one in pattern.split("/")) > 1 or not pattern.startswith("/"):
        return [None]
    names: list[Known] = [*islice(sorted(glob.glob(pattern)), _NAMES)]
    return names or [pattern]


_NAMES = 1000
"""So many names of a pattern are gone through."""

_COMPOUND = {
    "if": "_if",
    "for": "_for",
    "while": "_while",
    "until": "_while",
    "case": "_case",
    "{": "_group",
    "function": "_function",
}

"""What start-up files of a shell make of the umask and of variables: the commands that do nothing else are evaluated.

POSIX.1-2017, Shell Command Language 2.5 to 2.9. Tests, branches, loops over names of files, functions and other files
that are read are followed; what another program prints is known of none but id(1), and what hangs on it is not
evaluated: that is kept as an open end.
"""

import contextlib
import fnmatch
import glob
import os
import re
from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model import umask
from fiat.host.evidence.commandlines import run_parts
from fiat.host.logins.files import Files
from fiat.host.logins.words import Token

_DEEPEST = 8
_STEPS = 20_000
"""Commands that are followed in all before the rest is left."""

Known = str | None
"""A value, or None where it is not known."""

Truth = bool | None
"""Whether a command succeeds; None where that is not known."""

_PIECE = re.compile(
    r"(?s)\\(?P<escaped>.)|'(?P<quoted>[^']*)'|\"(?P<double>(?:[^\"\\`$]|\\.|`[^`]*`|\$\((?:[^()]|\([^()]*\))*\)|\$\{(?:[^{}]|\{[^{}]*\})*\}|\$)*)\""
    r"|`(?P<ticked>[^`]*)`|\$\((?P<command>(?:[^()]|\([^()]*\))*)\)|\$\{(?P<braced>(?:[^{}]|\{[^{}]*\})*)\}|\$(?P<name>\w+|[-?#@*!$])|(?P<plain>[^\\'\"`$]+|\$)"
)
_WITH = re.compile(r"(\w+|[-?#@*])(:?[-+=?])(.*)", re.DOTALL)
_CUT = re.compile(r"(\w+|[-?#@*])(##?|%%?)(.*)", re.DOTALL)
_ASSIGNMENT = re.compile(r"(?s)([A-Za-z_]\w*)(\+?)=(.*)")
_SETS_NOTHING = frozenset(
    "echo printf cd pushd popd hash alias unalias bind complete compgen shopt set stty mesg trap read ulimit setterm "
    "tput clear biff bindkey autoload zstyle setopt unsetopt bashcompinit compinit limit logger true false :".split()
)
_ENDINGS = frozenset("then elif else fi do done esac }".split())


class Session(NamedTuple):
    """Whose shell it is: what id(1) says, and what it finds set; None is what is set and not known.

    Some shells have ``+=``, which ``adds`` to a variable.
    """

    name: str
    uid: int
    gid: int
    group: str
    values: dict[str, Known]
    mask: int
    adds: bool = False


class _End(Exception):
    """The file ends here, or the whole shell does."""


class ShellFiles:
    """A shell that reads one file after the other. ``by`` says for each variable, and for ``umask``, what set it."""

    def __init__(self, session: Session, files: Files) -> None:
        self.session = session
        self._files = files
        self.values = dict(session.values)
        self.mask: int = session.mask
        self.by: dict[str, str] = {}
        self.open_ends: list[str] = []
        self._functions: dict[str, tuple[list[Token], int, str]] = {}
        self._steps = 0

    def read(self, path: str, depth: int = 0) -> bool:
        """Do what is in a file; False where there is none that can be read."""
        try:
            tokens = self._files.tokens(path)
        except FileNotFoundError:
            return False
        except OSError:
            self._open(f"{path} cannot be read")
            return False
        except ValueError:
            self._open(f"{path} is not understood")
            return False
        reader = _Reader(self, tokens, path, depth)
        try:
            reader.whole()
        except _End:
            return True
        except (IndexError, RecursionError):
            self._open(f"{path} is not understood")
        return True

    # --- what commands do ---

    def assign(self, name: str, value: Known, place: str, run: Truth) -> None:
        """Set a variable, unless that is not known to happen."""
        if run is None or (value is None and name == "PATH"):
            if name == "PATH":
                self._open(f"whether {place} sets PATH" if run is None else f"to what {place} sets PATH")
            else:
                self.values[name] = None
            return
        self.values[name] = value
        self.by[name] = place

    def set_mask(self, word: Known, place: str, run: Truth) -> None:
        """What umask(1p) does with a word."""
        try:
            mask = None if word is None else umask.parse(word, self.mask)
        except NotationError:
            return  # the shell refuses it, and goes on
        if mask is None or run is None:
            if mask != self.mask:
                self._open(f"whether {place} sets the umask" if mask is not None else f"to what {place} sets the umask")
            return
        self.mask = mask
        self.by["umask"] = place

    def _open(self, text: str) -> None:
        if text not in self.open_ends:
            self.open_ends.append(text)

    def step(self) -> None:
        """Count what is done; :class:`_End` after far too much."""
        self._steps += 1
        if self._steps > _STEPS:
            self._open("the start-up files do more than is followed")
            raise _End

    # --- words ---

    def expand(self, word: str) -> Known:
        """A word with its quotations taken off and its expansions made; None where one is not known."""
        if word == "~" or word.startswith("~/"):
            word = f"${{HOME}}{word[1:]}"
        parts = []
        place = 0
        while place < len(word):
            found = _PIECE.match(word, place)
            if found is None:
                return None
            place = found.end()
            part = self._piece(found)
            if part is None:
                return None
            parts.append(part)
        return "".join(parts)

    def _piece(self, found: re.Match[str]) -> Known:
        if found["plain"] is not None:
            return found["plain"]
        if found["escaped"] is not None:
            return found["escaped"]
        if found["quoted"] is not None:
            return found["quoted"]
        if found["double"] is not None:
            return self._double(found["double"])
        if found["name"] is not None:
            return self._value(found["name"])
        if found["braced"] is not None:
            return self._braced(found["braced"])
        return self._printed(found["command"] if found["command"] is not None else found["ticked"])

    def _double(self, text: str) -> Known:
        """What stands between double quotation marks."""
        parts = []
        for piece in re.finditer(
            r"(?s)\\([\\$`\"\n])|(`[^`]*`|\$\((?:[^()]|\([^()]*\))*\)|\$\{(?:[^{}]|\{[^{}]*\})*\}|\$(?:\w+|[-?#@*!$]))|([^\\`$]+|.)",
            text,
        ):
            part = self.expand(piece[2]) if piece[2] else (piece[1] or "").replace("\n", "") + (piece[3] or "")
            if part is None:
                return None
            parts.append(part)
        return "".join(parts)

    def _value(self, name: str) -> Known:
        """Of what nobody set nothing: a login begins with few variables."""
        return self.values.get(name, "")

    def _braced(self, text: str) -> Known:
        if re.fullmatch(r"\w+|[-?#@*]", text):
            return self._value(text)
        found = _WITH.fullmatch(text)
        if found is None:
            return self._cut(text)
        value, sign = self._value(found[1]), found[2]
        if value is None:
            return None
        there = value != "" if ":" in sign or found[1] not in self.values else True
        if "+" in sign:
            return self.expand(found[3]) if there else ""
        if there:
            return value
        other = self.expand(found[3])
        if "=" in sign:
            self.values[found[1]] = other
        return other

    def _finds(self, name: str) -> bool:
        """Whether a program is found by its name in the search path as it is by now."""
        path = self.values.get("PATH")
        return path is None or any(os.path.isfile(f"{folder}/{name}") for folder in path.split(":"))

    def _cut(self, text: str) -> Known:
        """A value without what a pattern matches at its beginning or its end (POSIX, 2.6.2)."""
        found = _CUT.fullmatch(text)
        value = self._value(found[1]) if found is not None else None
        pattern = self.expand(found[3]) if found is not None else None
        if found is None or value is None or pattern is None:
            return None
        places = range(len(value) + 1)
        if found[2][0] == "#":
            fits = [place for place in places if fnmatch.fnmatchcase(value[:place], pattern)]
            return value[(fits[0] if len(found[2]) == 1 else fits[-1]) :] if fits else value
        fits = [place for place in places if fnmatch.fnmatchcase(value[place:], pattern)]
        return value[: (fits[-1] if len(found[2]) == 1 else fits[0])] if fits else value

    def _printed(self, command: str) -> Known:
        """What a command prints: known of id(1) and its like."""
        words = [self.expand(word) for word in command.replace("/usr/bin/", "").replace("2>/dev/null", "").split()]
        who = self.session
        known = {
            ("id", "-u"): str(who.uid),
            ("id", "-ru"): str(who.uid),
            ("id", "-g"): str(who.gid),
            ("id", "-un"): who.name,
            ("id", "-gn"): who.group,
            ("id", "-nu"): who.name,
            ("id", "-ng"): who.group,
            ("whoami",): who.name,
            ("logname",): who.name,
            ("umask",): f"{self.mask:04o}",
        }
        name = words[0] or "" if words else ""
        if "/" not in command.split(None, 1)[0] and name not in ("echo", "printf", "umask") and not self._finds(name):
            return ""
        if words[:1] in (["echo"], ["printf"]) and None not in words and len(words) > 1:
            return " ".join(word or "" for word in words[1:])
        if words[:2] == ["run-parts", "--list"] and None not in words:
            pattern = next((word[8:] for word in words if word and word.startswith("--regex=")), None)
            return "\n".join(run_parts_of_any(words[-1] or "", pattern))
        return known.get(tuple(word or "" for word in words))


def run_parts_of_any(folder: str, pattern: str | None) -> list[str]:
    """What run-parts(8) lists of a folder: files that need not be executable."""
    if pattern is None:
        return run_parts(folder)
    return [
        path for path in sorted(glob.glob(f"{glob.escape(folder)}/*")) if re.search(pattern, os.path.basename(path))
    ]


class _Reader:
    """Goes through one file's words, and does at once what they say. ``run`` is whether what is read is done."""

    def __init__(self, shell: ShellFiles, tokens: list[Token], path: str, depth: int) -> None:
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

    def _peek(self, ahead: int = 0) -> Token | None:
        place = self.at + ahead
        return self.tokens[place] if place < len(self.tokens) else None

    def _is(self, text: str, *, operator: bool = False) -> bool:
        token = self._peek()
        return token is not None and token.text == text and token.operator == operator

    def _skip_lines(self) -> None:
        while self._is("\n", operator=True) or self._is(";", operator=True):
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
            goes_on = _both(run, status if wanted else _not(status))
            other = self._pipeline(goes_on)
            if goes_on is not False:
                status = other if goes_on else None
        return status

    def _pipeline(self, run: Truth) -> Truth:
        turned = self._is("!")
        self.at += turned
        status = self._command(run)
        while self._is("|", operator=True):
            self.at += 1
            while self._is("\n", operator=True):
                self.at += 1
            self._command(False)  # each in a shell of its own
            status = None
        return _not(status) if turned else status

    def _command(self, run: Truth) -> Truth:
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
            done = self._list(_both(left, held))
            if _both(left, held):
                status = done
            left = _both(left, _not(held))
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
            names = sorted(glob.glob(part)) if glob.has_magic(part) else []
            yield from names or [part]

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
                    matches = _either(matches, one)
                self.at += 1
            self.at += 1
            self._list(_both(left, matches))
            left = _both(left, _not(matches))
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
            self.shell._functions[name] = (self.tokens, self.at, self.path)
        self._command(False)
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
        if len(words) == 1 and self._is("(", operator=True) and self._peek(1) == self.tokens[self.at + 1]:
            following = self._peek(1)
            if following is not None and following.text == ")":
                self.at += 2
                return self._defined(words[0].text, run)
        if run is False:
            return None
        place = f"{self.path}:{words[0].line}"
        assigned = []
        while words and (found := _ASSIGNMENT.fullmatch(words[0].text)) and (self.shell.session.adds or not found[2]):
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
            return _Tested([shell.expand(word) for word in words if word not in ("]", "]]")]).truth()
        if name in ("return", "exit", "logout", "exec"):
            if run:
                raise _End
            shell._open(f"whether the file ends at {place}")
            return None
        if name == "unset":
            for word in words:
                shell.values.pop(word, None)
            return True
        if name in ("true", ":"):
            return True
        if name == "false":
            return False
        if name in shell._functions:
            return self._call(name, words, run)
        if name == "eval":
            shell._open(f"what {place} evaluates")
        return None if name not in _SETS_NOTHING else True

    def _sourced(self, path: Known, place: str, run: Truth) -> Truth:
        shell = self.shell
        if path is None or run is None:
            shell._open(f"which file {place} reads" if path is None else f"whether {place} reads {path}")
            return None
        if self.depth < _DEEPEST:
            return shell.read(os.path.join(str(shell.values.get("HOME") or "/"), path), self.depth + 1)
        return None

    def _call(self, name: str, words: list[str], run: Truth) -> Truth:
        shell = self.shell
        tokens, begins, path = shell._functions[name]
        kept = {str(number): shell.values.get(str(number), "") for number in range(1, 10)}
        given = [shell.expand(word) for word in words]
        shell.values |= {str(number): given[number - 1] if number <= len(given) else "" for number in range(1, 10)}
        if self.depth >= _DEEPEST:
            return None
        reader = _Reader(shell, tokens, path, self.depth + 1)
        reader.at = begins
        status: Truth = None
        with contextlib.suppress(_End):
            status = reader._command(run)
        shell.values |= kept
        return status


_COMPOUND = {
    "if": "_if",
    "for": "_for",
    "while": "_while",
    "until": "_while",
    "case": "_case",
    "{": "_group",
    "function": "_function",
}


def _not(one: Truth) -> Truth:
    return None if one is None else not one


def _both(one: Truth, other: Truth) -> Truth:
    if one is False or other is False:
        return False
    return None if one is None or other is None else True


def _either(one: Truth, other: Truth) -> Truth:
    return _not(_both(_not(one), _not(other)))


def _is_number(word: str) -> bool:
    return re.fullmatch(r"\s*[-+]?\d+\s*", word) is not None


class _Tested:
    """The words of a test(1p)."""

    def __init__(self, words: list[Known]) -> None:
        self.words = words

    def truth(self) -> Truth:
        """Whether it holds."""
        words = self.words
        for sign in ("-o", "||"):
            if sign in words[1:-1]:
                place = words.index(sign, 1)
                return _either(_Tested(words[:place]).truth(), _Tested(words[place + 1 :]).truth())
        for sign in ("-a", "&&"):
            if sign in words[1:-1]:
                place = words.index(sign, 1)
                return _both(_Tested(words[:place]).truth(), _Tested(words[place + 1 :]).truth())
        if words[:1] == ["!"]:
            return _not(_Tested(words[1:]).truth())
        if len(words) == 1:
            return None if words[0] is None else words[0] != ""
        if len(words) == 2:
            return self._of_one(words[0], words[1])
        return self._of_two(*words) if len(words) == 3 else None if words else False

    @staticmethod
    def _of_one(sign: Known, value: Known) -> Truth:
        if value is None or sign is None:
            return None
        tests = {"-d": os.path.isdir, "-f": os.path.isfile, "-e": os.path.exists, "-h": os.path.islink}
        if sign in ("-n", "-z"):
            return (value != "") == (sign == "-n")
        if sign in ("-r", "-s", "-x"):
            # whether the one who logs in may read it is not asked: files of a login are there to be read
            return os.path.exists(value) if sign != "-s" else os.path.exists(value) and os.path.getsize(value) > 0
        return tests[sign](value) if sign in tests else None

    @staticmethod
    def _of_two(one: Known, sign: Known, other: Known) -> Truth:
        if one is None or other is None:
            return None
        if sign in ("=", "=="):
            return fnmatch.fnmatchcase(one, other) if sign == "==" else one == other
        if sign == "!=":
            return one != other
        numbers = ("-eq", "-ne", "-gt", "-ge", "-lt", "-le")
        if sign in numbers and not (_is_number(one) and _is_number(other)):
            return False
        if sign in numbers:
            a, b = int(one), int(other)
            return {"-eq": a == b, "-ne": a != b, "-gt": a > b, "-ge": a >= b, "-lt": a < b, "-le": a <= b}[sign]
        return None

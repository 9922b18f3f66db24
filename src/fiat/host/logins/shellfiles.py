"""What start-up files of a shell make of the umask and of variables: the commands that do nothing else are evaluated.

POSIX.1-2017, Shell Command Language 2.5 to 2.9. Tests, branches, loops over names of files, functions and other files
that are read are followed; what another program prints is known of none but id(1), and what hangs on it is not
evaluated: that is kept as an open end.
"""

import fnmatch
import os
import re
from typing import NamedTuple

from fiat.core.errors import NotationError
from fiat.core.model import umask
from fiat.core.model.login import OpenEnd
from fiat.host.evidence.commandlines import listed_parts
from fiat.host.logins.conditions import Known, Truth
from fiat.host.logins.files import Files
from fiat.host.logins.grammar import EndOfFile, Reader
from fiat.host.logins.words import Token

_STEPS = 20_000
"""Commands that are followed in all before the rest is left."""

_LONGEST = 4096
"""Signs of a word or a value that are followed: whoever wrote the file may double one again and again."""

_CUT_MOST = 512
"""Signs of a value that something is cut off from: each place is tried."""

# Each sign begins one thing at most, so that no expression goes back over what it took.
_COMMAND = r"\$\((?:[^()]|\([^()]*\))*\)"
_BRACES = r"\$\{(?:[^{}]|\{[^{}]*\})*\}"
_DOUBLE = rf"(?:[^\"\\`$]|\\.|`[^`]*`|{_COMMAND}|{_BRACES}|\$(?![({{]))*"
_PIECE = re.compile(
    rf"(?s)\\(?P<escaped>.)|'(?P<quoted>[^']*)'|\"(?P<double>{_DOUBLE})\"|`(?P<ticked>[^`]*)`|(?P<command>{_COMMAND})"
    rf"|(?P<braced>{_BRACES})|\$(?P<name>\w+|[-?#@*!$])|(?P<plain>[^\\'\"`$]+|\$)"
)
_IN_DOUBLE = re.compile(rf"(?s)\\([\\$`\"\n])|(`[^`]*`|{_COMMAND}|{_BRACES}|\$(?:\w+|[-?#@*!$]))|([^\\`$]+|.)")
_WITH = re.compile(r"(\w+|[-?#@*])(:?[-+=?])(.*)", re.DOTALL)
_CUT = re.compile(r"(\w+|[-?#@*])(##?|%%?)(.*)", re.DOTALL)


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


class ShellFiles:
    """A shell that reads one file after the other. ``by`` says for each variable, and for ``umask``, what set it."""

    def __init__(self, session: Session, files: Files) -> None:
        self.session = session
        self.adds = session.adds
        self._files = files
        self.values = dict(session.values)
        self.mask: int = session.mask
        self.by: dict[str, str] = {}
        self.open_ends: dict[OpenEnd, None] = {}
        self.functions: dict[str, tuple[list[Token], int, str]] = {}
        self._steps = 0

    def read(self, path: str, depth: int = 0) -> bool:
        """Do what is in a file; False where there is none that can be read."""
        try:
            tokens = self._files.tokens(path)
        except FileNotFoundError:
            return False
        except OSError:
            self.left_open(f"{path} cannot be read")
            return False
        except ValueError:
            self.left_open(f"{path} is not understood")
            return False
        reader = Reader(self, tokens, path, depth)
        try:
            reader.whole()
        except EndOfFile:
            return True
        except (IndexError, RecursionError):
            self.left_open(f"{path} is not understood")
        return True

    # --- what commands do ---

    def assign(self, name: str, value: Known, place: str, run: Truth) -> None:
        """Set a variable, unless that is not known to happen."""
        if run is None or (value is None and name == "PATH"):
            if name == "PATH":
                self.left_open(f"whether {place} sets PATH" if run is None else f"to what {place} sets PATH", "path")
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
                what = "whether" if mask is not None else "to what"
                self.left_open(f"{what} {place} sets the umask", "umask")
            return
        self.mask = mask
        self.by["umask"] = place

    def left_open(self, text: str, of: str = "") -> None:
        """Keep what could not be evaluated, and what it may decide."""
        self.open_ends[OpenEnd(text, of)] = None

    def step(self) -> None:
        """Count what is done; :class:`EndOfFile` after far too much."""
        self._steps += 1
        if self._steps > _STEPS:
            self.left_open("the start-up files do more than is followed")
            raise EndOfFile

    # --- words ---

    def expand(self, word: str) -> Known:
        """A word with its quotations taken off and its expansions made; None where one is not known."""
        if word == "~" or word.startswith("~/"):
            word = f"${{HOME}}{word[1:]}"
        if len(word) > _LONGEST:
            return None
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
        whole = "".join(parts)
        return whole if len(whole) <= _LONGEST else None

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
            return self._braced(found["braced"][2:-1])
        return self._printed(found["ticked"] if found["command"] is None else found["command"][2:-1])

    def _double(self, text: str) -> Known:
        """What stands between double quotation marks."""
        parts = []
        for piece in _IN_DOUBLE.finditer(text):
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
        if found is None or value is None or pattern is None or len(value) > _CUT_MOST:
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
        if not words:
            return ""
        name = words[0] or ""
        if "/" not in command.split(None, 1)[0] and name not in ("echo", "printf", "umask") and not self._finds(name):
            return ""
        if words[:1] in (["echo"], ["printf"]) and None not in words and len(words) > 1:
            return " ".join(word or "" for word in words[1:])
        if words[:2] == ["run-parts", "--list"] and None not in words:
            pattern = next((word[8:] for word in words if word and word.startswith("--regex=")), None)
            return "\n".join(listed_parts(words[-1] or "", pattern))
        return known.get(tuple(word or "" for word in words))

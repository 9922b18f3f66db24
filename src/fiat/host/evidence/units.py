"""What units start: read as systemd.unit(5), systemd.exec(5), systemd.service(5) and systemd.syntax(7) have them."""

import glob
import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from itertools import islice
from typing import NamedTuple

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.core.tree.walk import USUAL_FOLDERS
from fiat.host.evidence.commandlines import Setting, is_program, of_words
from fiat.host.evidence.texts import RealPaths, files_like, is_dangling, number_of, text_of

_SYSTEM = (
    "/etc/systemd/system.control",
    "/run/systemd/system.control",
    "/run/systemd/transient",
    "/run/systemd/generator.early",
    "/etc/systemd/system",
    "/etc/systemd/system.attached",
    "/run/systemd/system",
    "/run/systemd/system.attached",
    "/run/systemd/generator",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
    "/run/systemd/generator.late",
)
"""Where the units of the host lie, the first of a name counts (systemd.unit(5), "Unit File Load Path")."""

_OF_USERS = (
    "/etc/systemd/user",
    "/run/systemd/user",
    "/usr/local/share/systemd/user",
    "/usr/share/systemd/user",
    "/usr/local/lib/systemd/user",
    "/usr/lib/systemd/user",
)
_AT_HOME = (".config/systemd/user.control", ".config/systemd/user", ".local/share/systemd/user")
_LINGER = "/var/lib/systemd/linger"
_TYPES = ("service", "socket", "mount", "automount", "swap", "timer", "path", "target", "slice", "scope")
_GENERATORS = (
    "/run/systemd/system-generators",
    "/etc/systemd/system-generators",
    "/usr/local/lib/systemd/system-generators",
    "/usr/lib/systemd/system-generators",
    "/lib/systemd/system-generators",
    "/usr/lib/systemd/system-shutdown",
    "/usr/lib/systemd/system-sleep",
    "/etc/systemd/system-environment-generators",
    "/usr/lib/systemd/system-environment-generators",
)
"""Folders whose programs the manager runs by itself (systemd.generator(7), systemd-sleep(8), systemd-halt(8))."""

_MOST = 20_000
"""Units of one place that are read: users make theirs themselves."""

_TRUE = frozenset(("yes", "true", "1", "on", "y", "t"))
_PREFIXES = "@-:+!|"
_NOWHERE = "/dev/null"


class Folders(NamedTuple):
    """Where units are looked for, whose they are by default (``uid``, None for whoever logs in), and their ``home``."""

    folders: tuple[str, ...]
    uid: int | None
    home: str
    what: str = "unit"


def of_units(accounts: Accounts, folders: Sequence[str] = _SYSTEM) -> Iterator[StartedFile]:
    """What each unit of the host runs and reads, its own files and the folders that units lie in too."""
    yield from of_units_in(Folders(tuple(folders), 0, _home(0, accounts)), accounts)


def of_lingering(accounts: Accounts) -> Iterator[StartedFile]:
    """The same of root's own units, and of users whose manager runs without their login (loginctl(1))."""
    names = sorted(os.path.basename(path) for path in files_like(f"{_LINGER}/*"))
    for name in dict.fromkeys(("root", *names)):
        account = accounts.user_named(name)
        if account is not None and account.home:
            own = tuple(f"{account.home}/{folder}" for folder in _AT_HOME)
            every = (own[0], *own[1:2], *_OF_USERS[:3], own[2], *_OF_USERS[3:]) if name in names else own
            yield from of_units_in(Folders(every, account.uid, account.home, f"{name}'s unit"), accounts)


class ServiceUmask(NamedTuple):
    """The umask of a service, and which unit it is of."""

    mask: int
    unit: str


def umasks_of(uid: int, accounts: Accounts) -> list[ServiceUmask]:
    """The umask of each service that runs as this user (systemd.exec(5), UMask=: 0022 unless it is set)."""
    where = Folders(_SYSTEM, 0, _home(0, accounts))
    found = []
    for name, unit in _units_in(where, accounts):
        if name.endswith(".service") and unit.uid == uid:
            word = unit.last("UMask")
            with suppress(ValueError):
                found.append(ServiceUmask(int(word, 8) & 0o777 if word else 0o022, name))
    return found


def of_generators() -> Iterator[StartedFile]:
    """The programs that the manager runs by itself, and their folders."""
    for folder in _GENERATORS:
        setting = Setting(0, f"systemd, of {folder}")
        if os.path.isdir(folder):
            yield setting.started(folder, folder=True)
            yield from (setting.started(path) for path in files_like(f"{folder}/*") if is_program(path))


def of_units_in(where: Folders, accounts: Accounts) -> Iterator[StartedFile]:
    """What each unit in these folders runs and reads."""
    for folder in where.folders:
        if os.path.isdir(folder):
            yield StartedFile(folder, where.uid, "units of systemd", run=False, folder=True)
            for part in sorted(glob.glob(f"{glob.escape(folder)}/*.*/")):
                yield StartedFile(part.rstrip("/"), where.uid, "units of systemd", run=False, folder=True)
    for name, path in sorted(_by_name(where.folders).items()):
        if is_dangling(path):
            yield StartedFile(path, where.uid, f"{where.what} {name}", run=False)
    for _, unit in _units_in(where, accounts):
        yield from unit.started()


def _units_in(where: Folders, accounts: Accounts) -> Iterator[tuple[str, "Unit"]]:
    """Each unit in these folders that is not masked, by name, each instance that others want by itself."""
    found = _by_name(where.folders)
    instances = _instances(where.folders)
    parts = {folder: _folders_in(folder) for folder in where.folders}
    paths = RealPaths()
    for name, path in islice(sorted(found.items()), _MOST):
        end = paths.of(path)
        if end == _NOWHERE or not os.path.isfile(path) or not _size(path):
            continue  # masked
        real = os.path.basename(end)
        for instance in sorted(instances.get(name, ())) or [""]:
            whole = name if not instance else name.replace("@.", f"@{instance}.", 1)
            names = tuple(dict.fromkeys((whole, name, real)))
            yield whole, Unit(whole, [path, *_parts(names, parts)], where, accounts)


def _size(path: str) -> int:
    """How long a file is; nothing where it has gone."""
    with suppress(OSError):
        return os.path.getsize(path)
    return 0


def _by_name(folders: Iterable[str]) -> dict[str, str]:
    """The first file of each name of a unit."""
    found: dict[str, str] = {}
    for folder in folders:
        for kind in _TYPES:
            for path in glob.glob(f"{glob.escape(folder)}/*.{kind}"):
                found.setdefault(os.path.basename(path), path)
    return found


def _instances(folders: Iterable[str]) -> dict[str, set[str]]:
    """The instances of each template that other units want, by the links in their folders."""
    found: dict[str, set[str]] = {}
    for folder in folders:
        for path in glob.glob(f"{glob.escape(folder)}/*/*@?*.*"):
            template, _, rest = os.path.basename(path).partition("@")
            instance, dot, kind = rest.rpartition(".")
            if dot and os.path.basename(os.path.dirname(path)).endswith((".wants", ".requires", ".upholds")):
                found.setdefault(f"{template}@.{kind}", set()).add(instance)
    return found


class Unit:
    """One unit: its file and the parts that change it, and what its settings say together."""

    def __init__(self, name: str, files: list[str], where: Folders, accounts: Accounts) -> None:
        self._accounts = accounts
        self._where = where
        self._name = name
        self._by = f"{where.what} {name}"
        self._files = files
        self._settings: dict[str, list[str]] = {}
        for file in self._files:
            for key, value in settings_in(file):
                if value:
                    self._settings.setdefault(key, []).append(value)
                else:
                    self._settings[key] = []  # an empty value takes back what was there before

    def started(self) -> Iterator[StartedFile]:
        """What the unit runs and reads."""
        for file in self._files:
            yield StartedFile(file, self._where.uid, self._by, run=False)
        for line in self._settings.get("EnvironmentFile", []):
            pattern = self._specified(line.removeprefix("-"))
            for path in files_like(pattern) if glob.has_magic(pattern) else [pattern]:
                if path.startswith("/"):
                    yield StartedFile(path, 0 if self.uid is None else self.uid, self._by, run=False)
        for key, lines in self._settings.items():
            if key.startswith("Exec") and key not in ("ExecSearchPath", "ExecPaths"):
                for line in lines:
                    yield from self._commands(line)

    def last(self, key: str) -> str:
        """The last value of a setting; nothing where there is none."""
        return (self._settings.get(key) or [""])[-1]

    @cached_property
    def uid(self) -> int | None:
        """Who runs it: None for a user that is made for the purpose, or is unknown."""
        if self._where.uid != 0:
            return self._where.uid
        if (self._settings.get("DynamicUser") or [""])[-1].lower() in _TRUE:
            return None
        return number_of(self._specified((self._settings.get("User") or ["root"])[-1]), self._accounts)

    def command_lines(self, key: str) -> list[list[str]]:
        """The words of each command of a setting: what is run, and what it is given; its own name first, where it is
        given another one."""
        found = []
        for line in self._settings.get(key, []):
            for words in _split_by(";", split_words(line)):
                bare = words[0].lstrip(_PREFIXES)
                named = "@" in words[0][: len(words[0]) - len(bare)]
                found.append([self._specified(word) for word in (words[1:] if named else [bare, *words[1:]])])
        return found

    def _commands(self, line: str) -> Iterator[StartedFile]:
        for words in _split_by(";", split_words(line)):
            bare = words[0].lstrip(_PREFIXES)
            prefix = words[0][: len(words[0]) - len(bare)]
            rest = words[2:] if "@" in prefix else words[1:]
            setting = self._setting(privileged="+" in prefix)
            bare, *rest = [self._specified(word) for word in (bare, *rest)]
            given: list[str] = []
            for word in rest:
                whole = re.fullmatch(r"\$(\w+)", word)
                # a word that is one variable without braces becomes as many words as its value has (systemd.service(5))
                given += setting.values.get(whole[1], word).split() if whole and ":" not in prefix else [word]
            yield from of_words([self._rooted(bare), *given], setting)

    def _rooted(self, path: str) -> str:
        root = (self._settings.get("RootDirectory") or [""])[-1].rstrip("/")
        return f"{self._specified(root)}{path}" if root and path.startswith("/") else path

    def _setting(self, *, privileged: bool) -> Setting:
        uid = self.uid
        home = _home(uid, self._accounts)
        folder = self._specified((self._settings.get("WorkingDirectory") or ["/"])[-1].removeprefix("-"))
        path = tuple(
            one for line in self._settings.get("ExecSearchPath", []) for one in self._specified(line).split(":")
        )
        return Setting(
            0 if privileged else uid,
            self._by,
            home if folder == "~" else folder,
            path or USUAL_FOLDERS,
            home,
            values=self._environment(),
            accounts=self._accounts,
        )

    def _environment(self) -> Mapping[str, str]:
        found: dict[str, str] = {}
        for line in self._settings.get("Environment", []):
            for word in split_words(self._specified(line)):
                name, equals, value = word.partition("=")
                if equals:
                    found[name] = value
        for line in self._settings.get("EnvironmentFile", []):
            pattern = self._specified(line.removeprefix("-"))
            for path in files_like(pattern if glob.has_magic(pattern) else glob.escape(pattern)):
                for one in text_of(path).replace("\\\n", "").split("\n"):
                    name, equals, value = one.strip().partition("=")
                    if equals and not name.startswith(("#", ";")):
                        found[name.strip()] = value.strip().strip("\"'")
        return found

    def _specified(self, word: str) -> str:
        """The word with what its specifiers stand for (systemd.unit(5), "Specifiers"); of others nothing is known."""
        if "%" not in word:
            return word
        stem = self._name.rpartition(".")[0]
        prefix, at, instance = stem.partition("@")
        user = self._accounts.user_numbered(self._where.uid or 0)
        known = {
            "n": self._name,
            "N": stem,
            "p": prefix,
            "P": unescaped(prefix),
            "h": self._where.home,
            "t": "/run",
            "S": "/var/lib",
            "C": "/var/cache",
            "L": "/var/log",
            "E": "/etc",
            "T": "/tmp",
            "V": "/var/tmp",
            "u": user.name if user is not None else "root",
            "U": str(self._where.uid or 0),
            "%": "%",
            "j": unescaped(prefix.rpartition("-")[2]),
            "y": self._files[0],
            "Y": os.path.dirname(self._files[0]),
        }
        if not at or instance:
            known |= {"i": instance, "I": unescaped(instance), "f": "/" + unescaped(instance or prefix)}
        return re.sub(r"%(.)", lambda found: known.get(found[1], found[0]), word)


def _parts(names: Iterable[str], folders: Mapping[str, frozenset[str]]) -> list[str]:
    """The files that change a unit of these names: of equal names the first counts, all in the order of names."""
    wanted: list[str] = []
    for name in names:
        stem, _, kind = name.rpartition(".")
        wanted.append(f"{name}.d")
        pieces = stem.split("-")
        wanted += [f"{'-'.join(pieces[:count])}-.{kind}.d" for count in range(len(pieces) - 1, 0, -1)]
        wanted.append(f"{kind}.d")
    found: dict[str, str] = {}
    for folder, there in folders.items():
        for part in dict.fromkeys(wanted) if there else ():
            for path in () if part not in there else glob.glob(f"{glob.escape(f'{folder}/{part}')}/*.conf"):
                found.setdefault(os.path.basename(path), path)
    return [found[name] for name in sorted(found) if os.path.isfile(found[name])]


def _folders_in(folder: str) -> frozenset[str]:
    """The names of the directories in one."""
    with suppress(OSError), os.scandir(folder) as entries:
        return frozenset(one.name for one in entries if one.is_dir())
    return frozenset()


def settings_in(path: str) -> Iterator[tuple[str, str]]:
    """The settings of a unit file, in its order; lines that end in a backslash go on, over comments too."""
    going_on = ""
    for line in text_of(path).split("\n"):
        if line.lstrip().startswith(("#", ";")):
            continue
        if line.endswith("\\"):
            going_on += line[:-1] + " "
            continue
        key, equals, value = (going_on + line).strip().partition("=")
        going_on = ""
        if equals:
            yield key.strip(), value.strip()


def _split_by(sign: str, words: Iterable[str]) -> Iterator[list[str]]:
    found: list[str] = []
    for word in words:
        if word == sign:
            if found:
                yield found
            found = []
        else:
            found.append(";" if word == "\\;" else word)
    if found:
        yield found


_LONGEST = 1 << 16
"""Characters of a line that are looked at."""

_ESCAPES = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v", "s": " "}
_NUMBERED = {"x": (2, 16), "u": (4, 16), "U": (8, 16)}


def split_words(line: str) -> list[str]:
    """The words of a line of a unit: quoted in one of two ways, with escapes as in C (systemd.syntax(7), "Quoting").

    What is longer than any command line is not looked at.
    """
    line = line[:_LONGEST]
    words: list[str] = []
    parts: list[str] | None = None
    quote = ""
    place = 0
    while place < len(line):
        sign = line[place]
        place += 1
        added = ""
        if sign == "\\" and place < len(line):
            if line[place] == ";" and parts is None and line[place + 1 : place + 2] in ("", " ", "\t"):
                parts, place = ["\\;"], place + 1
                continue
            added, place = _escaped(line, place)
        elif quote:
            quote, added = ("", "") if sign == quote else (quote, sign)
        elif sign in "\"'":
            quote = sign
        elif sign in " \t\r\n":
            words += [] if parts is None else ["".join(parts)]
            parts = None
            continue
        else:
            added = sign
        parts = [] if parts is None else parts
        parts.append(added)
    return words if parts is None else [*words, "".join(parts)]


def _escaped(line: str, place: int) -> tuple[str, int]:
    """What an escape stands for, and where the line goes on after it."""
    sign = line[place]
    digits, base = _NUMBERED.get(sign, (3, 8))
    start = place + 1 if sign in _NUMBERED else place
    number = line[start : start + digits]
    valid = "01234567" if base == 8 else "0123456789abcdefABCDEF"
    if len(number) == digits and all(one in valid for one in number) and int(number, base) < 0x110000:
        return chr(int(number, base)), start + digits
    return _ESCAPES.get(sign, sign), place + 1


def unescaped(name: str) -> str:
    """A name of a unit as a path or as plain text: ``-`` is a slash, ``\\x2d`` a sign (systemd-escape(1))."""
    return re.sub(r"\\x([0-9a-fA-F]{2})", lambda found: chr(int(found[1], 16)), name.replace("-", "/"))


def _home(uid: int | None, accounts: Accounts) -> str:
    account = None if uid is None else accounts.user_numbered(uid)
    return account.home if account is not None and account.home else "/"

"""Rules of elevation, as the exporter of sudoers(5) writes them in JSON (cvtsudoers(1), ``-f json``)."""

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple, TypeVar

from fiat.core.errors import ElevationError
from fiat.core.model.elevation import ANY, Command, ElevationRule, Elevations, ElevationSetting, Member
from fiat.core.text import LARGEST, quoted, shortened

LARGEST_FILE = 64 * 1024 * 1024
"""Bytes of such a file: some hundred thousand rules."""

_DEEPEST = 20
"""Lists in lists: more are a circle."""

_MOST = 1_000_000
"""Words in all lists together, with those that stand for others."""

One = TypeVar("One", Member, Command)

# Some versions write these two without the braces that belong around them.
_BARE = re.compile(r'^(\s*)("(?:runcwd|runchroot)": "(?:[^"\\]|\\.)*")(,?)$', re.MULTILINE)


def parse_elevations(text: str, source: str) -> Elevations:
    """The rules in the JSON ``text``; :class:`ElevationError` names the place that is wrong."""
    try:
        found = json.loads(_BARE.sub(r"\1{ \2 }\3", text))
    except (ValueError, RecursionError) as error:
        at = f" at line {error.lineno}" if isinstance(error, json.JSONDecodeError) else ""
        raise ElevationError(f"{source} is no JSON{at}; rules are read as cvtsudoers -f json writes them") from error
    return _Reader(_mapping(found, "it", source), source).read()._replace(json=text)


class _Names(NamedTuple):
    """What a list may hold: by the key of a word the kind that it makes, and the key of lists under a name."""

    kinds: Mapping[str, str]
    alias: str
    table: str


_USERS = _Names(
    {"username": "user", "userid": "uid", "usergroup": "group", "usergid": "gid"}, "useralias", "User_Aliases"
)
_RUN_AS = _Names(
    {"username": "user", "userid": "uid", "usergroup": "group", "usergid": "gid"}, "runasalias", "Runas_Aliases"
)
_RUN_AS_GROUPS = _Names({"usergroup": "group", "usergid": "gid"}, "runasalias", "Runas_Aliases")
_HOSTS = _Names({"hostname": "host", "networkaddr": "address"}, "hostalias", "Host_Aliases")


class _Reader:
    def __init__(self, found: Mapping[str, Any], source: str) -> None:
        self._found = found
        self._source = source
        self._left = _MOST

    def read(self) -> Elevations:
        specs = self._list(self._found.get("User_Specs", []), "User_Specs")
        rules = [rule for number, spec in enumerate(specs) for rule in self._rules(spec, f"User_Specs[{number}]")]
        settings = [
            setting
            for number, one in enumerate(self._list(self._found.get("Defaults", []), "Defaults"))
            for setting in self._settings(one, f"Defaults[{number}]")
        ]
        return Elevations(tuple(rules), tuple(settings), self._source)

    def _rules(self, spec: Any, at: str) -> Iterator[ElevationRule]:
        spec = _mapping(spec, at, self._source)
        users = self._members(spec.get("User_List"), _USERS, f"{at}.User_List")
        hosts = self._members(spec.get("Host_List"), _HOSTS, f"{at}.Host_List")
        for number, one in enumerate(self._list(spec.get("Cmnd_Specs"), f"{at}.Cmnd_Specs")):
            place = f"{at}.Cmnd_Specs[{number}]"
            one = _mapping(one, place, self._source)
            said = dict(self._options(one.get("Options", []), f"{place}.Options"))
            password = said.pop("authenticate", None)
            if password is not None and not isinstance(password, bool):
                raise self._wrong(f"{place}.Options", "authenticate is true or false")
            yield ElevationRule(
                users,
                hosts,
                self._members(one["runasusers"], _RUN_AS, f"{place}.runasusers") if "runasusers" in one else None,
                self._members(one["runasgroups"], _RUN_AS_GROUPS, f"{place}.runasgroups")
                if "runasgroups" in one
                else None,
                self._commands(one.get("Commands"), f"{place}.Commands"),
                password,
                tuple(_tag(name, value) for name, value in said.items()),
            )

    def _settings(self, one: Any, at: str) -> Iterator[ElevationSetting]:
        one = _mapping(one, at, self._source)
        bound: dict[str, Any] = {}
        for number, word in enumerate(self._list(one.get("Binding", []), f"{at}.Binding")):
            place = f"{at}.Binding[{number}]"
            word = _mapping(word, place, self._source)
            if "command" in word or "cmndalias" in word:
                bound["commands"] = bound.get("commands", ()) + self._commands([word], place)
            elif {"hostname", "networkaddr", "hostalias"} & word.keys():
                bound["hosts"] = bound.get("hosts", ()) + self._members([word], _HOSTS, place)
            else:
                bound["people"] = bound.get("people", ()) + self._members([word], _USERS, place)
        for name, value in self._options(one.get("Options", []), f"{at}.Options"):
            yield ElevationSetting(name, value, **bound)

    def _options(self, found: Any, at: str) -> Iterator[tuple[str, Any]]:
        for number, one in enumerate(self._list(found, at)):
            for name, value in _mapping(one, f"{at}[{number}]", self._source).items():
                if isinstance(value, list) and name in ("list_add", "list_remove", "list_assign"):
                    continue
                yield name, value

    def _members(self, found: Any, names: _Names, at: str, deep: int = 0) -> tuple[Member, ...]:
        def make(word: Mapping[str, Any], negated: bool, place: str) -> Member:
            for key, kind in names.kinds.items():
                if key in word:
                    return self._member(kind, word[key], negated, f"{place}.{key}")
            return Member("other", ", ".join(str(value) for key, value in word.items() if key != "negated"), negated)

        return tuple(self._flat(found, names.alias, names.table, make, at, deep))

    def _member(self, kind: str, value: Any, negated: bool, at: str) -> Member:
        if kind in ("uid", "gid"):
            if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= LARGEST:
                raise self._wrong(at, f"{shortened(str(value))} is no number from 0 to {LARGEST}")
            return Member(kind, str(value), negated)
        if not isinstance(value, str) or not value:
            raise self._wrong(at, "a name is a text")
        if kind == "group" and value[:1] == "#" and value[1:].isdecimal():
            return self._member("gid", int(value[1:]), negated, at)
        return Member("all" if value == ANY else kind, value, negated)

    def _commands(self, found: Any, at: str) -> tuple[Command, ...]:
        def make(word: Mapping[str, Any], negated: bool, place: str) -> Command:
            text = word.get("command")
            if isinstance(text, str) and text:
                return Command(text, negated)
            raise self._wrong(place, "a command is a text")

        return tuple(self._flat(found, "cmndalias", "Command_Aliases", make, at))

    def _flat(
        self,
        found: Any,
        alias: str,
        table: str,
        make: Callable[[Mapping[str, Any], bool, str], One],
        at: str,
        deep: int = 0,
    ) -> Iterator[One]:
        """The words of a list, with the lists that it names in their places: of a negated one each word is turned."""
        if deep > _DEEPEST:
            raise self._wrong(at, "its lists name each other in a circle")
        for number, word in enumerate(self._list(found, at)):
            place = f"{at}[{number}]"
            word = _mapping(word, place, self._source)
            negated = word.get("negated", False)
            if not isinstance(negated, bool):
                raise self._wrong(place, "negated is true or false")
            self._left -= 1
            if self._left < 0:
                raise self._wrong(at, f"there are more than {_MOST:,} words in its lists")
            name = word.get(alias)
            if name is None:
                yield make(word, negated, place)
                continue
            lists = _mapping(self._found.get(table, {}), table, self._source)
            if not isinstance(name, str) or name not in lists:
                raise self._wrong(place, f"there is no list called {quoted(str(name))} among {table}")
            for one in self._flat(lists[name], alias, table, make, f"{table}.{shortened(name)}", deep + 1):
                turned = one._replace(negated=one.negated != negated)
                yield turned._replace(listed=True) if isinstance(turned, Member) else turned

    def _list(self, found: Any, at: str) -> Sequence[Any]:
        if isinstance(found, list):
            return found
        raise self._wrong(at, "it is no list")

    def _wrong(self, at: str, why: str) -> ElevationError:
        return ElevationError(f"{at} in {self._source}: {why}; rules are read as cvtsudoers -f json writes them")


def _mapping(found: Any, at: str, source: str) -> Mapping[str, Any]:
    if not isinstance(found, dict):
        raise ElevationError(f"{at} in {source} is no object of JSON; rules are read as cvtsudoers -f json writes them")
    return found


def _tag(name: str, value: object) -> str:
    """A tag as sudoers(5) writes it."""
    if name == "noexec":
        return "NOEXEC" if value else "EXEC"
    return f"{'' if value else 'NO'}{name.upper()}" if isinstance(value, bool) else f"{name.upper()}={value}"

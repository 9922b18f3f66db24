"""Which modules a login goes through, and what those do that set the umask or variables: pam.conf(5), pam_umask(8),
pam_env(8), pam_succeed_if(8)."""

import os
import re
from collections.abc import Iterator
from contextlib import suppress
from typing import NamedTuple

from fiat.core.model.accounts import Accounts, User
from fiat.core.model.login import OpenEnd
from fiat.host.logins.files import Files

_FOLDER = "/etc/pam.d"
_DEFINITIONS = "/etc/login.defs"
_LINE = re.compile(r"-?(\w+)\s+(\[[^\]]*\]|\S+)\s+(\S+)\s*(.*)")
_ARGUMENT = re.compile(r"\[((?:[^\]\\]|\\.)*)\]|(\S+)")
_DEEPEST = 16


class Module(NamedTuple):
    """One line of a stack: the module's name and arguments, and where it stands."""

    name: str
    arguments: tuple[str, ...]
    place: str


class _Line(NamedTuple):
    control: str
    module: Module


class Stack:
    """What a service's files say of one type (``auth``, ``session``), followed for one account."""

    def __init__(self, account: User, accounts: Accounts, service: str, files: Files) -> None:
        self._files = files
        self._account = account
        self._accounts = accounts
        self._service = service
        self.open_ends: list[OpenEnd] = []

    def passed(self, kind: str) -> list[Module]:
        """The modules that are gone through, in their order, as far as each succeeds."""
        path = f"{_FOLDER}/{self._service}"
        found: list[Module] = []
        self._follow(path if os.path.isfile(path) else f"{_FOLDER}/other", kind, found, 0)
        return found

    def _follow(self, path: str, kind: str, found: list[Module], depth: int) -> bool:
        """Go through a file; False where the whole stack ends there."""
        lines = self._files.worked_out(("modules", path, kind, depth), lambda: [*self._lines(path, kind, depth)])
        skip = 0
        for line in lines:
            if skip:
                skip -= 1
                continue
            if line.control in ("include", "substack"):
                if depth < _DEEPEST:
                    goes_on = self._follow(_place(line.module.name), kind, found, depth + 1)
                    if not goes_on and line.control == "include":
                        return False
                continue
            succeeds = self._succeeds(line.module)
            if succeeds:
                found.append(line.module)
            action = _action(line.control, succeeds)
            if action.isdigit():
                skip = int(action)
            elif action in ("done", "die"):
                return False
        return True

    def _lines(self, path: str, kind: str, depth: int) -> Iterator[_Line]:
        """The lines of this type, with those of files that are put in as they stand."""
        for number, line in self._files.numbered(path):
            if kind not in line and not line.startswith("@"):
                continue
            if line.startswith("@include"):
                for other in line.split()[1:2]:
                    if depth < _DEEPEST:
                        yield from self._lines(_place(other), kind, depth + 1)
                continue
            found = _LINE.fullmatch(line)
            if found is not None and found[1] == kind:
                arguments = tuple(
                    one[1].replace("\\]", "]") if one[1] is not None else one[2] for one in _ARGUMENT.finditer(found[4])
                )
                name = found[3] if found[2] in ("include", "substack") else os.path.basename(found[3])
                yield _Line(found[2], Module(name, arguments, f"{path}:{number}"))

    def _succeeds(self, module: Module) -> bool:
        if module.name == "pam_deny.so":
            return False
        if module.name == "pam_succeed_if.so":
            return self._fits(module)
        return True

    def _fits(self, module: Module) -> bool:
        """What pam_succeed_if(8) decides by the account; of what it asks besides, that it holds."""
        words = [
            word
            for word in module.arguments
            if word not in ("quiet", "quiet_fail", "quiet_success", "use_uid", "debug")
        ]
        for place in range(0, len(words) - 2, 3):
            known = self._holds(*words[place : place + 3])
            if known is None:
                self.open_ends.append(OpenEnd(f"what {module.place} asks is taken to hold"))
            elif not known:
                return False
        return True

    def _holds(self, what: str, sign: str, value: str) -> bool | None:
        account = self._account
        if what in ("uid", "gid"):
            with suppress(ValueError):
                number, other = (account.uid if what == "uid" else account.gid), int(value)
                signs = {"eq": number == other, "ne": number != other, "lt": number < other, "le": number <= other}
                signs |= {"gt": number > other, "ge": number >= other, "=": number == other, "!=": number != other}
                signs |= {"<": number < other, "<=": number <= other, ">": number > other, ">=": number >= other}
                return signs.get(sign)
        if what == "user" and sign in ("ingroup", "notingroup"):
            groups = {self._accounts.group_named(name) for name in value.split(":")}
            gids = self._accounts.gids_of(account)
            return any(group is not None and group.gid in gids for group in groups) == (sign == "ingroup")
        words = {"user": account.name, "service": self._service, "shell": account.shell, "home": account.home}
        if what not in words:
            return None
        if sign in ("in", "notin"):
            return (words[what] in value.split(":")) == (sign == "in")
        return {"=": words[what] == value, "!=": words[what] != value}.get(sign)


def _place(name: str) -> str:
    return name if name.startswith("/") else f"{_FOLDER}/{name}"


def _action(control: str, succeeds: bool) -> str:
    """What is done after a module, by its control (pam.conf(5))."""
    if not control.startswith("["):
        if control == "sufficient" and succeeds:
            return "done"
        return "die" if control == "requisite" and not succeeds else "ok"
    values = dict(word.partition("=")[::2] for word in control.strip("[]").split())
    return values.get("success", values.get("default", "ok")) if succeeds else values.get("default", "ignore")


# --- what the modules do ---------------------------------------------------------------------


def definition(files: Files, name: str, path: str = _DEFINITIONS) -> tuple[str, int] | None:
    """The first value of a name in login.defs(5), and its line."""
    return files.definitions(path).get(name.lower())


def mask_by(module: Module, account: User, accounts: Accounts, before: int, files: Files) -> tuple[int, str] | None:
    """The umask that pam_umask(8) sets, and by what; None where it sets none."""
    found: tuple[int, str] | None = None
    own_group = "usergroups" in module.arguments
    for argument in module.arguments:
        if argument.startswith("umask="):
            found = _octal(argument[6:], module.place)
    if found is None:
        set_there = definition(files, "UMASK")
        if set_there is not None:
            found = _octal(set_there[0], f"{_DEFINITIONS}:{set_there[1]}, by pam_umask")
            ours = definition(files, "USERGROUPS_ENAB")
            own_group |= ours is not None and ours[0].lower() == "yes" and files.umask_module_asks(b"USERGROUPS_ENAB")
        else:
            other = definition(files, "UMASK", "/etc/default/login")
            found = _octal(other[0], f"/etc/default/login:{other[1]}, by pam_umask") if other is not None else None
    if "nousergroups" in module.arguments:
        own_group = False
    mask, by = found or (before, "")
    if own_group and account.uid:
        group = accounts.group_numbered(account.gid)
        if group is not None and group.name == account.name:
            mask, by = (
                mask & ~0o070 | (mask & 0o700) >> 3,
                f"{by or module.place}, and {account.name} has a group of their own",
            )
    for part in account.comment.split(","):
        if part.lower().startswith("umask="):
            own = _octal(part[6:], "the comment of the account")
            mask, by = own if own is not None else (mask, by)
    return (mask, by) if by else None


def _octal(word: str, place: str) -> tuple[int, str] | None:
    digits = re.match(r"[0-7]*", word.strip())
    return (int(digits[0], 8) & 0o777, place) if digits is not None and digits[0] else (0, place)


def variables_by(module: Module, values: dict[str, str], account: User, files: Files) -> Iterator[tuple[str, str, str]]:
    """The variables that pam_env(8) sets, with their values and where they stand; ``values`` are those set by then."""
    given = dict(word.partition("=")[::2] for word in module.arguments)
    rules = given.get("conffile", "/etc/security/pam_env.conf")
    for name, value in _rules(files, rules, values, account):
        values[name] = value
        yield name, value, rules
    if given.get("readenv", "1") != "0":
        path = given.get("envfile", "/etc/environment")
        for name, value, number in _assigned(files, path):
            values[name] = value
            yield name, value, f"{path}:{number}"
    if given.get("user_readenv", "0") == "1" and account.home:
        path = f"{account.home}/{given.get('user_envfile', '.pam_environment')}"
        for name, value in _rules(files, path, values, account):
            values[name] = value
            yield name, value, path


def _rules(files: Files, path: str, values: dict[str, str], account: User) -> Iterator[tuple[str, str]]:
    for _, line in files.numbered(path):
        words = re.findall(r'(?:[^\s"]|"[^"]*")+', line)
        chosen = {"DEFAULT": "", "OVERRIDE": ""}
        for word in words[1:]:
            name, equals, value = word.partition("=")
            if equals and name in chosen:
                chosen[name] = _expanded(value.strip('"'), values, account)
        value = chosen["OVERRIDE"] or chosen["DEFAULT"]
        if words and value:
            yield words[0], value


def _expanded(value: str, values: dict[str, str], account: User) -> str:
    items = {"HOME": account.home, "SHELL": account.shell, "PAM_USER": account.name}
    value = re.sub(r"@\{(\w+)\}", lambda found: items.get(found[1], ""), value)
    return re.sub(r"(?<!\\)\$\{(\w+)\}", lambda found: values.get(found[1], ""), value)


def _assigned(files: Files, path: str) -> Iterator[tuple[str, str, int]]:
    for number, line in enumerate(files.text(path).split("\n"), 1):
        text = line.strip().removeprefix("export ").strip()
        name, equals, value = text.partition("=")
        if not equals or text.startswith("#") or not re.fullmatch(r"\w+", name):
            continue
        if value[:1] in ('"', "'"):
            value = value[1:].removesuffix(value[0])
        yield name, value, number

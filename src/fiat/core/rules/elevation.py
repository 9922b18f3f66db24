"""Which rules of elevation fit whom: who may act as which account, by which commands, with whose password.

Source: sudoers(5): "If there are multiple matching entries, the last match is used"; so it is within a list, too.
Groups and host names are compared without regard to case, users with it.
"""

import ipaddress
from collections.abc import Callable, Iterable, Iterator, Sequence
from enum import Enum
from fnmatch import fnmatchcase
from typing import NamedTuple

from fiat.core.model.accounts import Accounts, User
from fiat.core.model.elevation import ANY, Command, ElevationRule, Elevations, ElevationSetting, Member


class Fit(Enum):
    """Whether a list fits; ``UNKNOWN`` where a word of it is not evaluated and would decide."""

    YES = "yes"
    NO = "no"
    UNKNOWN = "unknown"


class Person(NamedTuple):
    """Somebody as the rules see them: the account, the numbers and the names of all its groups."""

    user: User
    gids: frozenset[int]
    groups: frozenset[str]


class Grant(NamedTuple):
    """That somebody may act as ``account``, and as one of ``group`` (its number) where that is not None.

    ``any_command``: whatever they like, ``but_not`` some that are named; else just ``commands``. ``password``: whether
    one is asked for, None where it is not known; ``whose`` says which, in words. ``surely`` is False where a word of a
    rule that is not evaluated would decide. ``rule`` is the one that counts, the first where there are several.
    """

    account: User
    group: int | None
    any_command: bool
    commands: tuple[str, ...]
    but_not: tuple[str, ...]
    password: bool | None
    whose: str
    surely: bool
    rule: ElevationRule


def person(user: User, accounts: Accounts) -> Person:
    """An account as the rules see it."""
    gids = accounts.gids_of(user)
    groups = {group.name.casefold() for gid in gids for group in accounts.groups_numbered(gid)}
    return Person(user, frozenset(gids), frozenset(groups))


def fits(members: Sequence[Member], one: Callable[[Member], bool | None]) -> Fit | None:
    """What a list says: the last word that fits decides; None where none does. ``one`` says None of what it cannot."""
    unknown = False
    for member in reversed(members):
        fit = one(member)
        if fit is None:
            unknown = True
        elif fit:
            decided = Fit.NO if member.negated else Fit.YES
            return Fit.UNKNOWN if unknown else decided
    return Fit.UNKNOWN if unknown else None


def is_person(member: Member, who: Person) -> bool | None:
    """Whether a word of a list of users means somebody; None where it is not evaluated."""
    if member.kind == "all":
        return True
    if member.kind == "user":
        return member.value == who.user.name
    if member.kind == "uid":
        return int(member.value) == who.user.uid
    if member.kind == "group":
        return member.value.casefold() in who.groups
    if member.kind == "gid":
        return int(member.value) in who.gids
    return None


def is_host(member: Member, elevations: Elevations) -> bool | None:
    """Whether a word of a list of hosts means this one; None where that is not known."""
    name = elevations.host.casefold()
    if member.kind == "all":
        return True
    if member.kind == "host":
        pattern = member.value.casefold()
        return fnmatchcase(name if "." in pattern else name.partition(".")[0], pattern)
    if member.kind == "address":
        if elevations.addresses is None:
            return None
        return any(_is_address(one, member.value) for one in elevations.addresses)
    return None


def _is_address(address: str, pattern: str) -> bool:
    """Whether an address of an interface, with its network (``10.0.0.7/24``), is meant by an address or a network."""
    try:
        interface = ipaddress.ip_interface(address)
        if "/" in pattern:
            return interface.ip in ipaddress.ip_network(pattern, strict=False)
        meant = ipaddress.ip_address(pattern)
    except ValueError:
        return False
    return meant in (interface.ip, interface.network.network_address)


def _index(rules: Sequence[tuple[ElevationRule, Fit]]) -> tuple[dict[tuple[str, str], list[int]], list[int]]:
    """The numbers of the rules by the words that they name users with, and of those that may mean anybody."""
    by_word: dict[tuple[str, str], list[int]] = {}
    for_many = []
    for number, (rule, _) in enumerate(rules):
        if any(member.kind in ("all", "other") for member in rule.users):
            for_many.append(number)
            continue
        for member in rule.users:
            value = member.value.casefold() if member.kind == "group" else member.value
            by_word.setdefault((member.kind, value), []).append(number)
    return by_word, for_many


class Matcher:
    """Asks the rules of one host about its accounts; what is worked out of an account is remembered."""

    def __init__(self, elevations: Elevations, accounts: Accounts) -> None:
        self.elevations = elevations
        self.accounts = accounts
        self._people: dict[User, Person] = {}
        self._here = [(rule, fit) for rule in elevations.rules if (fit := self._host(rule.hosts)) is not Fit.NO]
        self._by_word, self._for_many = _index(self._here)
        self._settings = [one for one in elevations.settings if one.hosts is None or self._host(one.hosts) is Fit.YES]

    def _host(self, hosts: Sequence[Member]) -> Fit:
        return fits(hosts, lambda member: is_host(member, self.elevations)) or Fit.NO

    def person(self, user: User) -> Person:
        """An account as the rules see it."""
        if user not in self._people:
            self._people[user] = person(user, self.accounts)
        return self._people[user]

    def rules_for(self, user: User) -> list[tuple[ElevationRule, bool]]:
        """The rules whose users and hosts fit, in their order, and whether that is sure."""
        who = self.person(user)
        found = []
        words = [("user", user.name), ("uid", str(user.uid)), *(("gid", str(gid)) for gid in who.gids)]
        words += [("group", name) for name in who.groups]
        numbers = {*self._for_many, *(number for word in words for number in self._by_word.get(word, ()))}
        for rule, here in (self._here[number] for number in sorted(numbers)):
            fit = fits(rule.users, lambda member: is_person(member, who))
            if fit in (Fit.YES, Fit.UNKNOWN):
                found.append((rule, fit is Fit.YES and here is Fit.YES))
        return found

    def anybody(self) -> Iterator[User]:
        """Those whom any rule could fit, of all that are listed."""
        members = [member for rule, _ in self._here for member in rule.users if not member.negated]
        if any(member.kind in ("all", "other") for member in members):
            yield from self.accounts.all_users()
            return
        found: dict[User, None] = {}
        for member in members:
            found |= dict.fromkeys(self._meant(member))
        yield from found

    def _meant(self, member: Member) -> Iterable[User]:
        accounts = self.accounts
        if member.kind == "user":
            return accounts.users_named([member.value])
        if member.kind == "uid":
            return accounts.users_numbered(int(member.value))
        if member.kind == "gid":
            gids = {int(member.value)}
        else:
            name = member.value.casefold()
            gids = {group.gid for group in accounts.groups if group.name.casefold() == name}
            named = accounts.group_named(member.value)
            gids |= {named.gid} if named is not None else set()
        found: dict[User, None] = {}
        for gid in gids:
            found |= dict.fromkeys((*accounts.primary_members(gid), *accounts.listed_members(gid)))
        # a source may know who is in a group without its listing them
        known = zip(accounts.users, accounts.gids_of_each(accounts.users), strict=True)
        return [*found, *(user for user, theirs in known if user not in found and not gids.isdisjoint(theirs))]

    def targets(self, user: User) -> list[tuple[User, int | None]]:
        """The accounts, each with a group or without, that rules for ``user`` name; root where they mean all."""
        found: dict[tuple[User, int | None], None] = {}
        for rule, _ in self.rules_for(user):
            accounts = self._run_as(rule, user)
            found |= dict.fromkeys((account, None) for account in accounts if rule.run_as_groups is None or rule.run_as)
            for member in rule.run_as_groups or ():
                gid = self._gid(member)
                if gid is not None and not member.negated:
                    found |= dict.fromkeys((account, gid) for account in accounts)
        return [*found]

    def _gid(self, member: Member) -> int | None:
        if member.kind == "gid":
            return int(member.value)
        group = self.accounts.group_named(member.value) if member.kind == "group" else None
        return None if group is None else group.gid

    def _run_as(self, rule: ElevationRule, user: User) -> list[User]:
        if rule.run_as is None:
            if rule.run_as_groups is not None:
                return [user]
            return self.accounts.users_named([self._default()])
        found: dict[User, None] = {}
        for member in rule.run_as:
            if member.kind == "all":
                found |= dict.fromkeys(self.accounts.users_numbered(0))
            elif not member.negated and member.kind != "other":
                found |= dict.fromkeys(self._meant(member))
        return [*found]

    def _default(self) -> str:
        values = [one.value for one in self._settings if one.name == "runas_default" and one.people is None]
        return str(values[-1]) if values else "root"

    def _fits_target(self, rule: ElevationRule, user: User, target: User, group: int | None) -> Fit:
        """Whether a rule is about acting as ``target``, with ``group`` as the group where one is asked for."""
        if rule.run_as is None and rule.run_as_groups is None:  # whatever group is asked for
            return Fit.YES if target.name == self._default() else Fit.NO
        who = self.person(target)
        if rule.run_as is None:
            account = Fit.YES if target == user else Fit.NO
        else:
            account = fits(rule.run_as, lambda member: is_person(member, who)) or Fit.NO
            if target == user and group is not None:  # one's own account, with another group, needs no leave of its own
                account = Fit.YES
        if account is Fit.NO or group is None:
            return Fit.NO if group is None and rule.run_as is None else account
        names = {one.name.casefold() for one in self.accounts.groups_numbered(group)}

        def is_group(member: Member) -> bool | None:
            if member.kind == "gid":
                return int(member.value) == group
            return member.kind == "all" or (member.value.casefold() in names if member.kind == "group" else None)

        named = fits(rule.run_as_groups or (), is_group)
        if named is None:  # a group of the account's own needs no leave
            return account if group in who.gids else Fit.NO
        if rule.run_as is not None and target != user:
            # there, some versions of the program take no notice of lists that have a name
            written = [member for member in rule.run_as if not member.listed]
            if (fits(written, lambda member: is_person(member, who)) or Fit.NO) is not account:
                account = Fit.UNKNOWN
        return Fit.NO if named is Fit.NO else Fit.UNKNOWN if Fit.UNKNOWN in (named, account) else Fit.YES

    def about(self, user: User, target: User, group: int | None = None) -> list[tuple[ElevationRule, bool]]:
        """The rules for ``user`` that are about acting as ``target``, and whether that is sure."""
        return [
            (rule, sure and fit is Fit.YES)
            for rule, sure in self.rules_for(user)
            if (fit := self._fits_target(rule, user, target, group)) is not Fit.NO
        ]

    def allows(self, user: User, target: User, group: int | None, command: str) -> bool | None:
        """Whether ``user`` may run just this command as ``target``; None where it is not known."""
        found = self._last(self.about(user, target, group), lambda one: covers(one.text, command))
        return False if found is None else not found[2].negated if found[1] else None

    def grant(self, user: User, target: User, group: int | None = None) -> Grant | None:
        """What ``user`` may do as ``target``; None where nothing."""
        about = self.about(user, target, group)
        decided = self._last(about, lambda command: command.text == ANY)
        if decided is not None and not decided[2].negated:
            rule, sure, _ = decided
            but_not = [
                command.text
                for one, _ in about
                for command in one.commands
                if command.negated and command.text != ANY and self._denied(about, command.text)
            ]
            password, whose = self._password(user, target, group, rule, ANY)
            names = tuple(dict.fromkeys(but_not))
            return Grant(target, group, True, (), names, password, whose, sure, rule)
        commands: dict[str, tuple[ElevationRule, bool]] = {}
        for rule, _ in about:
            for command in rule.commands:
                if command.negated or command.text == ANY:
                    continue
                found = self._last(about, lambda one, text=command.text: covers(one.text, text))  # type: ignore[misc]
                if found is not None and not found[2].negated:
                    commands[command.text] = found[0], found[1]
        if not commands:
            return None
        asked = [self._password(user, target, group, rule, text) for text, (rule, _) in commands.items()]
        password = None if any(one is None for one, _ in asked) else any(one for one, _ in asked)
        first = next(iter(commands.values()))[0]
        sure = all(certain for _, certain in commands.values())
        return Grant(target, group, False, tuple(commands), (), password, asked[0][1], sure, first)

    def password(self, user: User, target: User, group: int | None, command: str) -> bool | None:
        """Whether a password is asked for where ``user`` runs just this as ``target``; None where it is not known, or
        not allowed."""
        found = self._last(self.about(user, target, group), lambda one: covers(one.text, command))
        if found is None or found[2].negated or not found[1]:
            return None
        return self._password(user, target, group, found[0], command)[0]

    def _denied(self, about: Sequence[tuple[ElevationRule, bool]], text: str) -> bool:
        found = self._last(about, lambda one: covers(one.text, text))
        return found is not None and found[2].negated

    @staticmethod
    def _last(
        about: Sequence[tuple[ElevationRule, bool]], means: Callable[[Command], bool]
    ) -> tuple[ElevationRule, bool, Command] | None:
        """The last command that means something, with its rule, and whether that one surely fits; what comes after it
        and may fit makes it unsure."""
        unsure = False
        for rule, sure in reversed(about):
            for command in reversed(rule.commands):
                if means(command):
                    if sure:
                        return rule, not unsure, command
                    unsure = True
                    if not command.negated:
                        return rule, False, command
        return None

    def _password(
        self, user: User, target: User, group: int | None, rule: ElevationRule, command: str
    ) -> tuple[bool | None, str]:
        """Whether a password is asked for, None where it is not known, and whose."""
        if user.uid == 0 or (user.uid == target.uid and (group is None or group in self.person(target).gids)):
            return False, "own"
        whose = "own"
        for name, theirs in (("targetpw", "target"), ("runaspw", "default"), ("rootpw", "root")):
            if self._says(name, user, target, command) is True:
                whose = theirs
        exempt = self._says("exempt_group", user, target, command)
        if isinstance(exempt, str) and exempt.casefold() in self.person(user).groups:
            return False, whose
        said = self._says("authenticate", user, target, command) if rule.password is None else rule.password
        asked = True if said is None else said if isinstance(said, bool) else None
        return (None if asked and exempt == "?" else asked), whose

    def _says(self, name: str, user: User, target: User, command: str) -> object:
        """What the settings say, the last that counts; ``"?"`` where it is not known which."""
        found: object = None
        for bound in (False, True):  # what holds for all is read first (sudoers(5), "Defaults")
            for one in self._settings:
                if one.name != name or (one.people is not None or one.commands is not None) != bound:
                    continue
                fit = self._binds(one, user, target, command)
                if fit is not Fit.NO:
                    found = one.value if fit is Fit.YES else "?"
        return found

    def _is_among(self, people: Sequence[Member], user: User) -> Fit | None:
        who = self.person(user)
        return fits(people, lambda member: is_person(member, who))

    def _binds(self, one: ElevationSetting, user: User, target: User, command: str) -> Fit:
        if one.commands is not None:
            # of every command it is not known which one it will be
            named = any(command != ANY and covers(each.text, command) for each in one.commands)
            return Fit.YES if named else Fit.NO
        if one.people is None:
            return Fit.YES
        both = [self._is_among(one.people, each) for each in (user, target)]
        if all(fit is Fit.YES for fit in both):
            return Fit.YES
        return Fit.UNKNOWN if any(fit in (Fit.YES, Fit.UNKNOWN) for fit in both) else Fit.NO


def covers(pattern: str, command: str) -> bool:
    """Whether a command as a rule has it means all that another one does: whole paths, folders, patterns (glob(7))."""
    if pattern in (ANY, command):
        return True
    path, _, arguments = pattern.partition(" ")
    other, _, others = command.partition(" ")
    folder = other.rpartition("/")[0] + "/"
    if not (folder == path if path.endswith("/") else path == other or fnmatchcase(other, path)):
        return False
    if not arguments:
        return True
    return arguments == others or (arguments == '""' and not others) or fnmatchcase(others, arguments)

"""What users, groups, principals and entries are called: by name where there is one, by number where there is none; and
sets of people in few words."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.accounts import Accounts, Group, User
from fiat.core.model.idmap import OUTSIDE, UNMAPPED
from fiat.core.model.mode import permission_letters
from fiat.core.model.principals import Principal, Universe, account_of, others_of_number
from fiat.core.text import counted, several, several_of, visible

_NO_NUMBERS = {
    UNMAPPED: ("nobody, for the number on disk is not mapped", "unmapped"),
    OUTSIDE: ("somebody outside, who has no number here", "outside"),
}
"""What is no number, in a sentence and in a column."""


def user(uid: int, accounts: Accounts) -> str:
    """What the user with a number is called: ``keeper``, or ``number 7188`` without an account."""
    return _name(accounts.user_numbered(uid)) or _without_name(uid, accounts, users=True)


def group(gid: int, accounts: Accounts) -> str:
    """What the group with a number is called: ``watch``, or ``number 7299`` without a name."""
    return _name(accounts.group_numbered(gid)) or _without_name(gid, accounts, users=False)


def _without_name(number: int, accounts: Accounts, *, users: bool) -> str:
    return _NO_NUMBERS[number][0] if number in _NO_NUMBERS else f"number {_told(number, accounts, users=users)}"


def user_with_number(uid: int, accounts: Accounts) -> str:
    """``keeper (7101)``, or ``7188 (no account)``; for a container ``runner (1, here 7101 keeper)``."""
    return _with_number(_name(accounts.user_numbered(uid)), uid, accounts, users=True)


def group_with_number(gid: int, accounts: Accounts) -> str:
    """``watch (7201)``, or ``7299 (no group of this number)``."""
    return _with_number(_name(accounts.group_numbered(gid)), gid, accounts, users=False)


def _with_number(name: str, number: int, accounts: Accounts, *, users: bool) -> str:
    if number in _NO_NUMBERS:
        return f"{_NO_NUMBERS[number][1]} (no number here)"
    told = _told(number, accounts, users=users)
    if name:
        return f"{name} ({told})"
    view = accounts.view
    if view is not None and view.there(number, users=users) is None:
        return f"{told} (nobody there)"
    if users and accounts.same_people(number):  # who that is on the host says enough
        return told
    if not accounts.tells_all:
        return f"{told} ({'name not known' if users else 'not known'})"
    if view is not None:
        return f"{told} ({'no account there' if users else 'no group there'})"
    return f"{told} ({'no account' if users else 'no group of this number'})"


def _told(number: int, accounts: Accounts, *, users: bool) -> str:
    """A number as it is told: where a container is asked about, as it is there, with whose it is on the host."""
    view = accounts.view
    there = number if view is None else view.there(number, users=users)
    if there is None:
        return f"{number} of the host"
    same = accounts.same_people(number) if users else []
    known = accounts.user_numbered(number) if same else None
    here = [str(number)] if there != number else []
    if same and (here or known is None or known.name != same[0].name):
        here.append(visible(same[0].name))
    return f"{there}, here {' '.join(here)}" if here else str(there)


def user_or_number(uid: int, accounts: Accounts) -> str:
    """``keeper``, or ``7188``: for a column of its own."""
    return _name(accounts.user_numbered(uid)) or _in_column(uid)


def group_or_number(gid: int, accounts: Accounts) -> str:
    """``watch``, or ``7299``: for a column of its own."""
    return _name(accounts.group_numbered(gid)) or _in_column(gid)


def _in_column(number: int) -> str:
    return _NO_NUMBERS[number][1] if number in _NO_NUMBERS else str(number)


def _name(found: User | Group | None) -> str:
    return "" if found is None else visible(found.name)


def entry(named: Entry, accounts: Accounts) -> str:
    """An entry in long text form with a name for its number: ``user:auditor:r--``."""
    if named.id is None:
        return named.text()
    kind, name = ("user", user_or_number) if named.tag is Tag.NAMED_USER else ("group", group_or_number)
    return f"{kind}:{name(named.id, accounts)}:{permission_letters(named.permissions)}"


# --- principals ------------------------------------------------------------------------


def principal(who: Principal) -> str:
    """Who, for a sentence: ``surveyor``, ``uid 7188``, ``a member of watch alone``, ``process 812 (tidefeed)``."""
    if who.kind == "group":
        return f"a member of {group_of(who)} alone"
    if who.kind == "anyone-else":
        return "anyone else"
    name = visible(who.name) if who.name is not None else f"uid {who.uid}"
    return f"process {who.pid} ({name})" if who.kind == "process" else name


def alone(who: Principal, accounts: Accounts) -> str:
    """Whom an entry for ``who`` is for: ``surveyor alone``; or all accounts of the number, which share the entry."""
    name = group_of(who) if who.kind == "group" else principal(who)
    others = [principal(one) for one in others_of_number(who, accounts)]
    if not others:
        return f"{name} alone"
    return f"{name} and {several_of(others[:3], len(others))}, who share a number and so the entry"


def group_of(who: Principal) -> str:
    """The group of a bare group: ``watch``, or ``7299``."""
    (gid,) = who.gids
    return visible(who.name) if who.name is not None else str(gid)


def word_for(who: Principal) -> str:
    """Who, as a word that a command line takes: ``surveyor``, ``uid:7188``, ``group:watch``; not made harmless."""
    if who.kind == "group":
        (gid,) = who.gids
        return f"group:{gid if who.name is None else who.name}"
    if who.kind == "anyone-else":
        return "anyone-else"
    if who.kind == "process":
        return f"pid:{who.pid}"
    return f"uid:{who.uid}" if who.name is None else who.name


def from_word(word: str) -> str:
    """What a principal is called, as :func:`principal` says it, by a word that :func:`word_for` made."""
    kind, colon, rest = word.partition(":")
    if colon and kind == "uid":
        return f"uid {rest}"
    if colon and kind == "pid":
        return f"process {rest}"
    if colon and kind == "group":
        return f"a member of {visible(rest)} alone"
    return "anyone else" if word == "anyone-else" else visible(word)


class ExactPeople(NamedTuple):
    """A set of people by the words for them, in order; or ``all_but`` these, where anyone else is among them.

    So accounts that only some hosts have make no difference, if they are like all others.
    """

    all_but: bool
    words: tuple[str, ...]


_EXCEPT = 8
"""So many at most are named as those whom something does not hold for."""


class PeopleWords:
    """Puts sets of the principals of one universe into words: ``among`` are those who are asked about."""

    def __init__(self, universe: Universe, accounts: Accounts, among: int) -> None:
        self.universe = universe
        self.accounts = accounts
        self.among = among
        of_kind = universe.of_kind
        self.users = (of_kind("user") | of_kind("process")) & among
        self.groups = of_kind("group") & among
        self.anyone_else = of_kind("anyone-else") & among

    def words(self, bits: int, show: int = 6, *, first: str = "", groups_first: str = "") -> str:
        """``everyone``, ``everyone except root, keeper``, ``nobody``, ``root, keeper; whoever is in watch``.

        ``first`` is named before the users, ``groups_first`` before the groups; where the set
        holds anyone else, they are among the exceptions.
        """
        bits &= self.among
        if bits & self.anyone_else and self.among & ~self.anyone_else:
            return self._everyone_but(self.among & ~bits, show, first, groups_first)
        if bits == self.among and bits.bit_count() > 1:
            return "everyone who is asked about"
        parts = [self._users(bits & self.users, show, first)] if bits & self.users or first else []
        if bits & self.groups or groups_first:
            parts.append(f"whoever is in {self._groups(bits & self.groups, show, groups_first)}")
        if bits & self.anyone_else:
            parts.append("anyone else")
        return "; ".join(parts) or "nobody"

    def exactly(self, bits: int) -> "ExactPeople":
        """Who they are, however many, by words that hold on every host: the same for the same people there."""
        bits &= self.among
        all_but = bool(bits & self.anyone_else)
        return ExactPeople(all_but, tuple(sorted(map(word_for, self.universe.members(bits ^ self.among * all_but)))))

    def _everyone_but(self, missing: int, show: int, first: str, groups_first: str) -> str:
        users = missing & self.users
        lacking = [self._users(users, max(show, _EXCEPT), first, "")] if users or first else []
        if missing & self.groups or groups_first:
            lacking.append(f"whoever is in {self._groups(missing & self.groups, show, groups_first)}")
        return f"everyone except {'; '.join(lacking)}" if lacking else "everyone"

    def _users(self, bits: int, show: int, first: str, what: str = "users") -> str:
        named = several_users(self.universe.members(bits), self.accounts, show - bool(first), what)
        if not first:
            return named
        return f"{first} and {named}" if named else first

    def _groups(self, bits: int, show: int, first: str) -> str:
        found = sorted(self.universe.members(bits), key=lambda who: min(who.gids) < self.accounts.first_person)
        names = [first] if first else []
        names += [group_of(who) for who in found]
        most = max(show - 2, 1) + bool(first)
        return several_of(names[:most], len(names))


def several_users(users: Iterable[Principal], accounts: Accounts, show: int, what: str = "users") -> str:
    """``4 users: keeper, steward and 2 more``: root first, then people, then services, which are only counted where
    not all can be named."""
    known = [(principal(who), account_of(who, accounts)) for who in users]
    given = [(name, 1 if account is None else rank(account, accounts)) for name, account in known]
    return ranked(given, show, what)


def several_words(words: Sequence[str], accounts: Accounts, show: int, what: str = "users") -> str:
    """Users as :func:`several_users` names them, by the words that a command line takes."""
    given = []
    for word in words:
        account = accounts.user_named(word)
        given.append((from_word(word), 1 if account is None else rank(account, accounts)))
    return ranked(given, show, what)


def rank(account: User, accounts: Accounts) -> int:
    """0 for root, 1 for people, 2 for the accounts of services."""
    return 0 if account.uid == 0 else 2 if accounts.is_service(account) else 1


def rank_of(uid: int | None, accounts: Accounts) -> int:
    """The rank (:func:`rank`) of the account with a number; a number without one counts as a person."""
    account = accounts.user_numbered(uid) if uid is not None else None
    return 1 if account is None else rank(account, accounts)


def ranked(given: Sequence[tuple[str, int]], show: int, what: str) -> str:
    """The names by their ranks: all of them, or the first of those who are no services."""
    names = [name for name, _ in sorted(given, key=lambda one: one[1])]
    if len(names) <= show:
        return several_of(names, len(names), what)
    people = names[: sum(place < 2 for _, place in given)]
    services = len(names) - len(people)
    if not people or not services:
        return several_of(names[:show], len(names), what)
    shown = people[:show]
    rest = [f"{len(people) - len(shown):,} more"] if len(people) > len(shown) else []
    rest.append(counted(services, "service"))
    begin = f"{len(names):,} {what}: " if what else ""
    return f"{begin}{', '.join([*shown, *rest[:-1]])} and {rest[-1]}"


def several_groups(words: Sequence[str], accounts: Accounts, show: int) -> str:
    """Several groups by the words for them, those of people first."""

    def of_system(word: str) -> bool:
        group = accounts.group_named(word.removeprefix("group:"))
        return group is not None and group.gid < accounts.first_person

    return several((visible(word.removeprefix("group:")) for word in sorted(words, key=of_system)), "groups", show)


def everyone_but(words: Iterable[str], accounts: Accounts, unlisted: Iterable[str]) -> str | None:
    """``everyone``, or ``everyone except root, keeper``: all but those among ``words``, and anyone else.

    ``unlisted`` are users without an account, by the words for them. None where more are left out than can be named.
    """
    given = set(words)
    numbers = sorted(unlisted, key=lambda word: (len(word), word))  # they may be a set, and come in any order
    left = [name for name in (*(user.name for user in accounts.all_users()), *numbers) if name not in given]
    if len(left) > _EXCEPT:
        return None
    return f"everyone except {several_words(left, accounts, _EXCEPT, '')}" if left else "everyone"

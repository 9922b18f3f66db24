"""Foreseeing: what a directory makes of what is made, moved and copied into it."""

import errno
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from fiat.app.hosts import arrive
from fiat.app.look import may_be_arranged
from fiat.app.problems import Problem, raise_problem
from fiat.app.umask import umask_at_login
from fiat.core.ask import caveats
from fiat.core.ask.who import Answer
from fiat.core.errors import ArrangementError, NotationError, PathError, UnknownAccount
from fiat.core.model import right as rights
from fiat.core.model import umask as umasks
from fiat.core.model.arrangement import ArrangementChoice
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal, account_of
from fiat.core.model.route import Route
from fiat.core.rules.decision import superuser
from fiat.core.rules.inheritance import hands_on_group
from fiat.core.suggest.forecast import Forecast, MadeQuestion, forecast
from fiat.core.text import quoted
from fiat.core.words import who as who_words
from fiat.core.words.modes import parse_mode


class ForeseeOptions(NamedTuple):
    """By whom (everyone who may add names there, if empty), under which umask, and asking for which mode.

    ``source`` is the path of what is moved and copied there.
    """

    by: tuple[str, ...] = ()
    umask: str | None = None
    asking: str | None = None
    source: str | None = None


class Foresight(NamedTuple):
    """What one directory makes of things, by one maker and by ``also``: for them it is the same but for who owns it.

    ``own_group`` tells that the group, too, is the maker's; ``arranged`` which arrangement the directory is, just so.
    """

    route: Route
    forecast: Forecast
    also: list[Principal]
    anyone_else: bool
    own_group: bool
    host: Host
    arranged: ArrangementChoice | None = None

    @property
    def surprises(self) -> list[Finding]:
        """What may surprise; what an arrangement makes by itself is what it is for, but for what is dangerous."""
        found, asked = self.forecast.surprises, self.forecast.asked
        by_itself = self.arranged is not None and asked.asking is None and asked.source is None
        return [one for one in found if one.weight != "odd"] if by_itself else found

    @property
    def caveats(self) -> list[Finding]:
        """What Fiat does not evaluate of the directory, its route and its makers."""
        return caveats.of_route(self.route)


def foreseen(
    host: Host, paths: Iterable[str], how: ForeseeOptions, *, held: bool, problem: Problem = raise_problem
) -> Iterator[Foresight]:
    """What each of the directories ``paths`` makes; ``held`` tells that the host is one in a snapshot."""
    asking = _asking(how.asking)
    umask = None if how.umask is None else umasks.parse(how.umask)
    named = [_maker(host, word) for word in how.by]
    source = None if how.source is None else _source(host, how.source)
    for route in arrive(host, paths, problem):
        assert route.end is not None
        if not route.end.posture.directory:
            problem(PathError(route.asked, errno.ENOTDIR, "foresee what is made in"))
            continue
        makers, others = (named, False) if named else _makers(host, route)
        yield from _of_directory(host, route, makers, others, umask, asking, source, held=held)


def foresee(host: Host, path: str, by: str, *, umask: str | None = None, asking: str | None = None) -> Forecast:
    """What the directory ``path`` makes of what ``by`` makes there."""
    (found,) = foreseen(host, [path], ForeseeOptions((by,), umask, asking), held=False)
    return found.forecast


def _of_directory(
    host: Host,
    route: Route,
    makers: list[Principal],
    others: bool,
    umask: int | None,
    asking: int | None,
    source: Object | None,
    *,
    held: bool,
) -> Iterator[Foresight]:
    """A forecast for each kind of makers: those with the same umask make the same but for the owner and their group."""
    alike: dict[tuple[object, ...], list[MadeQuestion]] = {}
    end = route.end
    assert end is not None
    arranged = _arrangement_of(host, end)
    own_group = not hands_on_group(end.posture, end.mount)
    for maker in makers:
        gid = _group_of(host, maker)
        mask = umask if umask is not None else _umask_of(host, maker, held=held)
        member = end.posture.gid in maker.gids
        alike.setdefault((mask, member and not own_group, superuser(maker)), []).append(
            MadeQuestion(maker, gid, mask, asking, source)
        )
    for number, some in enumerate(alike.values()):
        found = forecast(host, route, some[0])
        yield Foresight(route, found, [one.by for one in some[1:]], others and not number, own_group, host, arranged)


def _arrangement_of(host: Host, found: Object) -> ArrangementChoice | None:
    if not may_be_arranged(found.posture):
        return None
    from fiat.app.arrange import arranged, known_arrangements

    try:
        so = arranged(host, found, known_arrangements(None))
    except ArrangementError:  # those of a file are no good: whoever asks for one is told
        return None
    return None if so is None or so.but else so.chosen


def _makers(host: Host, route: Route) -> tuple[list[Principal], bool]:
    """Everyone who may add names in the directory, root only where nobody else may; and whether anyone else may."""
    answer = Answer(host, route, (rights.CREATE,))
    bits = answer.allowed[rights.CREATE]
    users = [who for who in answer.universe.members(bits) if who.kind == "user"]
    people = [who for who in users if not superuser(who)] or users
    return people, bool(bits & answer.universe.of_kind("anyone-else"))


def _maker(host: Host, word: str) -> Principal:
    found = who_words.parse(word, host)
    if found.uid is None:
        raise UnknownAccount(word, f"{quoted(word)} makes nothing: only a user, or a process, does")
    return found


def _group_of(host: Host, who: Principal) -> int:
    """The group that what they make gets by itself: that of the account, or the effective one of a process."""
    if who.gid is not None:
        return who.gid
    account = account_of(who, host.accounts)
    if account is not None:
        return account.gid
    return min(who.gids, default=0)


def _umask_of(host: Host, who: Principal, *, held: bool) -> int:
    """The umask of a process, of what a login gets, or the one that a snapshot holds."""
    if who.kind == "process" and who.pid is not None:
        return host.process_umask(who.pid)
    if held or who.name is None:
        return host.settings.umask
    return umask_at_login(host, who.name).umask.mask


def _asking(word: str | None) -> int | None:
    if word is None:
        return None
    change = parse_mode(word).change
    if change.octal is None:
        raise NotationError(word, f"{quoted(word)} is no mode to ask for; write 600, or rw-------")
    return change.octal


def _source(host: Host, path: str) -> Object:
    (route,) = arrive(host, [path], follow=False)
    assert route.end is not None
    return route.end

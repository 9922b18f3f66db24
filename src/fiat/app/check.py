"""Checking what was meant: expectations in files, whether they hold, and what makes them hold."""

import errno
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from fiat.app.arrange import known_arrangements
from fiat.app.change import Planned, planned_for
from fiat.app.problems import Problem, each_once, raise_problem
from fiat.app.trust import FREE, Trust
from fiat.app.why import why
from fiat.core.change.plan import Plan
from fiat.core.errors import ExpectationError, PathError
from fiat.core.expect import reading
from fiat.core.expect.expectation import Expectation
from fiat.core.expect.expectation import statements as statements
from fiat.core.expect.holding import Contradiction, Counterexample, Holding, check_expectation, contradictions, words
from fiat.core.expect.mending import Mending, mending, wish_of
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.text import quoted, shell_word
from fiat.core.tree.asif import HostAsIf, Supposition
from fiat.core.words import naming
from fiat.core.words.arrangements import parse_chosen
from fiat.core.words.commands import set_command_for
from fiat.core.words.toml import LARGEST
from fiat.demo import sample

contradiction_words = words

_IN_A_COMMAND = 12
"""So many people at most are named in a command; a plan for all of it has no such bound."""

_EXPLAINED = 40
"""So many counterexamples are explained."""


class Checked(NamedTuple):
    """Each expectation, held or broken; those that cannot hold at once; and by what rule counterexamples are so.

    ``because`` has the sentence for the first counterexamples, by their number among all.
    """

    found: list[Holding]
    contradictions: list[Contradiction]
    because: dict[int, str]
    host: Host

    @property
    def broken(self) -> list[Holding]:
        """Those that do not hold."""
        return [one for one in self.found if one.broken]

    @property
    def unknown(self) -> list[Holding]:
        """Those of which nobody knows: something that they are about could not be looked at."""
        return [one for one in self.found if one.unknown]


def read_expectations(
    paths: Iterable[str], host: Host, arrangements: str | None = None, trust: Trust = FREE
) -> list[Expectation]:
    """The expectations in these files; :class:`ExpectationError` names file, line and key of what is wrong.

    Also raises :class:`fiat.core.errors.UntrustedFile` and :class:`PathError`.
    """
    known = known_arrangements(arrangements, trust)
    found: list[Expectation] = []
    names: dict[str, str] = {}
    for word in paths:
        if not word:
            raise PathError(word, errno.ENOENT, "read")
        own = sample.EXPECTATIONS.get(word)
        data = (FREE if own else trust).read(own or word, "the file of expectations", LARGEST)
        for one in reading.parse(data, word, host.accounts, lambda word: parse_chosen(word, known, host.accounts)):
            if one.name in names:
                raise ExpectationError(f"{one.where}: name: {quoted(one.name)} is in {names[one.name]} already")
            names[one.name] = one.where
            found.append(one)
    return found


def check(
    host: Host,
    expectations: Sequence[Expectation],
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Checked:
    """Whether the expectations hold on ``host``."""
    once = each_once(problem)
    found = [check_expectation(host, one, once, progress) for one in expectations]
    every = [one for held in found for one in held.broken]
    because = {number: text for number, one in enumerate(every[:_EXPLAINED]) if (text := _because(host, one))}
    return Checked(found, contradictions(found), because, host)


def _because(host: Host, one: Counterexample) -> str:
    """The rule that decides, for the first of those whom a counterexample is about."""
    if one.right is None:
        return one.text
    who = next(iter(one.universe.members(one.people)))
    try:
        explained = why(host, who, one.right, one.first).explained
    except PathError:
        return ""
    return explained[0] if explained else ""


def commands_for(one: Counterexample, expectation: Expectation) -> Iterator[str]:
    """The commands that look for the ways out of a counterexample, or set what is stated."""
    if one.right is None:
        if not one.people and expectation.stated.arrangement is None:
            directory = one.audited.survey.directories_at(one.places[:1])[0]
            paths = one.audited.paths(one.places[:_IN_A_COMMAND])
            wish = wish_of(expectation.stated, directory=bool(directory))
            yield set_command_for(paths, wish, one.audited.accounts)
        return
    if one.people.bit_count() > _IN_A_COMMAND:
        return
    people = ",".join(naming.word_for(who) for who in list(one.universe.members(one.people)))
    verb = "bar" if one.allowed else "let"
    yield f"fiat {verb} {shell_word(people)} {one.right.name} {shell_word(one.first)}"


def mend(
    host: Host, checked: Checked, *, problem: Problem = raise_problem, progress: Progress = no_progress
) -> tuple[Planned, Mending]:
    """One plan that makes the broken ones hold, and what holds after it. Raises :class:`ExpectationError` where some
    contradict each other.
    """
    if checked.contradictions:
        raise ExpectationError(f"nothing is planned: {words(checked.contradictions[0])}")
    once = each_once(problem, (error for one in checked.found for error in one.unread))
    found = mending(host, checked.found, once)
    return planned_for(host, found.targets, problem, progress), found


def guard(host: Host, plan: Plan, files: Sequence[str], problem: Problem, trust: Trust = FREE) -> None:
    """Have the guard ``breaks-expectation`` object to ``plan``, for each that holds now and would not after it."""
    plan.guards += _broken_by(host, plan, read_expectations(files, host, trust=trust), problem)


def _broken_by(host: Host, plan: Plan, expectations: Sequence[Expectation], problem: Problem) -> Iterator[Finding]:
    then = HostAsIf(host, Supposition(plan.postures_after()))
    once = each_once(problem)
    for one in expectations:
        before = check_expectation(host, one, once)
        if before.unknown:
            first_unread = before.unread[0]
            text = f"whether {quoted(one.name)} holds is not known, and so not whether it still would: {first_unread}"
            yield Finding("breaks-expectation", "danger", text, first_unread.path, len(before.unread))
        elif before.held:
            after = check_expectation(then, one, once)
            if after.broken:
                first = after.broken[0]
                text = f"{quoted(one.name)} would no longer hold: {sentence(first)}"
                paths = sum(len(each.places) for each in after.broken)
                yield Finding("breaks-expectation", "danger", text, first.first, paths)


def sentence(one: Counterexample) -> str:
    """Who could do what there, or what it would be."""
    if one.right is None:
        return one.text
    first = next(iter(one.universe.members(one.people)))
    more = one.people.bit_count() - 1
    who = naming.principal(first) + (f" and {more:,} more" if more else "")
    return f"{who} may {'' if one.allowed else 'not '}{one.right.name} there"

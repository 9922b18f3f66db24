"""Changing: a plan for paths and trees, and carrying it out."""

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import NamedTuple

from fiat.app import unevaluated
from fiat.app.problems import Problem, failure, raise_problem
from fiat.app.running import RunResult, beginning_of, run
from fiat.core.ask import caveats
from fiat.core.ask.effects import kept
from fiat.core.change.claims import claims
from fiat.core.change.copyup import in_upper_layers
from fiat.core.change.guards import GUARDS as GUARDS
from fiat.core.change.guards import why_refused
from fiat.core.change.history import History, Intended, Waiting, in_silence
from fiat.core.change.making import in_place, make_plan
from fiat.core.change.plan import Plan
from fiat.core.change.planned import Items
from fiat.core.change.privilege import with_digests
from fiat.core.change.target import Target
from fiat.core.errors import PathError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Node, Progress, no_progress
from fiat.core.model.shown import shown
from fiat.core.model.wish import Wish
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.reading import survey_of
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, open_end, walk
from fiat.core.words.selection import Selection
from fiat.engine import changing
from fiat.engine.processes import Beside


class ChangeOptions(NamedTuple):
    """How far a change goes: each path alone, or it and all ``below``, or only its ``contents``.

    Of a symlink that is named, ``link_itself`` is changed, or what it leads to. Flags that keep something from
    changing are cleared and set again ``through_flags``.
    """

    below: bool = False
    contents: bool = False
    link_itself: bool = False
    across_mounts: bool = False
    selection: Selection = Selection()
    through_flags: bool = False

    @property
    def with_tree(self) -> bool:
        """Whether trees are meant, not just the paths that were given."""
        return self.below or self.contents


class Planned(NamedTuple):
    """A plan with the targets that it is for, and what Fiat did not evaluate for it."""

    plan: Plan
    targets: list[Target]
    caveats: list[Finding]
    host: Host

    def __str__(self) -> str:
        return shown(self, repr)

    def refused_by(self, accepted: Iterable[str]) -> list[Finding]:
        """The guards that object and are not ``accepted`` by name."""
        return [guard for guard in self.plan.guards if guard.code not in accepted]


def plan(
    host: Host,
    paths: Iterable[str],
    wish: Wish,
    how: ChangeOptions = ChangeOptions(),  # noqa: B008
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Planned:
    """What ``wish`` would do to ``paths``; nothing is written."""
    targets = list(targets_of(host, paths, how, problem, progress))
    if wish.uid is not None and len(targets) == 1 and not targets[0].with_tree:
        targets = [targets[0]._replace(owner_asked=True)]
    return planned_for(host, targets, problem, progress, wish, through_flags=how.through_flags)


_MANY = 20_000
"""With so many entries it is worth a process of its own to hear what the guards say."""


def planned_for(
    host: Host,
    targets: list[Target],
    problem: Problem,
    progress: Progress,
    wish: Wish = Wish(),  # noqa: B008
    *,
    through_flags: bool = False,
) -> Planned:
    """The plan for targets that were found, each by its own wish, or by ``wish``."""
    many = sum(len(target.survey) for target in targets) >= _MANY
    made = make_plan(host, targets, wish, progress, through_flags=through_flags, beside=Beside if many else in_place)
    return Planned(made, targets, list(_caveats(host, made, targets, problem)), host)


@contextmanager
def alone(
    host: Host, history: History, paths: Iterable[str], how: ChangeOptions, waiting: Waiting = in_silence
) -> Iterator[None]:
    """Nobody else who uses this history changes what is at and under ``paths`` meanwhile: waits for who does.

    To be held from before the plan is made until it has been carried out, or the
    plan would be of what others were still changing.
    """
    found = []
    for path in paths:
        with suppress(PathError):  # the plan names it
            end = walk(host, path, follow=not how.link_itself, interpreters=0).end if path else None
            found += [] if end is None else [end.path]
    with history.alone(claims(host, found), waiting):
        yield


def targets_of(
    host: Host, paths: Iterable[str], how: ChangeOptions, problem: Problem, progress: Progress
) -> Iterator[Target]:
    """What is meant at the end of each path; what cannot be looked at goes to ``problem``."""
    for path in paths:
        if not path:  # not the current directory: a variable of a script that was never set
            problem(PathError(path, 2))
            continue
        try:
            route, node = open_end(host, path, follow=not how.link_itself)
        except PathError as error:
            problem(error)
            continue
        if route.end is None or node is None:
            problem(failure(route))
            continue
        try:
            survey = _survey(node, how, progress)
        finally:
            node.close()
        if not survey.complete:
            raise KeyboardInterrupt
        taken = survey.chosen(how.selection.on(host.accounts))
        if how.contents:
            taken[0] = False
        yield Target(path, route, survey, taken, how.with_tree)


def _survey(node: Node, how: ChangeOptions, progress: Progress) -> Survey:
    if how.with_tree:
        return survey_of(node, Extent(across_mounts=how.across_mounts), progress)
    return survey_of_one(node.look(exact=True))


def _caveats(host: Host, made: Plan, targets: Sequence[Target], problem: Problem) -> Iterator[Finding]:
    yield from unevaluated.of_host(host)
    for target in targets:
        yield from caveats.of_route(target.route)
        named = {other.survey.top.path for other in targets}
        yield from caveats.of_mounts_left_out([point for point in target.survey.skipped if point not in named])
        for trouble in target.survey.troubles:
            hint = "what is under it is left alone" if trouble.errno == 13 else ""
            problem(PathError(trouble.path, trouble.errno, hint=hint))
    yield from made.caveats
    yield from caveats.of_mounts_not_counted(made.skipped)
    yield from caveats.of_names_not_counted(made.names_elsewhere)
    yield from caveats.of_changed_alone(made.changed_alone, made.perhaps_changed_alone)
    yield from caveats.of_other_mounts(made.shown_at)
    for trouble in made.troubles:
        problem(PathError(trouble.path, trouble.errno, "count who gains and loses under"))


def tell_refused(planned: Planned, problem: Problem, *, stop_at_first: bool = False) -> int:
    """Make a problem of each change that the kernel would refuse; how many there are."""
    count = 0
    actor, reasons = planned.host.actor(), dict[int, str]()
    for item in planned.plan.refused():
        why = reasons.get(id(item.planned))
        if why is None:
            why = reasons[id(item.planned)] = why_refused(item.planned, actor, planned.host.accounts)
        problem(PathError(item.path, item.change.errno, "change", why))
        count += 1
        if stop_at_first:
            break
    return count


def apply(
    planned: Planned,
    history: History | None,
    command: Sequence[str] = (),
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
    stop_at_first: bool = False,
) -> RunResult:
    """Write each change of a plan through its handle, with what the plan knows to be refused as problems.

    Guards are not asked: see :meth:`Planned.refused_by`. ``command`` are the
    words that the history keeps. Raises :class:`HistoryError` before anything
    has changed.
    """
    made, host = planned.plan, planned.host
    refused = tell_refused(planned, problem, stop_at_first=stop_at_first)
    items = Items() if stop_at_first and refused else made.to_write()
    if not items:
        return RunResult()
    items = in_upper_layers(host, items)
    changes = [planned.change for planned in items.planned]
    beginning = beginning_of(host.accounts, command)._replace(gains=kept(made.gains), losses=kept(made.losses))
    return run(
        lambda stopping: changing.apply(host, items, stopping),
        with_digests(host, Intended(items.paths, items.identities, changes, items.numbers)),
        beginning,
        history,
        problem=problem,
        progress=progress,
        stop_at_first=stop_at_first,
    )

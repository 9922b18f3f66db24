"""The public interface: what ``import fiat`` gives.

Everything takes a host, which :func:`open_host` opens, and words as a command
line has them. What goes wrong is raised as one of :class:`FiatError`'s kinds. What
is imported here under its own name is handed on.
"""

from collections.abc import Iterable, Iterator, Sequence
from contextlib import nullcontext

from fiat.app import let as ways_of
from fiat.app import look as looking
from fiat.app import undo as undoing
from fiat.app import wishes
from fiat.app.audit import Audit, chosen_rules
from fiat.app.audit import audit as look_for_dangers
from fiat.app.change import ChangeOptions, Planned, alone
from fiat.app.change import apply as apply_plan
from fiat.app.change import plan as make_plan
from fiat.app.check import Checked, read_expectations
from fiat.app.check import check as check_all
from fiat.app.compare import LIVE, compared, open_state
from fiat.app.foresee import foresee as foresee
from fiat.app.hosts import arrive
from fiat.app.hosts import open_host as open_host
from fiat.app.let import WaysToGoals
from fiat.app.past import open_history as open_history
from fiat.app.question import Question
from fiat.app.restore import restore as put_state_back
from fiat.app.running import RunResult
from fiat.app.save import Destination
from fiat.app.save import save as keep_state
from fiat.app.who import who as ask_who
from fiat.app.whobelow import TreeWho
from fiat.app.whobelow import who_below as ask_tree
from fiat.app.why import Why
from fiat.app.why import why as ask_why
from fiat.core.ask.who import Answer
from fiat.core.change.history import History
from fiat.core.errors import FiatError as FiatError
from fiat.core.errors import HistoryError as HistoryError
from fiat.core.errors import NotationError as NotationError
from fiat.core.errors import PathError as PathError
from fiat.core.errors import SnapshotError as SnapshotError
from fiat.core.errors import UnknownAccount as UnknownAccount
from fiat.core.model.host import Host as Host
from fiat.core.state.comparison import Comparison
from fiat.core.state.restoring import RestoreDirection
from fiat.core.suggest.cost import Way
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent

__all__ = [
    "FiatError",
    "HistoryError",
    "Host",
    "NotationError",
    "PathError",
    "SnapshotError",
    "UnknownAccount",
    "apply",
    "arrange",
    "audit",
    "bar",
    "check",
    "compare",
    "foresee",
    "let",
    "look",
    "open_fleet",
    "open_history",
    "open_host",
    "plan",
    "restore",
    "save",
    "survey",
    "undo",
    "way_as_plan",
    "who",
    "who_below",
    "why",
]


def open_fleet(
    *places: str, hosts: Sequence[str] = (), at: str | None = None, not_older: str | None = None
) -> Iterator[tuple[str, Host]]:
    """Each host of a fleet by its name, opened when it is its turn: of the folders and snapshots ``places`` those whose
    names fit one of ``hosts``, as it was ``at`` that time.

    Hosts without a snapshot, or with an older one than ``not_older``, are left out. Raises :class:`SnapshotError` for
    one that cannot be read.
    """
    from fiat.app.fleet import fleet_in

    for host in fleet_in(places, hosts, at=at, not_older=not_older).hosts:
        yield host.name, open_host(host.path)


def look(host: Host, path: str) -> looking.Look:
    """What ``path`` says about access, with remarks; of a symlink also what it leads to."""
    (route,) = arrive(host, [path], follow=False)
    return looking.look(host, route)


def who(
    host: Host,
    path: str,
    rights: Iterable[str] = (),
    *,
    if_member: Iterable[str] = (),
    if_not_member: Iterable[str] = (),
) -> Answer:
    """Who has which of ``rights`` on ``path``: ``fiat.who(host, path, ["delete"]).who_can("delete")``.

    Without rights, those that are shown where none is asked for. Memberships
    can be supposed, as ``USER:GROUP``.
    """
    question = Question(host, rights=rights, if_member=if_member, if_not_member=if_not_member)
    (route,) = arrive(host, [path], missing=question.may_be_missing)
    return ask_who(question, route).answer


def who_below(host: Host, path: str, rights: Iterable[str] = (), *, across_mounts: bool = False) -> TreeWho:
    """Who may do what with everything at and under ``path``, equal answers together."""
    (route,) = arrive(host, [path])
    return ask_tree(Question(host, rights=rights), route, across_mounts=across_mounts)


def why(host: Host, who: str, right: str, path: str) -> Why:
    """May ``who`` do ``right`` to ``path``: the verdict with its steps, its reason in words, and advice.

    ``who`` is a user name, ``uid:N``, ``group:NAME``, ``pid:N``, ``anyone-else`` or ``self``.
    """
    return ask_why(host, who, right, path)


def let(
    host: Host, who: str, right: str, paths: Sequence[str], *, below: bool = False, and_new: bool = False
) -> WaysToGoals:
    """The ways to let ``who`` have ``right`` on ``paths``, the best first: ``found.ways``.

    Several people, and several rights, with commas; with ``below`` their trees, with ``and_new`` also what is made
    there later. ``way_as_plan(meant, way)`` is a plan that :func:`apply` carries out.
    """
    return _meant(host, who, right, paths, ways_of.LetOptions(below, and_new=and_new), gives=True)


def bar(
    host: Host, who: str, right: str, paths: Sequence[str], *, below: bool = False, and_new: bool = False
) -> WaysToGoals:
    """The ways to bar ``who`` from ``right`` on ``paths``, as :func:`let` has them."""
    return _meant(host, who, right, paths, ways_of.LetOptions(below, and_new=and_new), gives=False)


def _meant(
    host: Host, who: str, right: str, paths: Sequence[str], how: ways_of.LetOptions, *, gives: bool
) -> WaysToGoals:
    found = ways_of.meant(host, who, right, paths, how, gives=gives)
    if found is None:
        raise NotationError("paths", "there is no path to look at")
    return found


def way_as_plan(meant: WaysToGoals, way: Way) -> Planned:
    """A way as a plan, which :func:`apply` carries out."""
    return ways_of.planned(meant, way)


def arrange(host: Host, paths: Sequence[str], arrangement: str, *, file: str | None = None) -> Planned:
    """What an arrangement, such as ``team:survey``, would do to ``paths`` and what is in them; nothing is written.

    Those in ``file`` are known besides.
    """
    from fiat.app.arrange import known_arrangements, plan_arranged
    from fiat.core.words.arrangements import parse_chosen

    return plan_arranged(host, paths, parse_chosen(arrangement, known_arrangements(file), host.accounts))


def survey(host: Host, path: str, *, across_mounts: bool = False, most: int | None = None) -> Survey:
    """Everything at and under ``path``, read once and held compactly; not much more than ``most`` entries of it."""
    return survey_at(host, path, Extent(across_mounts=across_mounts, entry_limit=most))[1]


def plan(
    host: Host,
    paths: Sequence[str],
    *,
    mode: str | None = None,
    file_mode: str | None = None,
    dir_mode: str | None = None,
    owner: str | None = None,
    group: str | None = None,
    entries: Iterable[str] = (),
    no_entries: Iterable[str] = (),
    default_entries: Iterable[str] = (),
    like: str | None = None,
    flags: Iterable[str] = (),
    no_flags: Iterable[str] = (),
    below: bool = False,
    through_flags: bool = False,
) -> Planned:
    """What such a change would do to ``paths``, or with ``below`` to their trees; nothing is written.

    The plan says each object's posture before and after, who gains and who
    loses which right, and which guards object.
    """
    accounts = host.accounts
    wish = wishes.wish(
        host,
        mode=mode,
        file_mode=file_mode,
        dir_mode=dir_mode,
        owner=owner,
        group=group,
        access=wishes.list_wish(accounts, entries=entries, no_entries=no_entries),
        default=wishes.list_wish(accounts, entries=default_entries),
        like=like,
        flags=flags,
        no_flags=no_flags,
    )
    return make_plan(host, paths, wish, ChangeOptions(below=below, through_flags=through_flags))


def audit(host: Host, paths: Sequence[str], rules: Iterable[str] = ()) -> Audit:
    """What is dangerous at and under ``paths``, or probably not meant: ``found``, the worst first, with what mends it.

    Without ``rules``, all but those that are looked for only where they are asked for.
    """
    return look_for_dangers(host, paths, chosen_rules(rules))


def check(host: Host, files: Sequence[str]) -> Checked:
    """Whether the expectations in ``files`` hold: each with its counterexamples. Raises :class:`FiatError`."""
    return check_all(host, read_expectations(files, host))


def apply(planned: Planned, history: History | None, accept: Iterable[str] = ()) -> RunResult:
    """Carry out a plan; with a ``history`` it can be undone.

    Raises :class:`FiatError` where a guard objects that is not among those to
    ``accept``; then nothing is changed. The first path that fails is raised as
    :class:`PathError` when all the others are done.
    """
    guards = planned.refused_by(tuple(accept))
    if guards:
        raise FiatError(f"guard {guards[0].code} objects to {guards[0].path!r}: {guards[0].text}")
    failed: list[PathError] = []
    tops = [target.survey.top.path for target in planned.targets]
    with alone(planned.host, history, tops, ChangeOptions(link_itself=True)) if history is not None else nullcontext():
        result = apply_plan(planned, history, ("import fiat",), problem=failed.append)
    if failed:
        raise failed[0]
    return result


def save(host: Host, paths: Sequence[str], file: str) -> None:
    """Keep everything the questions need of the trees at ``paths`` in ``file``, which :func:`open_host` takes.

    Raises :class:`PathError` for the first place that cannot be looked at, or where the file cannot be written.
    """
    keep_state(host, paths, Destination(file))


def compare(before: str, after: str = LIVE, paths: Sequence[str] = ()) -> Comparison:
    """What differs between two states, each a snapshot or ``live``: trees, accounts, mounts, who gained and lost what.

    Raises :class:`SnapshotError` where they have nothing in common, and :class:`PathError`.
    """
    found = compared(open_state(before), open_state(after), paths)
    assert found is not None, "what hinders it is raised"
    return found


def restore(state: str, paths: Sequence[str] = (), *, only: str = "everything") -> Planned:
    """The plan that puts postures back as the snapshot ``state`` has them, on this host; :func:`apply` carries it out.

    ``only`` is "lost" for what people lost alone, "gained" for what they gained. Raises :class:`SnapshotError`.
    """
    return put_state_back(open_state(state), open_state(LIVE), paths, only=RestoreDirection(only)).planned


def undo(host: Host, history: History, number: int | None = None) -> RunResult:
    """Put back the run with ``number``, or the latest that was not put back yet."""
    failed: list[PathError] = []
    with undoing.undoing_alone(host, history, number) as found:
        done = undoing.put_back(found, history, ("import fiat",), problem=failed.append)
    if failed:
        raise failed[0]
    return done.result or RunResult()

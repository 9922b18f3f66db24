"""Letting and barring: from what is meant to the least change."""

from collections.abc import Iterable, Iterator

from fiat.app.change import Planned
from fiat.app.problems import Problem, failure, raise_problem
from fiat.core.ask import caveats
from fiat.core.change import plan as plans
from fiat.core.errors import NotationError, PathError
from fiat.core.model import right as rights
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.kind import Kind
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.route import Route
from fiat.core.rules.access import Access
from fiat.core.suggest.means import MEANS
from fiat.core.suggest.ways import Found, Goal, Way, search
from fiat.core.text import near, quoted, shell_word, visible
from fiat.core.tree.walk import route_for, walk
from fiat.core.typed import NamedTuple
from fiat.core.words import naming
from fiat.core.words import who as who_words
from fiat.core.words.rights import Asked, on_kind, parse_rights

__all__ = ["MEANS", "Found", "How", "Meant", "meant", "planned"]


class How(NamedTuple):
    """By which means (all, if empty), and who is to be spared any gain and any loss."""

    by: tuple[str, ...] = ()
    spare: tuple[str, ...] = ()


class Meant(NamedTuple):
    """The ways to one goal, and what is to be known besides."""

    found: Found
    notes: list[Finding]
    caveats: list[Finding]
    host: Host

    @property
    def best(self) -> Way | None:
        """The best way that Fiat can go itself."""
        return next((way for way in self.found.ways if way.plan is not None), None)


def meant(
    host: Host,
    who: str,
    right: str,
    paths: Iterable[str],
    how: How = How(),  # noqa: B008
    *,
    gives: bool,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Iterator[Meant]:
    """The ways for each of ``who`` (with commas between), each right and each path, by itself."""
    people = [who_words.parse(word, host) for word in who.split(",")]
    asked = parse_rights([right])
    for word in how.by:
        if word not in MEANS:
            raise NotationError(word, f"{quoted(word)} is no means{near(word, MEANS)}; these are: {', '.join(MEANS)}")
    spare = [who_words.parse(word, host) for words in how.spare for word in words.split(",")]
    for path in paths:
        if not path:
            problem(PathError(path, 2))
            continue
        route = walk(host, path)
        if route.end is None:
            problem(failure(route))
            continue
        for goal in _goals(people, asked, route, gives=gives):
            found = search(host, goal, by=how.by, spare=spare, progress=progress)
            said = [*caveats.of_route(route), *caveats.of_host(host.settings)]
            yield Meant(found, list(_notes(host, found)), said, host)


def _goals(people: list[Principal], asked: tuple[Asked, ...], route: Route, *, gives: bool) -> Iterator[Goal]:
    """One for each of them; a name that is to be removed is itself meant, and not what it leads to."""
    assert route.end is not None
    for who in people:
        for one in asked:
            right = on_kind(one, route.end.posture.kind)
            named = right.by_name and not right.by_object
            yield Goal(who, right, route.asked if named else route.end.path, gives)


def planned(meant_: Meant, way: Way) -> Planned:
    """A way as a plan of the one who acts, that can be shown and carried out as ``set`` does."""
    assert way.plan is not None
    targets = [part.target for part in way.plan.parts]
    made = plans.make(meant_.host, targets)
    return Planned(made, targets, list(made.caveats), meant_.host)


# --- what is to be known besides ---------------------------------------------------------


def _notes(host: Host, found: Found) -> Iterator[Finding]:
    goal = found.goal
    end = walk(host, goal.path).end
    if end is None or found.already or found.why_not:
        return
    if goal.gives:
        entries = any(wish.access.entries and path == goal.path for way in found.ways[:1] for path, wish in way.steps)
        if entries and end.posture.kind is Kind.FILE:
            folder = shell_word(goal.path.rpartition("/")[0] or "/")
            text = (
                f"a program that replaces the file by a new one loses the entry: a default entry on {folder} keeps it"
            )
            yield Finding("replaced", "plain", text, goal.path)
        return
    who = naming.principal(goal.who)
    if goal.who.uid is not None and goal.who.uid == end.posture.uid:
        yield Finding("owner", "odd", f"{who} owns it and can give it back to themselves; --by owner takes that too")
    parent = walk(host, goal.path).parent
    if parent is not None and goal.right not in (rights.DELETE, rights.RENAME):
        route = route_for(host, goal.path, rights.DELETE)
        if Access(Universe([goal.who]), host.settings).allowed(route, rights.DELETE):
            text = f"{who} can replace it, for names in {visible(parent.path)} are theirs to change"
            yield Finding("replaceable", "odd", f"{text}: this holds for the file that is there now")
    if end.status.links > 1 and not end.posture.directory:
        yield Finding("all-names", "plain", f"it holds for all {end.status.links} names of it")
    yield Finding("open-files", "plain", "processes that have it open keep what they have until they close it")

"""What people can bring about at one path by their own means."""

from typing import NamedTuple

from fiat.app.audit import evidence_of
from fiat.core.ask.ownmeans import OwnMeans, OwnStep, own_means
from fiat.core.ask.throughprograms import Hop, Programs, RunFile, able
from fiat.core.ask.who import Answer, postures_on, universe_of
from fiat.core.errors import SnapshotError
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import CREATE, WRITE, Right
from fiat.core.rules.access import Access
from fiat.core.rules.decision import superuser
from fiat.core.tree.walk import route_for


class OwnMeansAnswer(NamedTuple):
    """For the places of people in the universe of ``answer``, by right, the ways to have what they have not.

    ``chains`` are those through programs, where these were asked for: for each right whom they lead to.
    """

    answer: Answer
    ways: dict[int, dict[Right, list[OwnMeans]]]
    chains: dict[Right, dict[int, tuple[Hop, ...]]] | None = None


def means_of_people(host: Host, answer: Answer, places: list[int], *, through_programs: bool = False) -> OwnMeansAnswer:
    """What each of the principals at ``places`` can bring about; of a superuser, whom modes do not hold up, nothing."""
    routes = {right: route_for(host, answer.route.asked, right) for right in answer.rights}
    known: dict[tuple[int, Right], list[OwnMeans]] = {}
    ways: dict[int, dict[Right, list[OwnMeans]]] = {}
    for place in places:
        who = answer.universe.principals[place]
        if who.kind not in ("user", "anyone-else") or superuser(who):
            continue
        for right, route in routes.items():
            if answer.has(place, right) is not False:
                continue
            key = answer.alike[place], right
            if key not in known:
                known[key] = own_means(host.settings, answer.universe.principals[key[0]], route, right)
            if known[key]:
                ways.setdefault(place, {})[right] = known[key]
    if not through_programs:
        return OwnMeansAnswer(answer, ways)
    programs = programs_of(host, answer.universe)
    chains = {}
    for right, route in routes.items():
        found = programs.chains(able(Access(answer.universe, host.settings), route, right))
        chains[right] = {place: hops for place, hops in found.items() if place in places}
    return OwnMeansAnswer(answer, ways, chains)


def programs_of(host: Host, universe: Universe) -> Programs:
    """What whom runs, and who can put something into it; :class:`SnapshotError` where a snapshot does not say."""
    started = evidence_of(host).started()
    if started is None:
        says = "the snapshot does not say; fiat save --for-audit keeps it"
        raise SnapshotError(f"what services and the clock start: {says}")
    files = [RunFile(one.path, one.uid, one.by, one.folder, one.run) for one in started if one.uid is not None]
    return Programs(host, universe, files)


def means_of(host: Host, who: Principal, right: Right, path: str) -> list[OwnMeans]:
    """What ``who`` can bring about, the shortest way first."""
    return own_means(host.settings, who, route_for(host, path, right), right)


class Chain(NamedTuple):
    """By what somebody becomes another, and so on: for each hop the steps that put something into what is run, as whom
    they are taken, and who they are then; at last the steps, as that one, that give the right."""

    hops: tuple[tuple[Hop, str | None, tuple[OwnStep, ...], str | None], ...]
    steps: tuple[OwnStep, ...]


def chain_of(host: Host, who: Principal, right: Right, path: str) -> Chain | None:
    """The shortest chain of programs by which ``who`` comes to have ``right``; None where there is none."""
    route = route_for(host, path, right)
    universe = universe_of(host.accounts, postures_on([route]))
    place = next((at for at, one in enumerate(universe.principals) if one.identity == who.identity), None)
    goal = able(Access(universe, host.settings), route, right)
    hops = None if place is None else programs_of(host, universe).chains(goal).get(place)
    if not hops:
        return None
    told = []
    one = who
    for hop in hops:
        wanted = CREATE if hop.file.folder else WRITE
        steps = means_of(host, one, wanted, hop.file.path)
        after = universe.principals[hop.place]
        calls = steps[0].steps if steps else ()
        made = [step.path for step in calls if step.call == "create"]
        if hop.file.run and made:  # what is new is no program before it is made one
            calls = (*calls, OwnStep("chmod", made[-1], "rx", whom="a"))
        told.append((hop, one.name, calls, after.name))
        one = after
    last = means_of(host, one, right, path)
    return Chain(tuple(told), last[0].steps if last else ())

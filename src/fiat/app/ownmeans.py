"""What people can bring about at one path by their own means."""

from typing import NamedTuple

from fiat.core.ask.ownmeans import OwnMeans, own_means
from fiat.core.ask.who import Answer
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal
from fiat.core.model.right import Right
from fiat.core.rules.decision import superuser
from fiat.core.tree.walk import route_for


class OwnMeansAnswer(NamedTuple):
    """For the places of people in the universe of ``answer``, by right, the ways to have what they have not."""

    answer: Answer
    ways: dict[int, dict[Right, list[OwnMeans]]]


def means_of_people(host: Host, answer: Answer, places: list[int]) -> OwnMeansAnswer:
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
    return OwnMeansAnswer(answer, ways)


def means_of(host: Host, who: Principal, right: Right, path: str) -> list[OwnMeans]:
    """What ``who`` can bring about, the shortest way first."""
    return own_means(host.settings, who, route_for(host, path, right), right)

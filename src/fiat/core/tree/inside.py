"""Routes to what is in a tree that was surveyed, by what was read there: nothing is looked up again."""

from fiat.core.model.posture import Object
from fiat.core.model.route import Route, Stage
from fiat.core.tree.survey import Survey


class RoutesInside:
    """Routes to the entries of a survey, to whose top ``route`` leads. Objects are made once."""

    def __init__(self, route: Route, survey: Survey) -> None:
        self._route = route
        self._survey = survey
        self._known: dict[int, Object] = {0: survey.top}

    def object(self, place: int) -> Object:
        """The entry at a place; those above it as well, so that its path need not be put together again."""
        way = []
        while place not in self._known:
            way.append(place)
            place = int(self._survey.parent[place])
        found = self._known[place]
        for one in reversed(way):
            found = self._survey.object(one, f"{found.path.rstrip('/')}/{self._survey.name(one)}")
            self._known[one] = found
        return found

    def to(self, place: int, *, into: bool = False) -> Route:
        """The route to the entry at a place, and ``into`` that where it is a directory; what runs it is left out."""
        parent, above = self._survey.parent, list[int]()
        one = int(parent[place])
        while one >= 0:
            above.append(one)
            one = int(parent[one])
        end = self.object(place)
        stages = [*self._route.stages, *(Stage(self.object(one)) for one in reversed(above))]
        if into and end.posture.directory:
            stages.append(Stage(end))
        return Route(end.path, tuple(stages), end)

"""Trees surveyed for tests, and targets for plans."""

import numpy as np

from fiat.core.change.target import Target
from fiat.core.model.host import Host
from fiat.core.model.route import Route
from fiat.core.tree.assembly import survey_of_one
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent, open_end


def surveyed(host: Host, path: str, *, across: bool = False) -> tuple[Route, Survey]:
    """The route to a path, and the tree that is there."""
    return survey_at(host, path, Extent(across_mounts=across))


def target(host: Host, path: str, *, with_tree: bool = True) -> Target:
    """Everything at and under ``path``, or that alone, as a target of a plan."""
    if with_tree:
        route, survey = surveyed(host, path)
    else:
        route, node = open_end(host, path, follow=False)
        assert node is not None
        survey = survey_of_one(node.look(exact=True))
        node.close()
    return Target(path, route, survey, np.ones(len(survey), np.bool_), with_tree)

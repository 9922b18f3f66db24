"""Reading a whole tree to list it."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fiat.app.problems import Note, Problem
from fiat.core.ask import caveats
from fiat.core.ask.treecaveats import first_of_each_kind
from fiat.core.errors import Interrupted, PathError
from fiat.core.model.host import Host, Progress
from fiat.core.model.route import Route
from fiat.core.tree.natural import natural_places
from fiat.core.tree.reading import survey_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import Extent
from fiat.core.words.selection import HostSelection
from fiat.engine.laying import sorter_of


class ListedEntries(NamedTuple):
    """The chosen entries of a tree: their ``places``, in the order that people expect."""

    survey: Survey
    places: NDArray[np.int64]


def survey_below(host: Host, route: Route, across_mounts: bool, progress: Progress) -> Survey:
    """The tree under the end of ``route``, with what a list of it shows besides."""
    return survey_at(host, route.asked, Extent(across_mounts=across_mounts, details=True), progress)[1]


def chosen_in(survey: Survey, choosing: HostSelection, problem: Problem, note: Note) -> ListedEntries:
    """The entries of a tree that are chosen."""
    for trouble in survey.troubles:
        problem(PathError(trouble.path, trouble.errno))
    for place in first_of_each_kind(survey):
        if place:
            note(caveats.of_object(survey.object(place)))
    note(caveats.of_mounts_left_out(survey.skipped))
    if not survey.complete:
        note(caveats.of_stopping(survey.top.path, len(survey)))
        problem(Interrupted(survey.top.path))
    places = natural_places(survey, sorter_of(survey))
    if not choosing.selection.everything:
        places = places[survey.chosen(choosing)[places]]
    return ListedEntries(survey, places)

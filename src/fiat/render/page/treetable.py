"""Every path of a tree with who can do what: rows by numbers into lists, so that each name and each answer is held
once; the page draws them in pieces."""

from __future__ import annotations

import numpy as np

from fiat.app.peoplebypaths import slots
from fiat.app.whobelow import TreeWho
from fiat.core.model.principals import set_of
from fiat.core.text import Fields, visible
from fiat.core.words.naming import PeopleWords, word_for
from fiat.render import words

_ASKED_OF = 2_000_000
"""So many bits at most tell who has what, for the page to choose rows by a user; more would make it large."""


def tree_table(found: TreeWho) -> Fields:
    """``directories`` and ``answers``, and of each row of the table the places of its own in these; its name, its kind.

    Of an answer and a right: ``words``, and ``count``, how many users (-1 where it does not apply, one more than all
    where ``anyone`` can); ``who`` are the users who have it, as a number in hexadecimal, where there are not too many.
    """
    survey, keys = found.survey, found.answers.keys
    universe, question = found.universe, found.question
    shown = [place for place, who in enumerate(universe.principals) if question.shows(who)]
    people = PeopleWords(universe, question.asked_of.accounts, set_of(shown))
    users = [place for place in shown if universe.principals[place].kind == "user"]
    places = np.arange(len(survey)) if found.taken is None else np.flatnonzero(found.taken)
    used, number = np.unique(found.answers.number[places], return_inverse=True)
    choose = len(users) * len(used) * len(found.rights) <= _ASKED_OF
    anyone = universe.of_kind("anyone-else")
    columns = [[found.rights.index(right) for right in slot] for slot in slots(question)]
    answers = []
    for key in (keys[int(one)] for one in used):
        cells: list[Fields] = []
        for some in columns:
            bits = next((key[at] for at in some if key[at] is not None), None)
            if bits is None:
                cells.append({"words": "", "count": -1, "anyone": False, "who": "0"})
                continue
            having = [at for at, place in enumerate(users) if bits >> place & 1]
            count = len(users) + 1 if bits & anyone else len(having)
            cell = {"words": people.words(bits), "count": count, "anyone": bool(bits & anyone)}
            cells.append({**cell, "who": f"{set_of(having):x}" if choose else "0"})
        answers.append(cells)
    directories: dict[str, int] = {}
    rows_directory, names = [], []
    for _, paths in survey.paths_in_blocks(places):
        for path in paths:
            directory, _, name = path.rpartition("/")
            rows_directory.append(directories.setdefault(visible(directory), len(directories)))
            names.append(visible(name))
    kinds = [words.KIND[rest.posture.kind] for rest in survey.profiles.rests]
    rest = survey.profiles.columns.rest[survey.profile[places]]
    return {
        "rights": [" or ".join(found.rights[at].name for at in some) for some in columns],
        "users": [visible(word_for(universe.principals[place])) for place in users] if choose else [],
        "answers": answers,
        "directories": list(directories),
        "kinds": kinds,
        "directory": rows_directory,
        "name": names,
        "kind": rest.tolist(),
        "answer": number.tolist(),
    }

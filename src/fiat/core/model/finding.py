"""Findings: something odd, dangerous or easily misread, or something that Fiat cannot know."""

from typing import NamedTuple

WEIGHTS = ("danger", "odd", "plain")
"""Something that lets too many in; something probably not meant or easily misread; something to know."""


class Finding(NamedTuple):
    """One finding: a remark, a note on a change, a caveat or a guard.

    ``code`` is stable and one word, ``weight`` one of :data:`WEIGHTS`, ``text``
    says it in a sentence. ``path`` is one place that it is about, empty where it
    is about none in particular; ``paths`` how many places there are.
    """

    code: str
    weight: str
    text: str
    path: str = ""
    paths: int = 1

"""A rule of an audit."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.audit.found import Found
from fiat.core.audit.ground import Ground


class Rule(NamedTuple):
    """One thing that an audit looks for.

    ``about`` says in a few words what, ``why`` in a sentence why it matters. A rule that is
    looked for only where it is ``asked`` for takes long, or reads what nobody expects to be read.
    """

    code: str
    about: str
    why: str
    find: Callable[[Ground], Iterator[Found]]
    asked: bool = False

"""What is in one directory, object by object."""

import posixpath
from collections.abc import Iterable, Iterator

from fiat.core.model.host import Node
from fiat.core.model.posture import Object
from fiat.core.tree.trouble import Trouble


def names_in(directory: Node, troubles: list[Trouble]) -> list[str]:
    """The names in ``directory``; those until then, and one more of the ``troubles``, where it cannot be listed."""
    found: list[str] = []
    try:
        found.extend(directory.names())
    except OSError as error:
        troubles.append(Trouble(directory.path, error.errno or 0))
    return found


def inside(directory: Node, names: Iterable[str], troubles: list[Trouble]) -> Iterator[tuple[Node, Object]]:
    """Each of ``names`` in ``directory``, held open for the caller to close, with what is seen of it.

    What cannot be looked at, or has gone since its name was read, is added to ``troubles``.
    """
    for name in names:
        try:
            child = directory.child(name)
        except OSError as error:
            troubles.append(Trouble(posixpath.join(directory.path, name), error.errno or 0))
            continue
        yield child, child.look()

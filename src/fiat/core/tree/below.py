"""Walking the tree below an object, with who can reach each part of it."""

import posixpath
import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from fiat.core.model.host import Node
from fiat.core.model.posture import Kind, Object


class Trouble(NamedTuple):
    """Something under a tree that could not be looked at, with the errno."""

    path: str
    errno: int


def as_people_expect(name: str) -> tuple[list[str | int], str]:
    """A key that sorts names without regard to case, and numbers in them by value: ``n2`` before ``n10``."""
    parts: list[str | int] = [
        int(part) if place % 2 else part.casefold() for place, part in enumerate(re.split(r"([0-9]+)", name))
    ]
    return parts, name


def below(
    top: Node, object_: Object, enter: Callable[[Object], bool], trouble: Callable[[Trouble], None]
) -> Iterator[Object]:
    """Every object under the directory ``object_`` held by ``top``, parents first, names sorted.

    ``enter`` is asked about each directory after it was yielded, ``top`` too;
    where it answers no, nothing under it is visited. Symlinks are yielded and
    not followed. What cannot be looked at goes to ``trouble``.
    """
    waiting: list[tuple[Node, Iterator[str]]] = []

    def descend(node: Node, directory: Object) -> bool:
        if not enter(directory):
            return False
        try:
            names = sorted(node.names(), key=as_people_expect)
        except OSError as error:
            trouble(Trouble(directory.path, error.errno or 0))
            return False
        waiting.append((node, iter(names)))
        return True

    descend(top, object_)
    try:
        while waiting:
            node, names = waiting[-1]
            name = next(names, None)
            if name is None:
                waiting.pop()
                if node is not top:
                    node.close()
                continue
            try:
                child = node.child(name)
            except OSError as error:
                trouble(Trouble(posixpath.join(node.path, name), error.errno or 0))
                continue
            kept = False
            try:
                found = child.look()
                yield found
                kept = found.posture.kind is Kind.DIRECTORY and descend(child, found)
            except OSError as error:
                trouble(Trouble(child.path, error.errno or 0))
            finally:
                if not kept:
                    child.close()
    finally:
        for node, _ in waiting:
            if node is not top:
                node.close()

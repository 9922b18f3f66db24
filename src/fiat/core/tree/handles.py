"""Opening many paths one after the other, each without following a link."""

from fiat.core.model.host import Host, Node

_HELD = 24
"""Directories that are held open at most: a process may have few open files."""


class Handles:
    """Keeps the last directories on the way to the last path open.

    Every name is opened in the directory that is held already, so what is
    under it stays under it, whatever is renamed or put in its place
    meanwhile. A symlink on the way is not followed: it is no directory.
    """

    def __init__(self, host: Host) -> None:
        self._chain: list[Node] = []
        self.host = host

    def open(self, path: str) -> Node:
        """What is at the absolute ``path``; the caller closes it. Raises OSError."""
        if path == "/":
            return self.host.root()
        parent, _, name = path.rpartition("/")
        chain = self._chain
        if chain and chain[-1].path == parent:  # as that of the last path, most often
            return chain[-1].child(name)
        return self._directory(parent or "/").child(name)

    def _directory(self, path: str) -> Node:
        chain = self._chain
        while chain and chain[-1].path != path and not path.startswith(chain[-1].path.rstrip("/") + "/"):
            chain.pop().close()
        if not chain:
            chain.append(self.host.root())
        last = chain[-1].path
        if last != path:
            for name in path[len(last.rstrip("/")) + 1 :].split("/"):
                chain.append(chain[-1].child(name))
                if len(chain) > _HELD:
                    chain.pop(0).close()
        return chain[-1]

    def close(self) -> None:
        """Let go of all of them."""
        while self._chain:
            self._chain.pop().close()

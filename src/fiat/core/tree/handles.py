"""Opening many paths one after the other, each without following a link."""

from fiat.core.model.host import Host, Node


class Handles:
    """Keeps the directories on the way to the last path open.

    Every name is opened in the directory that is held already, so what is
    under it stays under it, whatever is renamed or put in its place
    meanwhile. A symlink on the way is not followed: it is no directory.
    """

    def __init__(self, host: Host) -> None:
        self._chain: list[Node] = [host.root()]
        self.host = host

    def open(self, path: str) -> Node:
        """What is at the absolute ``path``; the caller closes it. Raises OSError."""
        if path == "/":
            return self.host.root()
        parent, _, name = path.rpartition("/")
        return self._directory(parent or "/").child(name)

    def _directory(self, path: str) -> Node:
        chain = self._chain
        last = chain[-1].path
        if last == path:
            return chain[-1]
        while last != "/" and not path.startswith(last + "/"):
            chain.pop().close()
            last = chain[-1].path
        if last != path:
            for name in path[len(last.rstrip("/")) + 1 :].split("/"):
                chain.append(chain[-1].child(name))
        return chain[-1]

    def close(self) -> None:
        """Let go of all of them."""
        while self._chain:
            self._chain.pop().close()

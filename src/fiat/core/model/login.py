"""What a login gives: the umask and the search path that somebody's shell begins with."""

from typing import NamedTuple, Protocol

from fiat.core.model.accounts import User


class OpenEnd(NamedTuple):
    """Something that could not be evaluated, as a clause: it may decide the ``umask`` or the ``path``, or either."""

    text: str
    of: str = ""


class Login(NamedTuple):
    """The umask ``mask`` and the folders of the search ``path``, and in words what decided each.

    ``open_ends`` are what could not be evaluated and might give something else. ``known`` is false
    where nothing was looked at, and what is told is what is usual.
    """

    mask: int
    mask_by: str
    path: tuple[str, ...]
    path_by: str
    open_ends: tuple[OpenEnd, ...] = ()
    known: bool = True

    def left_open(self, of: str) -> tuple[str, ...]:
        """What may decide the ``umask``, or the ``path``, and is not known."""
        return tuple(one.text for one in self.open_ends if one.of in ("", of))


class Logins(Protocol):
    """What logins give; files that several have to do with are read once."""

    def of(self, account: User) -> Login:
        """The umask and the search path that a login of ``account`` gives."""


class UsualLogins:
    """What most hosts give."""

    def of(self, account: User) -> Login:
        """What is usual for root, and for everybody else."""
        return usual(root=account.uid == 0)


USUAL_PATH = ("/usr/local/bin", "/usr/bin", "/bin")
USUAL_PATH_OF_ROOT = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")


def usual(*, root: bool) -> Login:
    """What most hosts give, where it is not known."""
    what = "what is usual, for this host says nothing of it"
    return Login(0o022, what, USUAL_PATH_OF_ROOT if root else USUAL_PATH, what, known=False)

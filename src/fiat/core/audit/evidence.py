"""Evidence: what an audit asks of a host beside its file tree."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple, Protocol

from fiat.core.tree.walk import Trouble


class StartedFile(NamedTuple):
    """Something that is run, or read, for somebody without their asking.

    ``uid`` is who runs it, None for a user that is made for the purpose; ``by`` says
    in words what starts it, such as ``unit tidefeed.service``. What is ``run`` is
    a program or a script, anything else is read. Of a ``folder`` everything is run, or
    read: what somebody adds to it as well. It need not exist yet: whoever makes it decides then. ``end`` is what is
    there once symlinks are followed, or the directory that lacks it; empty where that was not looked up.
    """

    path: str
    uid: int | None
    by: str
    run: bool = True
    folder: bool = False
    end: str = ""


PATH_OF_ROOT = "path of root"
"""Under this name stand the folders that root's login looks for programs in, with colons between."""


def umask_of(name: str) -> str:
    """Under which name the umask of somebody's login stands, in octal."""
    return f"umask of {name}"


class Evidence(Protocol):
    """Where an audit looks beside the file tree; None wherever that was not looked at."""

    def packaged(self, paths: Sequence[str]) -> frozenset[str] | None:
        """Those of ``paths`` that a package of the distribution owns, or that its administrator recorded."""

    def secrets(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """What kind of secret some of these files hold, by path: see :mod:`fiat.core.rules.secretkinds`."""

    def started(self) -> tuple[StartedFile, ...] | None:
        """What is started by services and by the clock."""

    def loaded(self, path: str) -> tuple[str, ...] | None:
        """The libraries that the program at ``path`` loads as it starts, by path; they need not exist."""

    def login(self) -> Mapping[str, str] | None:
        """What logins get: :data:`PATH_OF_ROOT` with its folders, and for each person the :func:`umask_of` their login.

        An older snapshot has the settings of login.defs(5) instead. None where it was not looked at.
        """

    def logged(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """Which of these logs hold lines that look like credentials, and of what kind they are."""

    def unread(self) -> Sequence[Trouble]:
        """What was asked about so far and could not be looked into: of that nothing is known."""


class NoEvidence:
    """The evidence of a host where nothing was looked at: every answer is that it is not known."""

    def packaged(self, paths: Sequence[str]) -> frozenset[str] | None:
        """None: whether a package owns any of ``paths`` was not looked at."""
        return None

    def secrets(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """None: what the files at ``paths`` begin with was not looked at."""
        return None

    def started(self) -> tuple[StartedFile, ...] | None:
        """None: what services and the clock start was not looked at."""
        return None

    def loaded(self, path: str) -> tuple[str, ...] | None:
        """None: no program was looked into."""
        return None

    def login(self) -> Mapping[str, str] | None:
        """None: the settings of logins were not looked at."""
        return None

    def logged(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """None: no log was looked into."""
        return None

    def unread(self) -> Sequence[Trouble]:
        """Nothing: no file was asked about, so none could not be read."""
        return ()


class SavedFindings(NamedTuple):
    """Evidence as it is kept with a snapshot: for certain paths what was found, and never what they hold.

    ``secret_kinds`` holds the kind by path, ``privileged`` are programs with privilege that a package owns,
    ``settings`` what logins get, ``libraries`` what each program with privilege loads that no package owns; each
    is None where it was not looked at. ``unread`` is what could not be looked into.
    """

    secret_kinds: Mapping[str, str] | None
    privileged: frozenset[str] | None
    services: tuple[StartedFile, ...] | None
    settings: Mapping[str, str] | None = None
    libraries: Mapping[str, tuple[str, ...]] | None = None
    unread: tuple[Trouble, ...] = ()


class KeptEvidence:
    """The evidence that a snapshot holds."""

    def __init__(self, kept: SavedFindings) -> None:
        self.kept = kept

    def packaged(self, paths: Sequence[str]) -> frozenset[str] | None:
        """Those that were owned by a package."""
        known = self.kept.privileged
        return None if known is None else known & frozenset(paths)

    def secrets(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """The kinds of secrets that were found at ``paths`` when the snapshot was taken."""
        known = self.kept.secret_kinds
        return None if known is None else {path: known[path] for path in paths if path in known}

    def started(self) -> tuple[StartedFile, ...] | None:
        """What services and the clock started when the snapshot was taken."""
        return self.kept.services

    def loaded(self, path: str) -> tuple[str, ...] | None:
        """What a program with privilege loaded."""
        return None if self.kept.libraries is None else self.kept.libraries.get(path, ())

    def login(self) -> Mapping[str, str] | None:
        """The settings of logins when the snapshot was taken."""
        return self.kept.settings

    def logged(self, paths: Sequence[str]) -> Mapping[str, str] | None:
        """None: what logs hold is not kept with a snapshot."""
        return None

    def unread(self) -> Sequence[Trouble]:
        """What could not be looked into then."""
        return self.kept.unread

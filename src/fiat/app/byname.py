"""Which program somebody gets by its name: where a shell looks for it after login."""

import errno
from typing import NamedTuple

from fiat.app.why import Why, why
from fiat.core.errors import NotationError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.login import usual
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal, account_of
from fiat.core.model.right import EXECUTE, READ
from fiat.core.rules.decision import superuser
from fiat.core.rules.programs import NO_FORMAT
from fiat.core.text import quoted
from fiat.core.tree.walk import walk
from fiat.core.words import who as who_words

Folders = tuple[str, ...]


class SearchedFolder(NamedTuple):
    """A folder that is looked through: the path of the name there, and whether that may be run; ``why`` is None where
    nothing of the name is there that can be found by who looks.

    A shell ``takes`` the first that it may execute, and looks no further, even where that does not run in the end.
    ``by_shell`` tells that it is no program to the kernel, and the shell takes it for its own script.
    """

    path: str
    why: Why | None
    takes: bool = False
    by_shell: bool = False

    @property
    def runs(self) -> bool:
        """Whether the search ends here, and what was found is run."""
        return self.takes and self.why is not None and (self.by_shell or self.why.verdict.allowed)


class ByName(NamedTuple):
    """What ``who`` gets by ``name``.

    ``places`` are those that a shell looks at until it has found it. ``here`` is the same name in the
    current directory, where it is a program that they may run. ``source`` says where the folders are from,
    ``open_ends`` what of that is not evaluated.
    """

    who: Principal
    name: str
    folders: Folders
    source: str
    open_ends: tuple[str, ...]
    places: list[SearchedFolder]
    here: str | None
    host: Host

    @property
    def program(self) -> SearchedFolder | None:
        """The program that is run."""
        return next((one for one in self.places if one.runs), None)

    @property
    def refused(self) -> list[Why]:
        """What has the name and is not run: the last of them is what a shell takes, if it takes any."""
        return [one.why for one in self.places if one.why is not None and not one.runs]

    @property
    def caveats(self) -> list[Finding]:
        """What Fiat does not evaluate of what was found in each folder, each thing once."""
        found = [caveat for one in self.places if one.why is not None for caveat in one.why.caveats]
        return list(dict.fromkeys(found))


def by_name(host: Host, who: str | Principal, name: str, folders: str | None = None) -> ByName:
    """Which program a shell of ``who`` finds by ``name``, as POSIX.1-2017 XCU 2.9.1.1 says.

    ``folders`` are separated by colons, as in the variable PATH; by default those that
    login gives (:mod:`fiat.host.logins`).
    """
    if "/" in name or not name:
        raise NotationError(name, f"{quoted(name)} is no name to look for; fiat why WHO execute PATH asks about a path")
    principal = who_words.parse(who, host) if isinstance(who, str) else who
    listed, source, ends = (
        (tuple(folders.split(":")), "as given", ()) if folders is not None else _login(host, principal)
    )
    places = []
    for folder in listed:
        path = f"{folder.rstrip('/')}/{name}" if folder else f"{host.cwd().rstrip('/')}/{name}"
        places.append(_at(host, principal, path))
        if places[-1].takes:
            break
    return ByName(principal, name, listed, source, ends, places, _here(host, principal, name), host)


def _at(host: Host, principal: Principal, path: str) -> SearchedFolder:
    found = why(host, principal, "execute", path)
    end = found.route.end
    if end is None or end.posture.kind is not Kind.FILE or _out_of_sight(found, end):
        return SearchedFolder(path, None)
    takes = any(
        step.object is end and step.needs == EXECUTE.name and step.allowed and not step.runs_for and step.reason
        for step in found.verdict.steps
    )
    as_script = takes and found.verdict.errno == errno.ENOEXEC and why(host, principal, READ, path).verdict.allowed
    return SearchedFolder(
        path, found, takes, as_script and end.program is not None and end.program.problem in NO_FORMAT
    )


def _out_of_sight(found: Why, end: Object) -> bool:
    """Whether it is stopped on the way: then a shell cannot tell it from what is not there."""
    blocker = found.verdict.blocker
    stages = {stage.object.path for stage in found.route.stages}
    return blocker is not None and not blocker.runs_for and blocker.path in stages and blocker.path != end.path


def _here(host: Host, principal: Principal, name: str) -> str | None:
    path = f"{host.cwd().rstrip('/')}/{name}"
    end = walk(host, path).end
    if end is None or end.posture.directory or not why(host, principal, "execute", path).verdict.allowed:
        return None
    return path


def _login(host: Host, who: Principal) -> tuple[Folders, str, tuple[str, ...]]:
    """The folders that a login gives, where that is set, and what of it is not known."""
    account = account_of(who, host.accounts)
    login = host.logins().of(account) if account is not None else usual(root=superuser(who))
    return login.path, login.path_by, login.left_open("path")

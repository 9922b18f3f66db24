"""Which program somebody gets by its name: where a shell looks for it after login."""

from fiat.app.why import Why, why
from fiat.core.errors import NotationError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.principals import Principal
from fiat.core.rules.decision import superuser
from fiat.core.text import quoted
from fiat.core.tree.walk import walk
from fiat.core.typed import NamedTuple
from fiat.core.words import who as who_words

Folders = tuple[str, ...]


class Place(NamedTuple):
    """A folder that is looked through: the path of the name there, and why it may be run or not; None where it is not
    there, or cannot be found there by who looks."""

    path: str
    why: Why | None


class ByName(NamedTuple):
    """What ``who`` gets by ``name``.

    ``places`` are those that a shell looks at until it has found it. ``program`` is the one that is run, or None;
    ``here`` is the same name in the current directory, where it is a program that they may run.
    ``source`` says where the folders are from.
    """

    who: Principal
    name: str
    folders: Folders
    source: str
    places: list[Place]
    here: str | None
    host: Host

    @property
    def program(self) -> Why | None:
        """The program that is run."""
        return next((one.why for one in self.places if one.why is not None and one.why.verdict.allowed), None)

    @property
    def refused(self) -> list[Why]:
        """What has the name and may not be run."""
        return [one.why for one in self.places if one.why is not None and not one.why.verdict.allowed]

    @property
    def caveats(self) -> list[Finding]:
        """What was not evaluated."""
        found = [caveat for one in self.places if one.why is not None for caveat in one.why.caveats]
        return list(dict.fromkeys(found))


def by_name(host: Host, who: str, name: str, folders: str | None = None) -> ByName:
    """Which program a shell of ``who`` finds by ``name``, as POSIX.1-2017 XCU 2.9.1.1 says.

    ``folders`` are separated by colons, as in the variable PATH; by default those that
    login gives (login.defs(5), ENV_PATH and ENV_SUPATH).
    """
    if "/" in name or not name:
        raise NotationError(name, f"{quoted(name)} is no name to look for; fiat why WHO execute PATH asks about a path")
    principal = who_words.parse(who, host)
    seen = host.seen_by(principal)
    listed, source = (tuple(folders.split(":")), "as given") if folders is not None else _login(host, principal)
    places = []
    for folder in listed:
        path = f"{folder.rstrip('/') or ''}/{name}" if folder else f"{host.here().rstrip('/')}/{name}"
        end = walk(seen, path).end
        found = None if end is None or end.posture.directory else why(host, principal, "execute", path)
        if found is not None and not found.verdict.allowed and _out_of_sight(found):
            found = None
        places.append(Place(path, found))
        if found is not None and found.verdict.allowed:
            break
    return ByName(principal, name, listed, source, places, _here(host, principal, name), host)


def _out_of_sight(found: Why) -> bool:
    """Whether it is stopped on the way: then a shell cannot tell it from what is not there."""
    blocker = found.verdict.blocker
    return blocker is not None and found.route.end is not None and blocker.path != found.route.end.path


def _here(host: Host, principal: Principal, name: str) -> str | None:
    path = f"{host.here().rstrip('/')}/{name}"
    end = walk(host, path).end
    if end is None or end.posture.directory or not why(host, principal, "execute", path).verdict.allowed:
        return None
    return path


def _login(host: Host, who: Principal) -> tuple[Folders, str]:
    """The folders that a login gives, and where that is set."""
    key = "ENV_SUPATH" if superuser(who) else "ENV_PATH"
    listed = host.login_settings().get(key, "").removeprefix("PATH=")
    if listed:
        return tuple(listed.split(":")), f"{key} of login.defs"
    return _USUAL_OF_ROOT if superuser(who) else _USUAL, "what is usual, for this host says nothing of it"


_USUAL = ("/usr/local/bin", "/usr/bin", "/bin")
_USUAL_OF_ROOT = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")

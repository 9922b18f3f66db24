"""The rules of elevation of a host, and what is known of the programs that they speak of."""

from __future__ import annotations

import re
from functools import cached_property
from typing import TYPE_CHECKING, Any

from fiat.core.audit.evidence import Evidence, StartedFile
from fiat.core.errors import ElevationError, PathError
from fiat.core.model.elevation import Elevations
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.posture import Format, Kind
from fiat.core.rules.elevation import Grant
from fiat.core.rules.elevation import Matcher as Matcher
from fiat.core.text import quoted, several, visible
from fiat.core.words.elevations import LARGEST_FILE, parse_elevations

if TYPE_CHECKING:
    from fiat.core.ask.acting import ActingAnswer


def elevations_of(host: Host, file: str | None = None) -> Elevations:
    """The rules in ``file``, or those of the host: of a snapshot what it holds.

    Raises :class:`ElevationError` where there are none to be had.
    """
    from fiat.host.image.host import ImageHost
    from fiat.host.live.host import LiveHost

    if file is not None:
        return elevations_in(file)._replace(host=host.name, addresses=_addresses(host))
    if isinstance(host, LiveHost) and host.accounts.view is not None:
        raise ElevationError("the rules here are those of the host, not of the container; --elevation FILE has its own")
    if isinstance(host, LiveHost):
        from fiat.host.elevation import rules_of_this_host

        return rules_of_this_host()
    kept = host.elevations if isinstance(host, ImageHost) else None
    if kept is None:
        raise ElevationError(f"the snapshot of {visible(host.name)} holds no rules of elevation; --elevation FILE has")
    return kept._replace(host=host.name)


def elevations_in(file: str) -> Elevations:
    """The rules in a file; :class:`ElevationError`, or :class:`PathError` where it cannot be read."""
    from fiat.app.trust import FREE

    text = FREE.read(file, "the rules of elevation", LARGEST_FILE).decode("utf-8", "surrogateescape")
    return parse_elevations(text, quoted(file))


def _addresses(host: Host) -> tuple[str, ...] | None:
    from fiat.host.live.host import LiveHost

    if not isinstance(host, LiveHost):
        return None
    from fiat.host.elevation import addresses

    return tuple(addresses())


_RUNS_WHAT_IT_IS_GIVEN = re.compile(
    r"(?P<shell>(ba|da|z|k|mk|fi|tc|c|a|r?ba)?sh)|(?P<interpreter>python[\d.]*|perl[\d.]*|ruby[\d.]*|lua[\d.]*|"
    r"node(js)?|php[\d.]*|tclsh[\d.]*|expect|[gm]?awk|guile|env)|(?P<editor>vim?(\.\w+)?|view|r?nano|emacs.*|ed|red|ex|joe|mcedit)"
)
_STARTS_OTHERS = re.compile(rb"\0(system|popen|exec[lv]p?e?|execveat|posix_spawnp?)\0")
"""What a program calls that starts others (exec(3), system(3), posix_spawn(3)), among the names that it takes from
libraries (elf(5))."""

_LOOKED_AT = 16 << 20


def runs_others(host: Host, command: str) -> str:
    """What makes a command more than it looks like, such as that it runs what it is given; empty if nothing does.

    By what the program is: where its links end, what it is the same file as, what it begins with and calls. Raises
    nothing: of what is not there nothing is said.
    """
    from fiat.core.tree.walk import walk

    path = command.partition(" ")[0]
    if path.endswith("/"):
        return "whatever lies there"
    if any(char in path for char in "*?["):
        return "whatever is called so"
    if not path.startswith("/"):
        return ""
    try:
        end = walk(host, path).end
    except PathError:
        return ""
    if end is None or end.posture.kind is not Kind.FILE:
        return "which is not there" if end is None else ""
    identity = end.status.identity
    names = [path, end.path]
    for folder in ("/bin", "/usr/bin"):
        for name in ("sh", "bash", "dash", "vi", "python3", "perl"):
            try:
                other = walk(host, f"{folder}/{name}").end
            except PathError:
                continue
            if other is not None and other.status.identity.same_as(identity):
                names.append(f"{folder}/{name}")
    for name in names:
        match = _RUNS_WHAT_IT_IS_GIVEN.fullmatch(name.rpartition("/")[2])
        if match is not None:
            what = next(kind for kind, found in match.groupdict().items() if found)
            return f"{'an' if what[0] in 'ei' else 'a'} {what}, which runs what it is given"
    program = end.program
    if program is not None and program.format is Format.SCRIPT:
        return ""
    start = _beginning(host, end.path)
    if start is not None and start.startswith(b"\x7fELF") and _STARTS_OTHERS.search(start):
        return "which can start other programs"
    return ""


def _beginning(host: Host, path: str) -> bytes | None:
    from fiat.core.tree.walk import Handles

    handles = Handles(host)
    try:
        node = handles.open(path)
        try:
            return node.beginning(_LOOKED_AT)
        finally:
            node.close()
    except OSError:
        return None
    finally:
        handles.close()


def run_as_others(matcher: Matcher) -> tuple[StartedFile, ...]:
    """The commands that users may run as another account, by path: what they are decides what that account does."""
    users: dict[tuple[str, int, bool], dict[str, None]] = {}
    for user in matcher.anybody():
        for target, group in matcher.targets(user):
            grant = matcher.grant(user, target, group)
            for command in grant.commands if grant is not None and target.uid != user.uid else ():
                path = command.partition(" ")[0]
                if path.startswith("/") and not any(char in path for char in "*?["):
                    users.setdefault((path.rstrip("/"), target.uid, path.endswith("/")), {})[user.name] = None
    return tuple(
        StartedFile(path, uid, f"{several([*names], 'users', 3)} may run it so", folder=folder)
        for (path, uid, folder), names in users.items()
    )


class WithElevations:
    """Evidence with what users may run as another account, by the rules of elevation."""

    def __init__(self, evidence: Evidence, matcher: Matcher) -> None:
        self._evidence = evidence
        self._matcher = matcher

    def __getattr__(self, name: str) -> Any:
        """Whatever else is asked of the evidence."""
        return getattr(self._evidence, name)

    def started(self) -> tuple[StartedFile, ...] | None:
        """What is started, and what users may run as another account."""
        started = self._evidence.started()
        return (*(started or ()), *self._run) if started is not None or self._run else None

    @cached_property
    def _run(self) -> tuple[StartedFile, ...]:
        return run_as_others(self._matcher)


def caveats_of_acting(host: Host, found: ActingAnswer) -> list[Finding]:
    """What is to be known of the commands by which people act as others."""
    grants = [grant for ways in found.acting.values() for one in ways for grant in one.grants]
    return caveats_of(host, found.matcher.elevations, grants)


def caveats_of(host: Host, elevations: Elevations, grants: list[Grant]) -> list[Finding]:
    """What is not evaluated of the rules, and which of the commands do more than they look like."""
    found = [
        Finding("elevation-unread", "odd", f"not read: {what}, by which others may act as somebody else")
        for what in elevations.unread
    ]
    if any(not one.surely for one in grants):
        text = "words in these rules that are not evaluated here (netgroups, addresses) would decide for some"
        found.append(Finding("elevation-unsure", "odd", text))
    commands = dict.fromkeys(command for one in grants if not one.any_command for command in one.commands)
    for command in commands:
        told = runs_others(host, command)
        if told:
            text = f"{visible(command)} is {told}" if not told.startswith("wh") else f"{visible(command)}: {told}"
            gives = "" if told == "which is not there" else "; so it may do whatever one likes, as that account"
            found.append(Finding("command-runs-others", "odd", text + gives))
    return found

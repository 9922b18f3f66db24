"""Capturing: everything that the questions need of some trees of a host, to be kept.

That is the trees themselves, the routes to them, what their programs are run
with, the mounts of all these, the accounts and the settings.
"""

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

import numpy as np

from fiat.core.ask.who import Owned
from fiat.core.change.privilege import Digests
from fiat.core.errors import PathError
from fiat.core.model.accounts import Accounts, Group, Unknown, User
from fiat.core.model.host import Host, Progress, Settings, no_progress
from fiat.core.model.posture import Format, Mount, Object
from fiat.core.model.route import Route, lies_under
from fiat.core.model.view import View
from fiat.core.rules.privilege import is_privileged
from fiat.core.tree.distinct import distinct_columns
from fiat.core.tree.reading import surveys_at
from fiat.core.tree.survey import Survey
from fiat.core.tree.walk import USUAL_FOLDERS, Extent, Handles, Trouble, interpreter_of, open_end, walk


class CapturedPeople(NamedTuple):
    """The accounts of a host as they are kept.

    ``logins`` holds, by the name of a user, the numbers of every group that a login gives, where these are not
    what ``users`` and ``groups`` say: the name service may know memberships that it does not list. ``unknown`` is what
    its sources did not tell, ``unsure`` are the names of those whose groups they did not. ``view`` is how a container
    sees the host, where they are those of one.
    """

    users: tuple[User, ...]
    groups: tuple[Group, ...]
    logins: dict[str, tuple[int, ...]]
    first_person: int
    unknown: tuple[Unknown, ...] = ()
    unsure: tuple[str, ...] = ()
    view: View | None = None


class FileDigest(NamedTuple):
    """SHA-256, in hexadecimal, of what the privileged file at ``path`` holds."""

    path: str
    sha256: str


class Capture(NamedTuple):
    """What is kept of a host.

    ``trees`` stand in the order of their paths; none of them is in another, but
    for what that one leaves out. ``objects`` are what stands beside them, on
    the routes: parents first; ``troubles`` are names there that lead nowhere, or
    could not be looked at. ``across_mounts`` tells how the trees were read. ``digests`` are those of privileged
    files in the trees: on what they hold now a restore gives their privilege back, and on nothing else.
    """

    host: str
    settings: Settings
    people: CapturedPeople
    mounts: tuple[Mount, ...]
    objects: tuple[Object, ...]
    troubles: tuple[Trouble, ...]
    trees: tuple[Survey, ...]
    across_mounts: bool
    digests: tuple[FileDigest, ...] = ()

    @property
    def complete(self) -> bool:
        """Whether all of the trees was read."""
        return all(tree.complete for tree in self.trees)

    @property
    def entries(self) -> int:
        """How many objects the trees hold."""
        return sum(map(len, self.trees))


def capture(
    host: Host,
    paths: Iterable[str],
    *,
    across_mounts: bool = False,
    problem: Callable[[PathError], None],
    progress: Progress = no_progress,
) -> Capture:
    """What there is to be kept of the trees at ``paths``; a path that leads nowhere is a ``problem``."""
    routes: list[Route] = []
    read: list[Survey] = []
    extent = Extent(across_mounts=across_mounts, details=True)
    for route, survey in surveys_at(host, paths, extent, problem, progress):
        routes.append(route)
        read.append(survey)
    trees = outermost(read)
    routes += _run_with(host, trees)
    objects = _beside(host, routes, trees)
    failed = dict.fromkeys(Trouble(one.failed_at, one.errno) for one in routes if one.end is None)
    rests = [rest for tree in trees for rest in tree.profiles.rests]
    known = (*(one.mount for one in objects), *(rest.mount for rest in rests), *(tree.top.mount for tree in trees))
    mounts = dict.fromkeys(mount for mount in known if mount is not None)
    return Capture(
        host=host.name,
        settings=host.settings,
        people=_people(host.accounts, trees, objects),
        mounts=tuple(mounts),
        objects=tuple(objects),
        troubles=tuple(one for one in failed if not any(_holds(tree, one.path) for tree in trees)),
        trees=tuple(trees),
        across_mounts=across_mounts,
        digests=tuple(_digests(host, trees)),
    )


def _digests(host: Host, trees: Iterable[Survey]) -> Iterator[FileDigest]:
    """Those of the privileged files in the trees, as far as they can be had."""
    digests, handles = Digests(), Handles(host)
    try:
        for tree in trees:
            profiles = tree.profiles
            first, like = distinct_columns(profiles.columns.mode, profiles.columns.rest)  # all that it hangs on
            privileged = np.array([is_privileged(profiles[one].posture) for one in first.tolist()], np.bool_)[like]
            for place, path in tree.paths_of(np.flatnonzero(privileged[tree.profile]).tolist()):
                digest = digests.at(handles, path, tree.identity(place))
                if digest:
                    yield FileDigest(path, digest)
    finally:
        handles.close()


def outermost(surveys: Iterable[Survey]) -> list[Survey]:
    """The trees that are not in another one of them."""
    kept: list[Survey] = []
    for survey in sorted(surveys, key=lambda one: one.top.path):
        if not any(_holds(one, survey.top.path) for one in kept):
            kept.append(survey)
    return kept


def _holds(tree: Survey, path: str) -> bool:
    """Whether what is at ``path`` was read with the tree; of a mount point that was left out, its entry was."""
    if path in tree.skipped:
        return False
    return lies_under(path, tree.top.path) and not any(lies_under(path, point) for point in tree.skipped)


def _run_with(host: Host, trees: Iterable[Survey]) -> Iterator[Route]:
    """The routes to what programs in the trees are run with, and to what these are run with."""
    programs = dict.fromkeys(rest.program for tree in trees for rest in tree.profiles.rests if rest.program is not None)
    for program in programs:
        if program.format is Format.SCRIPT and program.hangs_on:
            asked = program.hangs_on
            looked_for = [asked] if asked.startswith("/") else [f"{folder}/{asked}" for folder in USUAL_FOLDERS]
            yield from (walk(host, path) for path in looked_for)
        route = interpreter_of(host, program)
        while route is not None:
            yield route
            route = route.interpreter


def _beside(host: Host, routes: Iterable[Route], trees: list[Survey]) -> list[Object]:
    """What is walked on the routes, and their ends, but for what the trees hold; each once, as it is found again."""
    found: dict[str, Object] = {}
    for route in routes:
        for one in route.objects:
            if one.path in found or any(_holds(tree, one.path) for tree in trees):
                continue
            found[one.path] = _exact(host, one)
    return [found[path] for path in sorted(found, key=lambda path: path.split("/"))]


def _exact(host: Host, one: Object) -> Object:
    """The same object with its birth, if it is still where it was."""
    _, node = open_end(host, one.path, follow=False)
    if node is None:
        return one
    try:
        again = node.look(exact=True)
    finally:
        node.close()
    return again._replace(program=one.program) if again.status.identity.same_as(one.status.identity) else one


def _people(accounts: Accounts, trees: list[Survey], objects: list[Object]) -> CapturedPeople:
    """The accounts, those that only an owner's number or an entry leads to as well."""
    uids: set[int] = set()
    gids: set[int] = set()
    owned: list[Owned] = [*(tree.profiles for tree in trees), *(found.posture for found in objects)]
    for one in owned:
        owning, sharing = one.owners()
        uids |= owning
        gids |= sharing
    users = dict.fromkeys(accounts.all_users())
    users |= dict.fromkeys(user for uid in sorted(uids) for user in accounts.users_numbered(uid))
    users |= dict.fromkeys(user for gid in sorted(gids) for user in accounts.listed_members(gid))
    told = zip(users, accounts.gids_of_each([*users]), strict=True)
    logins = {user.name: groups for user, groups in told}
    gids |= {gid for theirs in logins.values() for gid in theirs}
    groups = dict.fromkeys(accounts.groups)
    groups |= dict.fromkeys(group for gid in sorted(gids) if (group := accounts.group_numbered(gid)) is not None)
    listed = Accounts(users, groups, "")
    others = {user.name: logins[user.name] for user in users if listed.gids_of(user) != logins[user.name]}
    unsure = tuple(user.name for user in users if accounts.unsure(user))
    view = accounts.view
    if view is not None:
        numbers = sorted({*uids, *(user.uid for user in users)})
        here = dict.fromkeys(one for uid in numbers for one in accounts.same_people(uid))
        view = view._replace(people=tuple(here))
    return CapturedPeople(tuple(users), tuple(groups), others, accounts.first_person, accounts.unknown, unsure, view)

"""Comparing: two snapshots, one and this host as it is, or a folder of snapshots at some time."""

import copy
import errno
import os
from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

from fiat.app.hosts import open_host
from fiat.app.problems import Problem, raise_problem
from fiat.app.times import parse_time
from fiat.app.trust import FREE, Trust
from fiat.core.ask.treeeffects import View
from fiat.core.errors import Interrupted, PathError, SnapshotError
from fiat.core.model.accounts import Accounts, SupplementedAccounts
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.route import lies_under
from fiat.core.state.comparison import Comparison, NameComparison, compare, compare_by_name
from fiat.core.text import joined, quoted, shell_word
from fiat.core.tree.reading import survey_at
from fiat.core.tree.walk import Extent, absolute
from fiat.core.words.selection import Selection
from fiat.demo import sample
from fiat.host.image.host import ImageHost
from fiat.host.live.host import LiveHost
from fiat.host.snapshot import folder
from fiat.host.snapshot.host import SnapshotHost

LIVE = "live"
"""The word for this host as it is now."""


class ComparedState(NamedTuple):
    """A host at one time: the word for it, the file it is held in, and when it was taken (ISO 8601).

    ``at`` is the time by which it was chosen in a folder, as written.
    """

    word: str
    host: Host
    path: str | None
    taken: str | None
    at: str | None = None

    @property
    def tops(self) -> tuple[str, ...] | None:
        """The trees that it holds; None for this host, which holds all there is."""
        if isinstance(self.host, SnapshotHost):
            return self.host.held.tops
        return ("/",) if isinstance(self.host, ImageHost) else None

    @property
    def across_mounts(self) -> bool:
        """Whether it holds what is mounted in its trees."""
        return self.host.held.across_mounts if isinstance(self.host, SnapshotHost) else True


def open_state(
    word: str,
    at: str | None = None,
    *,
    accounts: str | None = None,
    incomplete: bool = False,
    trust: Trust = FREE,
    accounts_timeout: float | None = None,
) -> ComparedState:
    """What ``word`` means: :data:`LIVE`, a snapshot, or a folder of them, of which the last one ``at`` that time.

    Raises :class:`SnapshotError`, :class:`NotationError` where ``at`` is no time, and
    :class:`fiat.core.errors.UntrustedFile` where others can have written what is to be followed.
    """
    if word == LIVE:
        return ComparedState(word, open_host(None, accounts, accounts_timeout=accounts_timeout), None, None)
    path = word
    if os.path.isdir(word):
        path = os.path.join(word, _chosen(word, at))
    elif at is not None:
        raise SnapshotError(f"{quoted(word)} is no folder of snapshots: --at chooses among those in one")
    real = path
    if path not in sample.SNAPSHOTS and word not in trust.files:
        try:
            real = trust.real(path, "the snapshot")
        except PathError as error:
            raise SnapshotError(f"cannot read the snapshot {quoted(path)}: {os.strerror(error.errno)}") from error
    found = open_host(real, accounts, incomplete=incomplete)
    return ComparedState(word, found, path, found.taken if isinstance(found, ImageHost) else None, at)


def _chosen(place: str, at: str | None) -> str:
    """The name of the last snapshot in a folder, up to the time ``at``."""
    now = datetime.now().astimezone()
    wanted = None if at is None else parse_time(at, now)
    try:
        known = folder.kept_in(place)
    except OSError as error:
        raise SnapshotError(f"cannot list the folder {quoted(place)}: {error.strerror}") from error
    if not known:
        puts = f"fiat save PATH --add {shell_word(place)} puts one there"
        two = "two directories are compared by the names in them"
        raise SnapshotError(f"there is no snapshot in {quoted(place)}; {puts}; {two}")
    before = [one for one in known if wanted is None or one.taken <= wanted]
    if not before:
        first, asked = (f"{one.astimezone():%Y-%m-%d %H:%M}" for one in (known[0].taken, wanted or now))
        raise SnapshotError(f"nothing in {quoted(place)} is as old as {asked}: the first snapshot is of {first}")
    return before[-1].name


def compared(
    before: ComparedState,
    after: ComparedState,
    paths: Sequence[str] = (),
    selection: Selection = Selection(),  # noqa: B008
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Comparison | None:
    """Compare what both states hold, or ``paths`` of it; None where no path is right.

    Raises :class:`SnapshotError` where the two have nothing in common.
    """
    before, after = _told_alike(before, after), _told_alike(after, before)
    trees = comparable(before, after, paths, problem=problem, progress=progress)
    if not trees:
        return None
    taking = None if selection.everything else selection.on(after.host.accounts)
    return compare(before.host, after.host, trees, taking)


def _told_alike(state: ComparedState, other: ComparedState) -> ComparedState:
    """A state with the accounts that the other one has, where not every source of its own told: who is not known is
    not gone."""
    accounts = state.host.accounts
    accounts.gids_of_each(accounts.all_users())
    if not any(one.kind in ("failed", "unlisted") for one in accounts.unknown):
        return state
    return state._replace(host=_with_accounts(state.host, SupplementedAccounts(accounts, other.host.accounts)))


def _with_accounts(host: Host, accounts: Accounts) -> Host:
    if not isinstance(host, ImageHost):
        return LiveHost(accounts)
    found = copy.copy(host)
    found.accounts = accounts
    return found


def are_trees(one: str, other: str) -> bool:
    """Whether both words mean directories of this host, and not folders that snapshots are kept in.

    Raises :class:`PathError` for a word that is nothing where the other one is such a directory.
    """
    for word, beside in ((one, other), (other, one)):
        known = word == LIVE or word in sample.SNAPSHOTS or os.path.lexists(word)
        if not known and os.path.isdir(beside) and not _keeps_snapshots(beside):
            raise PathError(word, errno.ENOENT)
    return all(os.path.isdir(word) and not _keeps_snapshots(word) for word in (one, other))


def _keeps_snapshots(place: str) -> bool:
    try:
        return bool(folder.kept_in(place))
    except OSError:
        return False


def trees_compared(
    host: Host,
    one: str,
    other: str,
    selection: Selection = Selection(),  # noqa: B008
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> NameComparison:
    """Two directories of one host, compared by the names under them. Raises :class:`PathError`."""
    views = [View(*survey_at(host, path, Extent(details=True), progress)) for path in (one, other)]
    for survey in (view.survey for view in views):
        if not survey.complete:
            raise Interrupted(survey.top.path)
        for trouble in survey.troubles:
            problem(PathError(trouble.path, trouble.errno))
    taking = None if selection.everything else selection.on(host.accounts)
    return compare_by_name(host, views[0], views[1], taking)


def comparable(
    before: ComparedState, after: ComparedState, paths: Sequence[str], *, problem: Problem, progress: Progress
) -> list[tuple[View, View]]:
    """The trees that both hold, or ``paths`` of them, read on either side; nothing where reading was stopped."""
    across = before.across_mounts and after.across_mounts
    trees: list[tuple[View, View]] = []
    for path in trees_of(before, after, paths):
        if not path:  # not everything: a variable of a script that was never set
            problem(PathError(path, errno.ENOENT))
            continue
        try:
            views = [
                View(*survey_at(state.host, path, Extent(across_mounts=across, details=True), progress))
                for state in (before, after)
            ]
        except PathError as error:
            problem(error)
            continue
        for survey in (view.survey for view in views):
            if not survey.complete:
                problem(Interrupted(survey.top.path))
                return []
        for trouble in sorted({one for view in views for one in view.survey.troubles}):
            problem(PathError(trouble.path, trouble.errno))
        trees.append((views[0], views[1]))
    return trees


def trees_of(before: ComparedState, after: ComparedState, paths: Sequence[str] = ()) -> Sequence[str]:
    """The ``paths``, absolute, or where there are none the tops of the trees that both hold.

    Raises SnapshotError where they hold none. A relative path starts from where
    the command was typed if this host is one of the two.
    """
    if paths:
        host = before.host if before.path is None else after.host
        return [absolute(host, path) if path else path for path in paths]
    tops = [state.tops for state in (before, after)]
    known = [one for one in tops if one is not None]
    if not known:
        raise SnapshotError(f"both are this host as it is: write what to compare {quoted(LIVE)} with, a snapshot")
    if len(known) == 1:
        return known[0]
    one, other = known
    found = [top for top in one if any(lies_under(top, upper) for upper in other)]
    found += [top for top in other if top not in found and any(lies_under(top, upper) for upper in one)]
    if not found:
        have = (joined(map(quoted, tops)) for tops in known)
        raise SnapshotError(f"the two have no tree in common: one holds {next(have)}, the other {next(have)}")
    return found

"""As if an account did not exist: what it leaves behind."""

from collections.abc import Sequence
from typing import NamedTuple

from fiat.app.account import Membership, UserAccount, user_account
from fiat.app.audit import evidence_of
from fiat.app.problems import Note, Problem, raise_problem
from fiat.core.audit.evidence import StartedFile
from fiat.core.errors import PathError
from fiat.core.model.host import Host, Progress, no_progress
from fiat.host.live.running import processes


class Left(NamedTuple):
    """What an account leaves behind that is gone: all that it has to do with (``account``), memberships of groups that
    nobody is in then (``emptied``), what is ``started`` as it (None where that was not looked at), and the numbers of
    its running ``processes``.
    """

    account: UserAccount
    emptied: tuple[Membership, ...]
    started: tuple[StartedFile, ...] | None
    processes: tuple[int, ...]


def if_gone(
    host: Host,
    name: str,
    paths: Sequence[str],
    *,
    held: bool = False,
    across_mounts: bool = False,
    problem: Problem = raise_problem,
    note: Note = lambda findings: None,
    progress: Progress = no_progress,
) -> Left:
    """What the account called ``name`` would leave at and under ``paths``, and on the host.

    Raises :class:`fiat.core.errors.UnknownAccount`.
    """
    found = user_account(
        host,
        name,
        paths,
        held=held,
        across_mounts=across_mounts,
        problem=problem,
        note=note,
        progress=progress,
    )
    user, accounts = found.user, host.accounts
    emptied = [one for one in found.memberships if one.group is not None and accounts.member_count(one.gid) == 1]
    evidence = evidence_of(host)
    started = evidence.started()
    for trouble in evidence.unread():
        problem(PathError(trouble.path, trouble.errno))
    return Left(
        found,
        tuple(emptied),
        None if started is None else tuple(one for one in started if one.uid == user.uid),
        () if held else tuple(one.pid for one in processes() if one.uid == user.uid),
    )

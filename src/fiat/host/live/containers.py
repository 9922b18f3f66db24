"""A host as the processes of one container see it: their mounts, root directory, numbers and account files.

user_namespaces(7), mount_namespaces(7), capabilities(7). Its files are read by handles from its own root directory, so
that no link in them leads into Fiat's tree; what they hold is whatever somebody wrote there.
"""

import errno
import os

from fiat.core.errors import UnknownAccount
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind
from fiat.core.model.seenaccounts import seen_accounts
from fiat.core.model.view import View
from fiat.core.text import joined, visible
from fiat.core.tree.walk import open_end
from fiat.core.words.accountfiles import expect_few_of_a_name
from fiat.host.accounts.files import groups_in, users_in
from fiat.host.live.processes import Process

_LARGEST = 16 * 1024 * 1024
"""Bytes of an account file: who is in a container writes to it what they like."""


def accounts_seen_by(process: Process, seen: Host, here: Accounts) -> Accounts:
    """The accounts that a process finds in the files of the host as it is ``seen`` by it, by their numbers here, beside
    the accounts of ``here``.

    Raises :class:`UnknownAccount` where it may not be looked into, or its account files cannot be read.
    """
    who = process.principal
    pid, limits = who.pid or 0, who.limits
    if limits is not None and limits.hidden:
        raise UnknownAccount(
            f"pid:{pid}", f"the {joined(limits.hidden)} of process {pid} may not be looked into; root may"
        )
    called = f"process {pid} ({visible(process.command)})"
    view = View(
        called,
        process.numbers,
        capabilities.ALL if limits is None else limits.bounding & capabilities.ALL,
        limits is not None and limits.no_new_privileges,
    )
    source = f"the account files that {called} sees"
    users = list(users_in(_text(seen, pid, "/etc/passwd")))
    expect_few_of_a_name(users, source)
    groups = groups_in(_text(seen, pid, "/etc/group"))
    return seen_accounts(users, groups, source, view, here)


def _text(seen: Host, pid: int, path: str) -> str:
    """What an account file holds, as the process sees it; nothing where there is none."""
    route, node = open_end(seen, path)
    if node is None:
        if route.errno in (errno.ENOENT, errno.ENOTDIR):
            return ""
        problem = os.strerror(route.errno)
        raise UnknownAccount(f"pid:{pid}", f"{path}, as process {pid} sees it, cannot be read: {problem}")
    try:
        if route.end is None or route.end.posture.kind is not Kind.FILE:
            raise UnknownAccount(f"pid:{pid}", f"{path}, as process {pid} sees it, is no regular file")
        found = node.beginning(_LARGEST + 1) or b""
    except OSError as error:
        raise UnknownAccount(
            f"pid:{pid}", f"{path}, as process {pid} sees it, cannot be read: {error.strerror}"
        ) from error
    finally:
        node.close()
    if len(found) > _LARGEST:
        raise UnknownAccount(f"pid:{pid}", f"{path}, as process {pid} sees it, has more than {_LARGEST >> 20} MiB")
    return found.decode("utf-8", "surrogateescape")

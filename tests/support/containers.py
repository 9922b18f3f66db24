"""Containers for tests: a process with mounts, a root directory, numbers and account files of its own."""

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import NamedTuple

from fiat.core.model import capabilities
from fiat.core.model.principals import Principal
from support import kernel
from support.filesystems import fresh
from support.kernel import MapIds, Subject

FIRST = 300_000
"""The number here of its user 0, where it has a user namespace of its own."""

COUNT = 2_000

PASSWD = """\
root:x:0:0:root:/root:/bin/sh
svc:x:101:101::/:/usr/sbin/nologin
web:x:1001:1001::/home/web:/bin/sh
again:x:1001:101::/home/again:/bin/sh
beyond:x:9999:9999::/:/bin/sh
"""
GROUP = """\
root:x:0:
svc:x:101:
web:x:1001:
team:x:1500:svc,web
"""

POWERS = capabilities.DAC_OVERRIDE | capabilities.CHOWN
"""What the root of a container without a user namespace of its own may have."""


class Container(NamedTuple):
    """One that runs: ``top`` is its root directory as the host sees it, ``subject`` a process that can try in it."""

    top: str
    subject: Subject
    own_numbers: bool

    @property
    def pid(self) -> int:
        """The number of its process."""
        return self.subject.pid

    def here(self, number: int) -> int:
        """What one of its numbers is on the host."""
        return FIRST + number if self.own_numbers else number


def entered(
    top: str, numbers: tuple[int, int, int] | None, who: Principal | None = None, twice: str = ""
) -> Callable[[MapIds], None]:
    """What a process does to be in a container whose root directory is ``top``, as root there or as ``who``.

    ``numbers`` are those that its user 0 and its group 0 have here, and how many there are; None for the host's own. A
    part of it may be mounted at another place, too, to be read only.
    """

    def enter(map_ids: MapIds) -> None:
        kernel.unshare(kernel.NEW_MOUNTS)
        if twice:
            kernel.bind(f"{top}/srv", twice, kernel.READ_ONLY)
        if numbers is not None:
            users, groups, count = numbers
            kernel.unshare(kernel.NEW_USERS)
            map_ids(f"0 {users} {count}", f"0 {groups} {count}")
            kernel.become(Principal("user", None, 0, frozenset({0})))
        else:
            kernel.bound_capabilities(POWERS | kernel.SETTING)
        os.chroot(top)
        os.chdir("/")
        if numbers is None:
            kernel.keep_capabilities(POWERS | kernel.SETTING, 0)
        if who is not None:
            kernel.become(who)

    return enter


@contextmanager
def a_container(*, own_numbers: bool, passwd: str = PASSWD, group: str = GROUP) -> Iterator[Container]:
    """A container with a tree of files, of its own people and of the host's; a part of it is mounted twice."""
    with fresh("here") as top:
        first = FIRST if own_numbers else 0
        for name in ("etc", "srv", "srv/data", "mnt", "shut"):
            os.mkdir(f"{top}/{name}")
            os.chmod(f"{top}/{name}", 0o755)
            os.chown(f"{top}/{name}", first, first)
        for name, text in (("passwd", passwd), ("group", group)):
            with open(f"{top}/etc/{name}", "w") as file:
                file.write(text)
        for name, uid, gid, mode in (
            ("srv/data/own", first + 101, first + 101, 0o640),
            ("srv/data/team", first + 1001, first + 1500, 0o660),
            ("srv/data/hosts", 0, 0, 0o600),
            ("srv/data/open", 0, 0, 0o644),
            ("srv/data/beyond", 9_999_999, 9_999_999, 0o606),
        ):
            with open(f"{top}/{name}", "w") as file:
                file.write("x\n")
            os.chown(f"{top}/{name}", uid, gid)
            os.chmod(f"{top}/{name}", mode)
        os.chown(f"{top}/srv/data", first + 1001, first + 1500)
        os.chmod(f"{top}/srv/data", 0o2775)
        os.chmod(f"{top}/shut", 0o700)

        enter = entered(top, (FIRST, FIRST, COUNT) if own_numbers else None, twice=f"{top}/mnt")
        with Subject(enter) as subject:
            yield Container(top, subject, own_numbers)

"""A directory server with made-up people, and a machine whose name service asks it.

It is the distribution's own: slapd on loopback, its daemon and module for the name service. They are taken from the
unpacked packages in FIAT_TEST_PROGRAMS, or from where they are installed. Nothing of the real machine changes: who
asks, asks in a mount namespace with an /etc and a /run of its own.

To look around in such a machine: ``python -m support.directory`` in tests/, as root, gives a shell there.
"""

import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from fiat.core.model.accounts import Group, User
from support import kernel

BASE = "dc=skerry,dc=example"

_PROGRAMS = os.environ.get("FIAT_TEST_PROGRAMS", "/nowhere")
_ARCHITECTURE = f"{os.uname().machine}-linux-gnu"


def _first(*paths: str) -> str | None:
    return next((path for path in paths if os.path.exists(path)), None)


SLAPD = _first(f"{_PROGRAMS}/usr/sbin/slapd", "/usr/sbin/slapd")
NSLCD = _first(f"{_PROGRAMS}/usr/sbin/nslcd", "/usr/sbin/nslcd")
SLAPADD = _first(f"{_PROGRAMS}/usr/sbin/slapadd", "/usr/sbin/slapadd")
LIBRARIES = ":".join(f"{_PROGRAMS}{folder}/{_ARCHITECTURE}" for folder in ("/usr/lib", "/lib"))
AT_HAND = None not in (SLAPD, NSLCD, SLAPADD)


class Entry(NamedTuple):
    """A group of the directory: its members by name, and the groups that are in it."""

    name: str
    gid: int
    members: Sequence[str] = ()
    within: Sequence[str] = ()


def _ldif(users: Iterable[User], groups: Iterable[Entry]) -> Iterator[str]:
    yield f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: skerry\ndc: skerry\n"
    for unit in ("people", "groups"):
        yield f"dn: ou={unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit}\n"
    for user in users:
        yield (
            f"dn: uid={user.name},ou=people,{BASE}\nobjectClass: account\nobjectClass: posixAccount\n"
            f"uid: {user.name}\ncn: {user.name}\nuidNumber: {user.uid}\ngidNumber: {user.gid}\n"
            f"homeDirectory: {user.home or '/'}\nloginShell: {user.shell or '/bin/sh'}\n"
        )
    for group in groups:
        kinds = "objectClass: posixGroup\n"
        listed = "".join(f"memberUid: {name}\n" for name in group.members)
        # a group in a group: the module follows the distinguished names of the attribute "member"
        listed += "".join(f"member: cn={name},ou=groups,{BASE}\n" for name in group.within)
        yield f"dn: cn={group.name},ou=groups,{BASE}\n{kinds}cn: {group.name}\ngidNumber: {group.gid}\n{listed}"


_SCHEMA = """
attributetype ( 1.3.6.1.1.1.1.3 NAME 'homeDirectory' EQUALITY caseExactIA5Match
  SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.4 NAME 'loginShell' EQUALITY caseExactIA5Match
  SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.2 NAME 'gecos' EQUALITY caseIgnoreIA5Match
  SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.12 NAME 'memberUid' EQUALITY caseExactIA5Match
  SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 )
objectclass ( 1.3.6.1.1.1.2.0 NAME 'posixAccount' SUP top AUXILIARY
  MUST ( cn $ uid $ uidNumber $ gidNumber $ homeDirectory ) MAY ( userPassword $ loginShell $ gecos $ description ) )
objectclass ( 1.3.6.1.1.1.2.2 NAME 'posixGroup' SUP top STRUCTURAL
  MUST ( cn $ gidNumber ) MAY ( userPassword $ memberUid $ member $ description ) )
"""
"""RFC 2307, with the members by distinguished name of its successor: groups can be in groups."""


class Machine:
    """A machine that asks the directory: ``run`` and ``fiat`` are run on it."""

    def __init__(self, folder: str, port: int) -> None:
        self.folder = folder
        self.port = port
        self.server: subprocess.Popen[bytes] | None = None
        self.daemon: subprocess.Popen[bytes] | None = None
        self.environment = {"LD_LIBRARY_PATH": LIBRARIES}

    def enter(self) -> None:
        """Have this process, which is about to run something, see the machine's /etc and /run."""
        kernel.unshare(kernel.NEW_MOUNTS)
        kernel.bind(f"{self.folder}/etc", "/etc")
        kernel.bind(f"{self.folder}/run", "/run")

    def options(self) -> dict[str, Any]:
        """What has subprocess.run, or ``support.program.fiat``, run something on the machine."""
        return {"env": self.environment, "preexec_fn": self.enter}

    def python(self, text: str, *words: str) -> str:
        """What a Python program prints there."""
        done = subprocess.run(
            [sys.executable, "-c", text, *words],
            env={**os.environ, **self.environment},
            preexec_fn=self.enter,
            capture_output=True,
            text=True,
            check=True,
        )
        return done.stdout

    def start_server(self) -> None:
        """Have the server answer."""
        words = [str(SLAPD), "-f", f"{self.folder}/slapd.conf", "-h", f"ldap://127.0.0.1:{self.port}/", "-d", "0"]
        environment = {**os.environ, **self.environment}
        self.server = subprocess.Popen(words, env=environment, stderr=subprocess.DEVNULL)
        _wait_for(lambda: socket.create_connection(("127.0.0.1", self.port)).close())

    def stop_server(self) -> None:
        """Have the server gone, as where its machine is switched off."""
        if self.server is not None:
            self.server.kill()
            self.server.wait()
            self.server = None

    def start_daemon(self, port: int | None = None, *more: str) -> None:
        """Start the daemon that the name service's module asks; it asks the server, at ``port`` if not at its own."""
        Path(f"{self.folder}/etc/nslcd.conf").write_text(
            "\n".join(
                (
                    "uid 0",
                    "gid 0",
                    f"uri ldap://127.0.0.1:{port or self.port}/",
                    f"base {BASE}",
                    "nss_initgroups_ignoreusers root",
                    *more,
                    "",
                )
            )
        )
        os.chmod(f"{self.folder}/etc/nslcd.conf", 0o600)
        environment = {**os.environ, **self.environment}
        self.daemon = subprocess.Popen(
            [str(NSLCD), "-n"], env=environment, preexec_fn=self.enter, stderr=subprocess.DEVNULL
        )
        at = f"{self.folder}/run/nslcd/socket"

        def answers() -> None:
            with socket.socket(socket.AF_UNIX) as asks:
                asks.connect(at)

        _wait_for(answers)

    def stop_daemon(self) -> None:
        """Have the daemon gone."""
        if self.daemon is not None:
            self.daemon.terminate()
            self.daemon.wait()
            self.daemon = None
            with_socket = Path(f"{self.folder}/run/nslcd/socket")
            with_socket.unlink(missing_ok=True)

    @contextmanager
    def server_hangs(self) -> Iterator[None]:
        """Have the server take questions, and answer nothing."""
        assert self.server is not None
        self.server.send_signal(signal.SIGSTOP)
        try:
            yield
        finally:
            self.server.send_signal(signal.SIGCONT)


def _wait_for(done: Any) -> None:
    until = time.monotonic() + 30
    while True:
        try:
            done()
            return
        except OSError:
            if time.monotonic() > until:
                raise
            time.sleep(0.02)


def _free_port() -> int:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        port: int = taken.getsockname()[1]
        return port


@contextmanager
def machine(
    people: Iterable[User],
    groups: Iterable[Entry],
    local: tuple[Iterable[User], Iterable[Group]] = ((), ()),
    switch: str = "passwd: files ldap\ngroup: files ldap\n",
    *more: str,
) -> Iterator[Machine]:
    """A machine with ``local`` accounts, root's among them, whose name service asks a server that has the others.

    ``more`` are lines of nslcd.conf(5).
    """
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
        os.chmod(folder, 0o755)
        shutil.copytree("/etc", f"{folder}/etc", symlinks=True, ignore_dangling_symlinks=True)
        os.makedirs(f"{folder}/run/nslcd")
        os.makedirs(f"{folder}/db")
        Path(f"{folder}/etc/nsswitch.conf").write_text(switch)
        users = [User("root", 0, 0, "", "/root", "/bin/sh"), *local[0]]
        Path(f"{folder}/etc/passwd").write_text("".join(f"{u.name}:x:{u.uid}:{u.gid}::/:/bin/sh\n" for u in users))
        named = [Group("root", 0), *local[1]]
        Path(f"{folder}/etc/group").write_text("".join(f"{g.name}:x:{g.gid}:{','.join(g.members)}\n" for g in named))
        schemas = _first(f"{_PROGRAMS}/etc/ldap/schema", "/etc/ldap/schema")
        modules = _first(f"{_PROGRAMS}/usr/lib/ldap", "/usr/lib/ldap")
        Path(f"{folder}/people.schema").write_text(_SCHEMA)
        Path(f"{folder}/slapd.conf").write_text(
            f"include {schemas}/core.schema\ninclude {schemas}/cosine.schema\ninclude {folder}/people.schema\n"
            f"modulepath {modules}\nmoduleload back_mdb\nsizelimit unlimited\npidfile {folder}/slapd.pid\n"
            f"database mdb\nmaxsize 1073741824\nsuffix {BASE}\ndirectory {folder}/db\n"
            "index uid,uidNumber,gidNumber,memberUid,member,cn,objectClass eq\n"
        )
        Path(f"{folder}/people.ldif").write_text("\n".join(_ldif(people, groups)))
        made = Machine(folder, _free_port())
        subprocess.run(
            [str(SLAPADD), "-q", "-f", f"{folder}/slapd.conf", "-l", f"{folder}/people.ldif"],
            env={**os.environ, **made.environment},
            check=True,
        )
        try:
            made.start_server()
            made.start_daemon(None, *more)
            yield made
        finally:
            made.stop_daemon()
            made.stop_server()


@contextmanager
def relay(port: int, *, wait: float = 0.0, most: int = sys.maxsize) -> Iterator[int]:
    """The port of a relay to a server that waits before each answer, and is gone after so many bytes of answers."""
    listening = socket.create_server(("127.0.0.1", 0))
    left = [most]
    open_ones: list[socket.socket] = [listening]

    def pump(one: socket.socket, other: socket.socket, *, answers: bool) -> None:
        try:
            while data := one.recv(4096):
                if answers:
                    time.sleep(wait)
                    left[0] -= len(data)
                    if left[0] < 0:
                        break
                other.sendall(data)
        except OSError:
            pass
        for each in (one, other, *(open_ones if left[0] < 0 else ())):
            end(each)

    def end(one: socket.socket) -> None:
        with suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
        one.close()

    def serve() -> None:
        while True:
            try:
                taken, _ = listening.accept()
                server = socket.create_connection(("127.0.0.1", port))
            except OSError:
                return
            open_ones.extend((taken, server))
            threading.Thread(target=pump, args=(taken, server), kwargs={"answers": False}, daemon=True).start()
            threading.Thread(target=pump, args=(server, taken), kwargs={"answers": True}, daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        for each in open_ones:
            end(each)


if __name__ == "__main__":
    some = [User(name, 7101 + number, 7201, "", "/", "/bin/sh") for number, name in enumerate(("keeper", "surveyor"))]
    with machine(some, [Entry("watch", 7201), Entry("survey", 7202, ("surveyor",))]) as there:
        subprocess.run(
            [os.environ.get("SHELL", "/bin/sh")], env={**os.environ, **there.environment}, preexec_fn=there.enter
        )

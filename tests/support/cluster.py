"""A scheduler and workers, each on a machine of its own as far as they can see: other networks, other mounts."""

import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from itertools import count
from typing import NamedTuple

from fiat.core.model import capabilities
from support.places import BASE

AT_HAND = all(shutil.which(name) for name in ("ip", "openssl", "unshare"))

_READER = 7901
"""The number of the account that workers run as."""

READS = capabilities.DAC_READ_SEARCH
"""What they hold, and nothing besides."""

_BECOME = """
import os, sys
sys.path.insert(0, {tests!r})
from support import kernel
uid, powers = int(sys.argv[1]), int(sys.argv[2])
kernel.bound_capabilities(powers)
os.setgroups([])
os.setresgid(uid, uid, uid)
kernel.keep_capabilities(powers, uid, powers)
kernel.raise_ambient(powers)
os.execv(sys.argv[3], sys.argv[3:])
"""


def become(uid: int, powers: int) -> list[str]:
    """What a command line begins with that is run by the user ``uid`` with just these capabilities."""
    tests = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    return [sys.executable, "-c", _BECOME.format(tests=tests), str(uid), str(powers)]


_NUMBERS = count(1)


def make_certificates(folder: str) -> None:
    """As docs/fleet.md says."""
    command = "openssl req -x509 -newkey rsa:3072 -nodes -days 365 -subj /CN=fiat-engine"
    subprocess.run(
        [*command.split(), "-keyout", f"{folder}/engine.key", "-out", f"{folder}/engine.crt"],
        check=True,
        capture_output=True,
    )


class Machine(NamedTuple):
    """A network namespace with an address."""

    name: str
    address: str

    def command(self, words: Sequence[str], mounts: Mapping[str, str] | None = None) -> list[str]:
        """The words as they are run there, with other folders mounted at some paths."""
        binds = [f"mount --bind {folder} {at}" for at, folder in (mounts or {}).items()]
        script = " && ".join(["mount --make-rprivate /", *binds, 'exec "$@"'])
        return ["ip", "netns", "exec", self.name, "unshare", "-m", "sh", "-c", script, "sh", *words]


class Cluster:
    """What runs: ``certificates`` is the folder with those, ``here`` the machine that Fiat is on."""

    def __init__(self, until: ExitStack) -> None:
        self.certificates = until.enter_context(tempfile.TemporaryDirectory(prefix="fiat-test-", dir=BASE))
        os.chmod(self.certificates, 0o755)
        make_certificates(self.certificates)
        os.chmod(f"{self.certificates}/engine.key", 0o644)
        self._until = until
        self._prefix = f"fiat-test-{os.getpid()}-{next(_NUMBERS)}"
        self._machines = 0
        self._switch = f"{self._prefix}-switch"
        _ip("netns", "add", self._switch)
        until.callback(_ip, "netns", "del", self._switch)
        _ip("-n", self._switch, "link", "add", "bridge0", "type", "bridge")
        _ip("-n", self._switch, "link", "set", "bridge0", "up")
        self.here = self.machine()
        self.where = self.machine()
        self.scheduler = self._dask(self.where, "scheduler", "--host", f"tls://{self.where.address}", "--port", "8786")
        self.workers: list[subprocess.Popen[bytes]] = []

    @property
    def address(self) -> str:
        """That of the scheduler."""
        return f"tls://{self.where.address}:8786"

    def machine(self) -> Machine:
        """One more on the network."""
        self._machines += 1
        found = Machine(f"{self._prefix}-{self._machines}", f"10.77.0.{self._machines}")
        _ip("netns", "add", found.name)
        self._until.callback(_ip, "netns", "del", found.name)
        outer = f"port{self._machines}"
        _ip("-n", self._switch, "link", "add", outer, "type", "veth", "peer", "name", "eth0", "netns", found.name)
        _ip("-n", self._switch, "link", "set", outer, "master", "bridge0", "up")
        _ip("-n", found.name, "addr", "add", f"{found.address}/24", "dev", "eth0")
        for name in ("eth0", "lo"):
            _ip("-n", found.name, "link", "set", name, "up")
        return found

    def worker(
        self,
        mounts: Mapping[str, str] | None = None,
        *,
        powers: int | None = READS,
        uid: int = _READER,
        preload: str | None = None,
        slow: str | None = None,
    ) -> subprocess.Popen[bytes]:
        """One more worker, on a machine of its own, with just the power to read, or other ``powers`` (None: all).

        ``slow`` is the rate of its link.
        """
        machine = self.machine()
        if slow is not None:
            rate = ["rate", slow, "burst", "32kbit", "latency", "400ms"]
            subprocess.run(
                ["ip", "netns", "exec", machine.name, "tc", "qdisc", "add", "dev", "eth0", "root", "tbf", *rate],
                check=True,
            )
        folder = self._until.enter_context(tempfile.TemporaryDirectory(prefix="fiat-test-", dir=BASE))
        os.chown(folder, uid, uid)
        words = ["worker", self.address, "--nthreads", "1", "--host", machine.address, "--local-directory", folder]
        words += ["--preload", preload] if preload is not None else []
        known = len(self.workers_known())
        became = [] if powers is None else become(uid, powers)
        found = self._dask(machine, *words, became=became, mounts=mounts)
        self.workers.append(found)
        _until(lambda: len(self.workers_known()) > known)
        return found

    def workers_known(self) -> list[str]:
        """The addresses of those that the scheduler has heard of."""
        with open(self._log, encoding="utf-8", errors="replace") as file:
            text = file.read()
        here = re.findall(r"Register worker addr: (\S+)", text)
        return [one for one in here if f"Remove worker addr: {one}" not in text]

    def wait_for_question(self, seconds: float) -> None:
        """Return so many seconds after somebody has come to the scheduler with a question."""
        begun = self._clients()
        _until(lambda: self._clients() > begun)
        time.sleep(seconds)

    def _clients(self) -> int:
        with open(self._log, encoding="utf-8", errors="replace") as file:
            return file.read().count("Receive client connection")

    def _dask(
        self,
        machine: Machine,
        *words: str,
        became: Sequence[str] = (),
        mounts: Mapping[str, str] | None = None,
    ) -> subprocess.Popen[bytes]:
        names = {"--tls-ca-file": "engine.crt", "--tls-cert": "engine.crt", "--tls-key": "engine.key"}
        tls = [word for option, name in names.items() for word in (option, f"{self.certificates}/{name}")]
        command = [*became, sys.executable, "-m", "dask", words[0], *words[1:], *tls, "--no-dashboard"]
        log = f"{self.certificates}/{words[0]}.log"
        with open(log, "ab") as file:
            found = subprocess.Popen(
                machine.command(command, mounts), stdout=file, stderr=file, start_new_session=True, cwd="/"
            )
        self._until.callback(end, found)
        if words[0] == "scheduler":
            self._log = log
            port = f"{machine.address}:8786"
            _until(lambda: port in open(log, encoding="utf-8", errors="replace").read())  # noqa: SIM115
        return found

    def fiat(self, *words: str, certificates: str | None = None) -> subprocess.CompletedProcess[str]:
        """Run ``fiat`` on this machine of the network, with the engine."""
        with self.started(*words, certificates=certificates) as running:
            out, err = running.communicate(timeout=240)
        assert "Traceback" not in err, err
        return subprocess.CompletedProcess(words, running.returncode, out, err)

    @contextmanager
    def started(self, *words: str, certificates: str | None = None) -> Iterator[subprocess.Popen[str]]:
        """The same, while it is running."""
        engine = ("--engine", self.address, "--engine-tls", certificates or self.certificates)
        command = self.here.command([sys.executable, "-m", "fiat", *words, *engine])
        with subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, errors="surrogateescape"
        ) as running:
            yield running


@contextmanager
def cluster() -> Iterator[Cluster]:
    """A scheduler, and no workers yet; all of it ends with the ``with`` block."""
    with ExitStack() as until:
        yield Cluster(until)


def end(process: "subprocess.Popen[bytes]") -> None:
    """Kill it and all that it has started."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except ProcessLookupError:
        return
    process.wait()


def _until(done: object, seconds: float = 90) -> None:
    begun = time.monotonic()
    while not done():  # type: ignore[operator]
        assert time.monotonic() - begun < seconds, "it does not come up"
        time.sleep(0.05)


def _ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True)


def free_port() -> int:
    """One of this machine's loopback that nobody listens at."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])

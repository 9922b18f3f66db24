"""Workers elsewhere: the same answers as without them, whoever dies; and who is not fit is refused."""

import json
import os
import pickle
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack

import numpy as np
import pytest

from fiat.core.model import capabilities
from fiat.core.tree.walk import Extent
from fiat.host.live.kernel import Kernel
from fiat.host.live.mounts import mounts_now
from fiat.host.live.postures import PostureReader, Reader
from fiat.host.live.readelsewhere import ANYWHERE, moved, standing
from fiat.host.live.treereader import TreeReader
from support import kernel
from support.cluster import AT_HAND, READS, Cluster, become, cluster, end, free_port
from support.estates import Estate
from support.filesystems import fresh
from support.fleets import sample_lines, varied, write
from support.places import trusted_folder
from support.program import PROGRAM, fiat

pytestmark = [
    pytest.mark.root,
    pytest.mark.slow,
    pytest.mark.skipif(not AT_HAND and not os.environ.get("FIAT_TEST_EVERYTHING"), reason="needs ip"),
]


@pytest.fixture(scope="module")
def machines() -> Iterator[Cluster]:
    with cluster() as found:
        for _ in range(2):
            found.worker()
        yield found


@pytest.fixture
def fleet(folder: str) -> str:
    import random

    dice = random.Random(5)
    for place in range(12):
        write(varied(dice, (0, 0, 0, 2)[place % 4]), folder, f"gauge{place:02}")
    return folder


def compare(machines: Cluster, *words: str) -> None:
    """Both engines say the same, byte for byte."""
    near, far = fiat(*words), machines.fiat(*words)
    assert (far.returncode, far.stderr) == (near.returncode, near.stderr)
    assert far.stdout == near.stdout
    assert near.stdout


def test_every_question_to_a_fleet(machines: Cluster, fleet: str) -> None:
    for words in (
        ("who", "/srv/skerry/keys", "/srv/skerry/gauge", "--because"),
        ("who", "/srv/skerry", "--below", "--json"),
        ("who", "/srv/skerry", "--below", "--can", "write", "--user", "tidefeed"),
        ("who", "/srv/skerry", "--below", "--format", "csv"),
        ("who", "/srv/skerry", "--below", "--same-people", "uid"),
        ("why", "surveyor", "read", "/srv/skerry/gauge/raw"),
        ("show", "/srv/skerry", "--below"),
        ("audit", "/srv/skerry", "--format", "sarif"),
        ("check", "skerry", "--format", "openmetrics"),
        ("check", "skerry", "--json"),
    ):
        compare(machines, *words, "--from", fleet)
    compare(machines, "compare", fleet, "--between-hosts", "--json")
    compare(machines, "compare", fleet, fleet)
    mine = f"{fleet}.toml"
    with open(mine, "w", encoding="utf-8") as file:
        file.write('[[expect]]\nname = "open"\npaths = ["/srv/skerry/keys"]\nread = { only = ["root"] }\n')
    try:
        compare(machines, "check", mine, "--from", fleet)
    finally:
        os.unlink(mine)


@pytest.fixture
def tree() -> Iterator[str]:
    """A tree like real ones, large enough to be given away, with a file system mounted in it."""
    with fresh("ext4") as top, ExitStack() as held:
        held.enter_context(Estate(top, 3))
        for place in range(60):
            os.mkdir(f"{top}/many{place}")
            for number in range(60):
                path = f"{top}/many{place}/run{number}"
                with open(path, "w", encoding="utf-8") as file:
                    file.write("#!/bin/sh\n")
                os.chmod(path, 0o640 + place % 8)
                os.chown(path, 7101 + number % 5, 7201)
        os.symlink("many1", f"{top}/{os.fsdecode(b'odd ' + bytes([255, 10]))}")
        yield top


def test_a_tree_that_all_of_them_see(machines: Cluster, tree: str, folder: str) -> None:
    """Workers that were started before it was mounted do not see it; those that see it read it as this one does."""
    refused = machines.fiat("who", tree, "--below")
    assert refused.returncode == 3
    assert "sees another" in refused.stderr or "cannot open" in refused.stderr
    with cluster() as there:
        for _ in range(2):
            there.worker()
        for words in (("who", tree, "--below"), ("show", tree, "--below", "--json"), ("audit", tree)):
            compare(there, *words)
        compare(there, "who", tree, "--below", "--can", "write", "--format", "jsonl")
        for engine in (fiat, there.fiat):
            assert engine("save", tree, "-o", f"{folder}/{engine.__name__}.jsonl", "--for-audit").returncode == 0
        saved = [
            fiat("show", tree, "--below", "--json", "--from", f"{folder}/{engine.__name__}.jsonl").stdout
            for engine in (fiat, there.fiat)
        ]
        assert len(saved[0]) > 10_000
        assert sorted(saved[0].splitlines()) == sorted(saved[1].splitlines())
        with fresh("tmpfs") as other:  # whoever sees another file system there is refused, with a word
            there.worker({tree: other})
            wrong = there.fiat("who", tree, "--below")
            assert wrong.returncode == 3
            assert not wrong.stdout
            assert "it sees another file system" in wrong.stderr
            assert "tmpfs" in wrong.stderr


def test_numbers_of_this_kernel_stay_here(tree: str) -> None:
    """Mounts and devices have other numbers on other machines, which tests on one cannot show."""
    reader = Reader(Kernel(lambda: os.open("/", os.O_PATH), mounts_now), PostureReader())
    top = os.open(tree, os.O_PATH)
    part = TreeReader(reader, top, tree, Extent()).read([()], 10**6)
    own = standing(reader, top)
    sent = pickle.loads(pickle.dumps(moved(part, own, ANYWHERE)))
    assert len(part.met.rows) > 3
    assert not {own.device} & set(sent.met.rows[:, 2].tolist())
    assert not {own.mount} & set((sent.met.rows[:, 3] >> np.uint64(32)).tolist())
    assert own.mount not in {mount for mount, _ in sent.met.filesystems} | {*sent.met.lists_kept}
    back = moved(sent, ANYWHERE, own)
    assert (back.met.rows == part.met.rows).all()
    assert back.met._replace(rows=part.met.rows) == part.met
    os.close(top)


def test_a_tree_under_which_something_else_is_mounted(tree: str) -> None:
    with cluster() as there, fresh("tmpfs") as other:
        there.worker({f"{tree}/many7": other})
        wrong = there.fiat("who", tree, "--below")
        assert wrong.returncode == 3
        assert f"{tree}/many7" in wrong.stderr
        assert not wrong.stdout


@pytest.mark.parametrize("seed", range(3))
def test_whoever_dies_the_answer_is_right(tree: str, folder: str, seed: int) -> None:
    """A worker dies, with all that it has begun, while a fleet is asked and a tree is read."""
    for place in range(40):
        write(sample_lines(), folder, f"gauge{place:02}")
    questions = (
        ("who", tree, "--below", "--json"),
        ("who", "/srv/skerry", "--below", "--json", "--from", folder),
    )
    right = {words: fiat(*words) for words in questions}
    with cluster() as there:
        there.worker()
        for words in questions:
            doomed = there.worker(slow="40mbit" if seed == 2 else None)
            with there.started(*words) as running:
                there.wait_for_question(0.2 + 0.3 * seed)
                alive = running.poll() is None
                end(doomed)
                out, err = running.communicate(timeout=240)
            assert (running.returncode, out) == (right[words].returncode, right[words].stdout), (alive, err)


def test_what_takes_long_is_handed_on(folder: str) -> None:
    """One worker stands still with its piece, and another one has a slow link: the answer is right, and comes."""
    for place in range(20):
        write(sample_lines(), folder, f"gauge{place:02}")
    words = ("who", "/srv/skerry", "--below", "--json", "--from", folder)
    with cluster() as there:
        there.worker(slow="8mbit")
        still = there.worker()
        with there.started(*words) as running:
            there.wait_for_question(0.3)
            os.killpg(still.pid, signal.SIGSTOP)
            try:
                out, err = running.communicate(timeout=240)
            finally:
                os.killpg(still.pid, signal.SIGCONT)
        assert (running.returncode, out) == (0, fiat(*words).stdout), err


def test_nobody_is_left(folder: str) -> None:
    for place in range(40):
        write(sample_lines(), folder, f"gauge{place:02}")
    with cluster() as there:
        last = there.worker(slow="1mbit")
        with there.started("who", "/srv/skerry", "--below", "--json", "--from", folder) as running:
            there.wait_for_question(0.5)
            end(last)
            out, err = running.communicate(timeout=240)
    assert (running.returncode, out) == (3, "")
    assert "no workers" in err


def test_the_scheduler_goes(folder: str) -> None:
    for place in range(60):
        write(sample_lines(), folder, f"gauge{place:02}")
    with cluster() as there:
        there.worker(slow="1mbit")
        with there.started("who", "/srv/skerry", "--below", "--json", "--from", folder) as running:
            there.wait_for_question(1)
            assert running.poll() is None, "it has ended before"
            end(there.scheduler)
            out, err = running.communicate(timeout=240)
        assert running.returncode == 3
        assert not out
        assert "has gone" in err
        again = there.fiat("who", "/srv/skerry", "--from", folder)
        assert again.returncode == 3
        assert "no scheduler answers" in again.stderr


def test_nothing_is_half_written(tree: str, folder: str) -> None:
    with cluster() as there:
        there.worker(slow="100kbit")
        path = f"{folder}/saved.jsonl"
        with there.started("save", tree, "-o", path) as running:
            there.wait_for_question(1)
            assert running.poll() is None, "it has ended before"
            end(there.scheduler)
            _, err = running.communicate(timeout=240)
        assert running.returncode == 3
        assert "has gone" in err
        assert not os.listdir(folder)


@pytest.mark.parametrize(
    ("powers", "words", "message"),
    [
        (None, ("who", "/srv/skerry"), "more powers than to read"),
        (READS | capabilities.CHOWN, ("who", "/srv/skerry"), "CAP_CHOWN"),
        (0, ("who", "/srv/skerry"), ""),
        (0, ("who", "TREE", "--below"), "may not read everything"),
    ],
)
def test_workers_have_just_the_power_to_read(
    folder: str, powers: int | None, words: tuple[str, ...], message: str
) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    with cluster() as there, trusted_folder() as tree:
        for number in range(3000):
            os.makedirs(f"{tree}/{number // 100}", exist_ok=True)
            os.mknod(f"{tree}/{number // 100}/{number}")
        there.worker(powers=powers, uid=0)
        words = tuple(tree if word == "TREE" else word for word in words)
        done = there.fiat(*words, *(("--from", folder) if "--below" not in words else ()))
        assert (done.returncode == 3) is bool(message), done
        assert message in done.stderr
        assert bool(done.stdout) is not bool(message)


def test_another_version_is_refused(folder: str) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    with cluster() as there:
        preload = f"{there.certificates}/other.py"
        with open(preload, "w", encoding="utf-8") as file:
            file.write("import fiat\nfiat.__version__ = '9.9'\n")
        there.worker(preload=preload)
        done = there.fiat("who", "/srv/skerry", "--from", folder)
        assert done.returncode == 3
        assert "it has Fiat 9.9" in done.stderr
        assert not done.stdout


def test_who_has_no_certificate_is_not_answered(machines: Cluster, folder: str) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    from support.cluster import make_certificates

    with trusted_folder() as own:
        make_certificates(own)
        done = machines.fiat("who", "/srv/skerry", "--from", folder, certificates=own)
    assert done.returncode == 3
    assert "certificates do not fit" in done.stderr


@pytest.mark.parametrize("what", ["engine.crt", "engine.key", "ca.crt", ""])
def test_certificates_of_others_are_not_used(folder: str, what: str) -> None:
    write(sample_lines(), f"{folder}/fleet", "cliff")
    write(sample_lines(), f"{folder}/fleet", "crag")
    own = f"{folder}/engine"
    os.mkdir(own)
    for name in ("engine.crt", "engine.key", "ca.crt"):
        with open(f"{own}/{name}", "w", encoding="utf-8") as file:
            file.write("x")
    os.chmod(f"{own}/{what}", 0o777)
    engine = ("--engine", "tls://127.0.0.1:1", "--engine-tls", own)
    done = fiat("who", "/srv/skerry", "--from", f"{folder}/fleet", *engine)
    assert (done.returncode, done.stdout) == (4, "")
    assert "can write to" in done.stderr


def test_without_tls_only_on_loopback(folder: str) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    address = f"tcp://127.0.0.1:{free_port()}"
    with ExitStack() as until:
        started = [sys.executable, "-m", "dask"]
        port = address.rpartition(":")[2]
        for words in (
            ["scheduler", "--host", "127.0.0.1", "--port", port, "--no-dashboard"],
            ["worker", address, "--nthreads", "1", "--no-dashboard", "--host", "127.0.0.1"],
        ):
            bounded = [*become(0, 0), *started, *words]
            running = subprocess.Popen(
                bounded, cwd="/tmp", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
            )
            until.callback(end, running)
        for _ in range(60):
            done = fiat("who", "/srv/skerry/keys", "--from", folder, "--engine", address, env={})
            if done.returncode == 0:
                break
            time.sleep(0.5)
        assert "without TLS" in done.stderr
        assert done.stdout == fiat("who", "/srv/skerry/keys", "--from", folder).stdout
    for address, word in (
        ("tcp://10.77.0.1:8786", "not on loopback"),
        ("10.77.0.1:8786", "not on loopback"),
        ("tls://127.0.0.1", "no address"),
        ("http://127.0.0.1:1", "no address"),
        ("tls://127.0.0.1:8786", "--engine-tls"),
    ):
        done = fiat("who", "/srv/skerry/keys", "--from", folder, "--engine", address)
        assert (done.returncode, done.stdout) == (2, "")
        assert word in done.stderr


def test_nothing_of_it_is_loaded_without_being_asked_for(folder: str) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    code = (
        "import sys; from fiat.cli.main import main; main(sys.argv[1:]); print(*sorted(sys.modules), file=sys.stderr)"
    )
    words = ("who", "/srv/skerry", "--from", folder)
    done = subprocess.run([PROGRAM[0], "-c", code, *words], capture_output=True, text=True, check=True)
    loaded = set(done.stderr.split())
    assert "fiat.render.fleet" in loaded
    assert not {name.partition(".")[0] for name in loaded} & {"dask", "distributed", "tornado", "pyarrow"}


def test_the_kernel_is_asked_as_the_one_who_asks(machines: Cluster) -> None:
    """What no engine is needed for is not given away: the address may lead nowhere."""
    done = fiat("who", "/etc/passwd", "--engine", "tls://127.0.0.1:1", "--engine-tls", "/nowhere")
    assert done.returncode == 0
    assert json.loads(fiat("who", "/etc/passwd", "--json", env={"FIAT_ENGINE": "tls://127.0.0.1:1"}).stdout)["results"]
    assert kernel.may(4, "/etc/passwd") == 0

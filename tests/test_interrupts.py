"""Ctrl-C, closed streams, a machine without /proc: one status each, one line, no file of ours where it hurts."""

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path
from subprocess import PIPE

import pytest

import fiat as fiat_package
from support.files import make
from support.kernel import NEW_MOUNTS, bind, unshare
from support.program import PROGRAM, fiat, run_here
from support.times import SEED, TIMES, report

COMMANDS = (["who", "/usr", "--below"], ["save", "/usr", "-o", "{}/out"], ["compare", "{}/held", "live"])


@pytest.mark.slow
@pytest.mark.parametrize("words", COMMANDS)
def test_ctrl_c_at_any_moment_is_130(words: list[str], folder: str) -> None:
    """But for the moments in which Python itself starts, and has not come to anything of Fiat's."""
    dice = random.Random(SEED)
    assert fiat("save", "/usr/lib", "-o", f"{folder}/held").returncode == 0
    words = [word.replace("{}", folder) for word in words]
    interrupted = tracebacks = 0
    program = Path(sys.executable).parent / "fiat"
    for _ in range(12 * TIMES):
        with subprocess.Popen([program, *words], stdout=PIPE, stderr=PIPE, text=True) as running:
            time.sleep(0.02 + 0.9 * dice.random())
            running.send_signal(signal.SIGINT)
            _, errors = running.communicate()
        assert running.returncode in (130, 0, 1, -signal.SIGINT), errors
        interrupted += running.returncode == 130
        tracebacks += "Traceback" in errors
        assert "Traceback" not in errors or running.returncode != 130
    report("interrupted", rounds=12 * TIMES, by_fiat=interrupted, while_python_started=tracebacks)
    assert interrupted > 1
    assert tracebacks < 8 * TIMES


SCRIPT = Path(__file__).parent.parent / "scripts" / "fiat"


def test_the_program_hears_of_ctrl_c_before_it_loads_anything() -> None:
    """What stands in its script is what is installed, and it loads nothing that takes time first."""
    installed = Path(sys.executable).parent / "fiat"
    assert installed.read_text().splitlines()[1:] == SCRIPT.read_text().splitlines()[1:]
    code = f"""
import os, sys
before = {{*sys.modules}}
sys.argv[1:] = ["--version"]
os._exit = int
exec(compile(open({str(SCRIPT)!r}).read(), "fiat", "exec"))
print(*{{*sys.modules}} - before)
"""
    environment = {"PYTHONPATH": ":".join(sys.path)}
    words = [sys.executable, "-S", "-c", code]
    done = subprocess.run(words, stdout=PIPE, text=True, check=True, env=environment)
    version, _, loaded = done.stdout.splitlines()
    assert version == f"fiat {fiat_package.__version__}"
    assert "fiat.cli.main" in loaded.split()
    assert "re" not in loaded.split()


@pytest.mark.root
def test_without_proc_it_is_said_what_is_missing(folder: str) -> None:
    child = os.fork()
    if not child:
        status = 99
        try:
            unshare(NEW_MOUNTS)
            bind(folder, "/proc")
            status, _, errors = run_here("show", "/etc")
            Path(f"{folder}/said").write_text(errors)
        finally:
            os._exit(status)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 3
    said = Path(f"{folder}/said").read_text()
    assert "/proc is not mounted here" in said
    assert said.count("\n") == 1


@pytest.mark.parametrize("closed", [(0,), (1,), (2,), (0, 1), (1, 2), (0, 1, 2)])
def test_no_file_of_ours_takes_the_place_of_a_closed_stream(closed: tuple[int, ...], folder: str) -> None:
    """Something that writes to its error output would else write into the history, or the tree."""
    path, history = make(f"{folder}/f", 0o644), f"{folder}/history.db"

    def close() -> None:
        for number in closed:
            os.close(number)

    code = (
        "import os, sys, fiat.host.history.sqlite as s\n"
        "from fiat.cli.main import main\n"
        "before = s._make\n"
        "def look(path):\n"
        "    before(path)\n"
        "    for number in range(3):\n"
        "        at = os.readlink(f'/proc/self/fd/{number}')\n"
        "        assert not at.startswith(os.path.dirname(path)), at\n"
        "s._make = look\n"
        f"sys.exit(main(['set', {path!r}, '--mode', '600', '--history', {history!r}]))\n"
    )
    done = subprocess.run([PROGRAM[0], "-c", code], preexec_fn=close, check=False)
    assert done.returncode == 0
    assert os.stat(path).st_mode & 0o777 == 0o600

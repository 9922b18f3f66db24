"""Completion in the real shells, each in a pseudo-terminal: what Tab shows and fills in."""

import os
import pty
import re
import select
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from fiat.app.wordshere import KINDS, words_here
from fiat.cli.registry import COMMANDS
from support.program import fiat

pytestmark = pytest.mark.slow
SHELLS = ("bash", "zsh", "fish")

STARTED = {
    "bash": ["bash", "--norc", "--noprofile", "-i"],
    "zsh": ["zsh", "-f", "-i"],
    "fish": ["fish", "--no-config", "-i"],
}
READY = {
    "bash": "bind 'set show-all-if-ambiguous on'; bind 'set completion-query-items 0'; "
    "bind 'set bell-style none'; source {folder}/_fiat; PS1='READY''> '\n",
    "zsh": "fpath=({folder} $fpath); autoload -U compinit; compinit -u -D; LISTMAX=9999; PS1='READY''> '\n",
    "fish": "source {folder}/_fiat; function fish_prompt; echo -n 'READY''> '; end\n",
}
_PATIENCE = 30


class Shell:
    """A shell in a terminal of 200 x 100 characters."""

    def __init__(self, name: str, folder: str) -> None:
        environment = {
            "PATH": f"{os.path.dirname(sys.executable)}:{os.environ['PATH']}",
            "TERM": "xterm",
            "HOME": folder,
            "FIAT_ACCOUNTS": folder,
            "FIAT_CONFIG": f"{folder}/fiat.toml",
            "LC_ALL": "C.UTF-8",
        }
        self.pid, self.terminal = pty.fork()
        if not self.pid:
            os.chdir(folder)
            os.execvpe(STARTED[name][0], STARTED[name], environment)
        import fcntl
        import struct
        import termios

        fcntl.ioctl(self.terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 100, 200, 0, 0))
        self.seen = ""
        self._quiet(1.0)
        self.send(READY[name].format(folder=folder))
        self.wait("READY> ")
        self._quiet(0.5)

    def send(self, keys: str) -> None:
        os.write(self.terminal, keys.encode())

    def _read(self, seconds: float) -> bool:
        if not select.select([self.terminal], [], [], seconds)[0]:
            return False
        self.seen += os.read(self.terminal, 65536).decode("utf-8", "replace")
        return True

    def _quiet(self, seconds: float) -> None:
        while self._read(seconds):
            pass

    def wait(self, *words: str) -> str:
        """What has been shown since the last keys, once all of these words are among it."""
        end = time.monotonic() + _PATIENCE
        while time.monotonic() < end:
            shown = plain(self.seen)
            if all(word in shown for word in words):
                return shown
            self._read(0.2)
        raise AssertionError(f"{words} are not shown: {plain(self.seen)!r}")

    def tab(self, line: str, *words: str) -> str:
        """Type a beginning, press Tab twice, and wait for these words; the line is given up."""
        self.seen = ""
        self.send(f"{line}\t")
        self._quiet(0.4)
        self.send("\t")
        shown = self.wait(*words)
        self._quiet(0.3)
        shown = plain(self.seen)
        self.send("\x03\x15\n")
        self._quiet(0.5)
        return shown


def plain(text: str) -> str:
    """What a terminal shows, without what moves its cursor and sets its colours."""
    return re.sub(r"\x1b(\[[0-9;?<>=]*[A-Za-z]|\][^\x07]*\x07|[()][A-Z0-9]|[=>78M])", "", text).replace("\r", "")


@contextmanager
def shell(name: str, folder: str) -> Iterator[Shell]:
    if shutil.which(name) is None:
        if os.environ.get("FIAT_TEST_EVERYTHING"):
            pytest.fail(f"{name} is not here")
        pytest.skip(f"{name} is not here")
    with open(f"{folder}/passwd", "w") as file:
        file.write(
            "".join(f"{name}:x:{1000 + at}:1000::/:/bin/sh\n" for at, name in enumerate(("lampwright", "lamplighter")))
        )
    with open(f"{folder}/group", "w") as file:
        file.write("beacons:x:1000:\n")
    os.makedirs(f"{folder}/kept/cliffhost")
    with open(f"{folder}/fiat.toml", "w") as file:
        file.write(f'snapshots = "{folder}/kept"\nhistory = "{folder}/history.db"\n')
    with open(f"{folder}/_fiat", "w") as file:
        file.write(fiat("completion", name).stdout)
    found = Shell(name, folder)
    try:
        yield found
    finally:
        os.kill(found.pid, signal.SIGKILL)
        os.waitpid(found.pid, 0)
        os.close(found.terminal)


@pytest.mark.parametrize("name", SHELLS)
def test_tab_in_a_real_shell(name: str, folder: str) -> None:
    """Commands, kinds, options, and the words of this host, each where it belongs."""
    with shell(name, folder) as typed:
        typed.tab("fiat ", *COMMANDS)
        typed.tab("fiat chart ", "who", "below", "over-time", "page")
        typed.tab("fiat who --be", "--because", "--below")
        shown = typed.tab("fiat who --user lamp", "lampwright", "lamplighter")
        assert "beacons" not in shown
        typed.tab("fiat who --group b", "beacons")
        typed.tab("fiat who --can del", "delete")
        typed.tab("fiat why lamp", "lampwright", "lamplighter")
        typed.tab("fiat set --accept har", "hard-links")
        typed.tab("fiat audit --rule owner", "owner-without-account")
        typed.tab("fiat who --from skerry-l", "skerry-later")
        typed.tab(f"fiat compare {folder}/kept/cl", "cliffhost")
        typed.tab("fiat set --arrange drop", "drop-box")


def test_runs_are_among_the_words(folder: str) -> None:
    os.mkdir(f"{folder}/t")
    os.mkdir(f"{folder}/h", 0o700)
    history = f"{folder}/h/history.db"
    for mode in ("700", "750"):
        assert fiat("set", f"{folder}/t", "--mode", mode, "--history", history).returncode == 0
    with open(f"{folder}/fiat.toml", "w") as file:
        file.write(f'history = "{history}"\n')
    done = fiat("--words", "runs", env={"FIAT_CONFIG": f"{folder}/fiat.toml"})
    assert done.stdout.split() == ["2", "1"]


@pytest.mark.parametrize("kind", KINDS)
def test_words_are_plain_and_never_an_error(kind: str, folder: str) -> None:
    """Whatever the accounts, and whatever is missing: no word needs quotation marks, and nothing is said on stderr."""
    assert all(word.isascii() and not word.isspace() for word in words_here(kind))
    with open(f"{folder}/passwd", "w") as file:
        names = ("good", "bad name", "$(touch x)", ";ls", "\x1b[31m")
        file.write("".join(f"{name}:x:1:1::/:/bin/sh\n" for name in names))
    done = fiat("--words", kind, env={"FIAT_ACCOUNTS": folder, "FIAT_CONFIG": f"{folder}/missing"})
    assert (done.returncode, done.stderr) == (0, "")
    if kind in ("users", "who"):
        assert done.stdout.split("\n")[0] == "good"
        assert not {"bad name", "$(touch x)", ";ls"} & {*done.stdout.split("\n")}


def test_a_shell_that_has_seen_enough_hears_nothing() -> None:
    done = subprocess.run(f"{sys.executable} -m fiat --words users | true", shell=True, capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (0, "")


def test_no_word_for_what_there_is_not() -> None:
    done = fiat("--words", "nonsense")
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")
    wrong = fiat("completion", "sh")
    assert (wrong.returncode, wrong.stderr.count("\n")) == (2, 1)

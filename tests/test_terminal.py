"""On a terminal: everything fits its width, colour only where it is wanted, progress of nothing but text."""

import os
import pty
import re
import struct
import subprocess
from fcntl import ioctl
from termios import TIOCSWINSZ

import pytest

from program import PROGRAM

S = "/srv/skerry"

COMMANDS = (
    ("show", f"{S}/gauge/raw", f"{S}/series/reduced-2026.csv", "/mnt/vault/replay"),
    ("show", f"{S}/gauge", "--inside"),
    ("show", S, "--below"),
    ("show", "--umask"),
    ("who", f"{S}/charts/draft", f"{S}/observatory/2026/november/barometer.csv"),
    ("who", f"{S}/dropbox/from-surveyor.txt", "--can", "delete", "--can", "rename"),
    ("who", S, "--below"),
    ("who", f"{S}/observatory", "--if-member", "surveyor:watch"),
    ("why", "surveyor", "read", f"{S}/gauge/raw/0412.csv"),
    ("why", "auditor", "execute", f"{S}/tools/reduce"),
    ("set", f"{S}/observatory", "--mode", "o+x", "--preview"),
    ("decode", "2754", "022", "u::rw-,u:7105:rwx,g::r,m::r,o::-"),
)


def on_terminal(columns: int, *words: str, **environment: str) -> str:
    """What ``fiat`` writes to a terminal of so many columns."""
    leader, follower = pty.openpty()
    ioctl(follower, TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
    settings = {**os.environ, "TERM": "xterm-256color", **environment}
    settings.pop("COLUMNS", None)
    with subprocess.Popen([*PROGRAM, *words, "--from", "skerry"], stdout=follower, env=settings) as running:
        os.close(follower)
        data = b""
        while True:
            try:
                more = os.read(leader, 65536)
            except OSError:  # the other end is closed
                break
            if not more:
                break
            data += more
        running.wait()
    os.close(leader)
    return data.decode().replace("\r\n", "\n")


def plain(text: str) -> str:
    """``text`` without the colours."""
    return re.sub(r"\x1b\[[0-9;]*m", "", text)


@pytest.mark.parametrize("words", COMMANDS)
@pytest.mark.parametrize("columns", [80, 100])
def test_everything_fits(words: tuple[str, ...], columns: int) -> None:
    text = plain(on_terminal(columns, *words))
    assert text
    for line in text.splitlines():
        # what is to be copied stays in one piece
        assert len(line) <= columns or line.strip().startswith(("fiat set", "hexadecimal", "base64")), line


@pytest.mark.parametrize("words", COMMANDS)
def test_colour_carries_only_what_the_words_carry(words: tuple[str, ...]) -> None:
    coloured = on_terminal(200, *words)
    without = on_terminal(200, *words, NO_COLOR="1")
    assert "\x1b" not in without
    assert "\x1b" not in on_terminal(200, *words, TERM="dumb")
    assert plain(coloured) == without
    assert re.fullmatch(r"(?:[^\x1b]|\x1b\[[0-9;]*m)*", coloured)


def test_a_hostile_name_does_nothing_to_the_terminal(tmp_path: object) -> None:
    path = f"{tmp_path}/\x1b[2J\x07\u202eevil"
    os.close(os.open(path, os.O_CREAT))
    for words in (("show", path), ("show", str(tmp_path), "--inside"), ("who", path), ("why", "self", "execute", path)):
        done = subprocess.run([*PROGRAM, *words], capture_output=True, text=True, check=False)
        assert all(char.isprintable() or char == "\n" for char in done.stdout + done.stderr)
        assert r"\x1b[2J\x07\u202eevil" in done.stdout

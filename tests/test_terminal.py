"""On a terminal: everything fits its width, colour only where it is wanted, progress of nothing but text."""

import os
import pty
import re
import struct
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from fcntl import ioctl
from termios import TIOCSWINSZ

import pytest

from fiat.app.running import runs_as_another
from fiat.host.accounts.nameservice import NameService
from fiat.host.live.behind import who_is_behind
from support.places import trusted_folder
from support.program import PROGRAM, fiat, fork

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
    ("set", S, "--below", "--group", "survey", "--file-mode", "g=r,o=", "--dir-mode", "2750", "--preview"),
    ("decode", "2754", "022", "u::rw-,u:7105:rwx,g::r,m::r,o::-"),
    ("why", "chartpress", "rw", f"{S}/gauge/raw/0412.csv", f"{S}/logbook", "--all"),
    ("why", "surveyor", "run", "reduce", "--folders", f"{S}/tools"),
    ("set", S, "--below", "777", "--preview"),
    ("set", S, "--below", "--owner", "keeper", "--preview"),
    ("who", S, "--below", "--can", "w", "--user", "keeper"),
    ("compare", "skerry", "skerry-later"),
    ("restore", "skerry-later", "--preview"),
)


COPIED = ("fiat set", "fiat let", "--accept", "hexadecimal", "base64")
"""How lines begin that are to be copied, and stay in one piece."""

_NOTHING: Mapping[str, str] = {}
_ALL = b"\x04all\x04"


def on_terminal(
    columns: int, *words: str, program: Sequence[str] = (), environment: Mapping[str, str] = _NOTHING
) -> str:
    """What ``fiat``, or another program, writes to a terminal of so many columns."""
    leader, follower = pty.openpty()
    ioctl(follower, TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
    settings = {**os.environ, "TERM": "xterm-256color", **environment}
    settings.pop("COLUMNS", None)
    if program:
        child = subprocess.Popen(program, stdout=follower, stderr=follower, env=settings).pid
    else:
        child = fork(words, follower, follower, environment=settings)
    # Were our own end closed, the last that was written could be lost with it: so it says when all has come.
    ending = threading.Thread(target=lambda: (os.waitpid(child, 0), os.write(follower, _ALL)))
    ending.start()
    data = b""
    while not data.endswith(_ALL):
        data += os.read(leader, 65536)
    ending.join()
    os.close(follower)
    os.close(leader)
    return data.removesuffix(_ALL).decode().replace("\r\n", "\n")


def of_the_sample(columns: int, *words: str, **environment: str) -> str:
    """The same of the sample host."""
    return on_terminal(columns, *words, *(() if "compare" in words else ("--from", "skerry")), environment=environment)


def plain(text: str) -> str:
    """``text`` without the colours."""
    return re.sub(r"\x1b\[[0-9;]*m", "", text)


@pytest.mark.parametrize("words", COMMANDS)
@pytest.mark.parametrize("columns", [80, 100, 132])
def test_everything_fits(words: tuple[str, ...], columns: int) -> None:
    text = plain(of_the_sample(columns, *words))
    assert text
    for line in text.splitlines():
        # what is to be copied stays in one piece
        assert len(line) <= columns or line.strip().startswith(
            ("fiat set", "fiat let", "--accept", "hexadecimal", "base64")
        ), line


@pytest.mark.parametrize("words", COMMANDS)
def test_colour_carries_only_what_the_words_carry(words: tuple[str, ...]) -> None:
    coloured = of_the_sample(200, *words)
    without = of_the_sample(200, *words, NO_COLOR="1")
    assert "\x1b" not in without
    assert "\x1b" not in of_the_sample(200, *words, TERM="dumb")
    assert plain(coloured) == without
    assert re.fullmatch(r"(?:[^\x1b]|\x1b\[[0-9;]*m)*", coloured)


def test_a_hostile_name_does_nothing_to_the_terminal(tmp_path: object) -> None:
    path = f"{tmp_path}/\x1b[2J\x07\u202eevil"
    os.close(os.open(path, os.O_CREAT))
    for words in (("show", path), ("show", str(tmp_path), "--inside"), ("who", path), ("why", "self", "execute", path)):
        done = subprocess.run([*PROGRAM, *words], capture_output=True, text=True, check=False)
        assert all(char.isprintable() or char == "\n" for char in done.stdout + done.stderr)
        assert r"\x1b[2J\x07\u202eevil" in done.stdout


NAMES = ("w" * 200, "\u6e2c\u91cf\u8a18\u9332" * 12, "a b c " * 20 + "end", "\u00e9" * 60 + ".csv", "short")


@pytest.mark.parametrize("columns", [80, 100, 132])
def test_names_are_never_broken(tmp_path: object, columns: int) -> None:
    top = f"{tmp_path}/" + "D" * 200
    os.mkdir(top)
    for name in NAMES:
        os.close(os.open(f"{top}/{name}", os.O_CREAT, 0o600))
    paths = [f"{top}/{name}" for name in NAMES]
    everyone = ("--can", "read", "--user", "root", "--all")
    for words, each in (
        (("show", top, "--inside"), NAMES),
        (("show", str(tmp_path), "--below"), NAMES),
        (("show", *paths), paths),
        (("who", *paths), paths),
        (("who", top, "--below", *everyone), paths),
        (("why", "uid:20001", "read", *paths), paths),
        (("set", *paths, "o+r", "--preview"), [min(paths)]),
        (("set", *paths, "o+rw", "--no-history"), [min(paths)]),
    ):
        shown = plain(on_terminal(columns, *words))
        assert [name for name in each if name not in shown] == [], words


_IMPATIENT = "import sys; from fiat.cli import main, progress; progress._PATIENCE = 0; main.main(sys.argv[1:])"


def test_progress_is_shown_where_it_is_long_and_only_on_a_terminal(tmp_path: object) -> None:
    hostile = f"{tmp_path}/\x1b[2J\x07evil"
    os.makedirs(hostile)
    for number in range(1500):
        os.close(os.open(f"{hostile}/{number}", os.O_CREAT, 0o600))
    program = (sys.executable, "-c", _IMPATIENT)
    words = ("who", hostile, "--below", "--can", "write", "--anyone-else")
    shown = on_terminal(240, program=(*program, *words))
    assert "1501 objects" in shown
    assert "objects/s" in shown
    assert r"\x1b[2J\x07evil" in shown
    assert "\x1b[2J" not in shown
    assert "\x07" not in shown
    done = subprocess.run([*program, *words], capture_output=True, text=True, check=True)
    assert done.stderr == ""
    change = ("set", str(tmp_path), "--below", "--mode", "go=r", "--no-history")
    assert "changed:" in on_terminal(100, program=(*program, *change))


def _of_the_pager(*words: str, pager: str, **environment: str) -> str:
    return of_the_sample(80, *words, PAGER=pager, FIAT_PAGER=environment.pop("FIAT_PAGER", pager), **environment)


def test_what_does_not_fit_goes_through_the_pager_and_nothing_else_does() -> None:
    """A terminal of 40 rows; the pager marks what it is given. Colours stay, and so does the answer."""
    if runs_as_another():
        pytest.skip("who runs this has become another user, who is given no pager that runs what it is told")
    long, short, mark = ("show", S, "--below"), ("show", f"{S}/keys"), "sed s/^/through:/"
    paged = _of_the_pager(*long, pager=mark).splitlines()
    assert all(line.startswith("through:") for line in paged)
    assert [line.removeprefix("through:") for line in paged] == of_the_sample(80, *long).splitlines()
    assert "\x1b[" in paged[3]
    assert _of_the_pager(*short, pager=mark) == of_the_sample(80, *short)
    assert _of_the_pager(*long, "--no-pager", pager=mark) == of_the_sample(80, *long)
    for other in ("", "cat", "no-such-program -x", "unclosed '"):
        assert "through:" not in _of_the_pager(*long, pager=other)
        assert plain(_of_the_pager(*long, pager=other)) == plain(of_the_sample(80, *long))
    assert "through:" in _of_the_pager(*long, pager="", FIAT_PAGER=mark)
    # whoever has become another user is given nothing that runs what it is told
    knows = who_is_behind(NameService(), {}) is not None  # the kernel; then what the environment claims is nothing
    assert ("through:" in _of_the_pager(*long, pager=mark, SUDO_USER="nobody")) == knows
    # what is wrong is told when the pager is done
    assert plain(_of_the_pager(*long, "/nowhere", pager=mark)).splitlines()[-1].startswith("fiat show: cannot look at")
    assert len(_of_the_pager(*long, pager="head -3").splitlines()) == 3
    # what changes something is never held back
    assert "through:" not in on_terminal(80, "decode", "755", environment={"PAGER": mark})


def test_a_list_of_runs_has_a_line_for_each() -> None:
    """However long the command line: what is cut is the middle of a path, and the last line is the latest run."""
    with trusted_folder() as folder:
        deep = f"{folder}/{'a-rather-long-name-of-a-directory/' * 3}"
        os.makedirs(deep)
        history = ("--history", f"{folder}/h.db")
        for mode in ("700", "750", "755"):
            assert fiat("set", deep, "--mode", mode, "--below", *history).returncode == 0
        for columns in (80, 120):
            lines = plain(on_terminal(columns, "history", *history)).splitlines()
            rows = [line for line in lines if line.startswith("  ") and line.split()[0].isdecimal()]
            assert [row.split()[0] for row in rows] == ["1", "2", "3"]
            assert all(len(row) <= columns and "…" in row for row in rows)

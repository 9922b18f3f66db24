"""The configuration: what it sets, what counts before it, which files are read, and that a wrong one says where."""

import json
import os
import stat
import subprocess
from typing import Any

import pytest

from fiat.cli.registry import COMMANDS
from fiat.core.words.configuration import SETTINGS, parse_configuration
from support.kernel import STRANGER
from support.program import PROGRAM, fiat

S = "/srv/skerry"
SAMPLE = ("--from", "skerry")


def write(folder: str, text: str, mode: int = 0o644) -> str:
    path = f"{folder}/fiat.toml"
    with open(path, "w") as file:
        file.write(text)
    os.chmod(path, mode)
    return path


def configured(folder: str, text: str, *words: str, **options: Any) -> Any:
    return fiat("--config", write(folder, text), *words, **options)


def test_defaults_of_options(folder: str) -> None:
    """They count where the command line says nothing; a flag, a value, several values; for one command or all."""
    text = """
[options.who]
because = true
can = ["read", "write"]
[options.all]
format = "json"
[options."chart why"]
output = "x.png"
"""
    good = text.replace('[options."chart why"]\noutput = "x.png"\n', "")
    plain = fiat("who", f"{S}/keys", "--can", "read", "--can", "write", "--because", "--json", *SAMPLE)
    assert configured(folder, good, "who", f"{S}/keys", *SAMPLE).stdout == plain.stdout
    assert "owner" in fiat("who", f"{S}/keys", "--because", *SAMPLE).stdout
    typed = configured(folder, good, "who", f"{S}/keys", "--can", "delete", "-f", "csv", *SAMPLE).stdout
    assert typed == fiat("who", f"{S}/keys", "--can", "delete", "--because", "-f", "csv", *SAMPLE).stdout
    assert json.loads(configured(folder, good, "show", f"{S}/keys", *SAMPLE).stdout)["command"] == "show"
    assert "--output is not taken from a file" in configured(folder, text, "who", S, *SAMPLE).stderr


def test_what_counts_before_what(folder: str) -> None:
    """The command line, the environment, the file that is named, one's own, that of the machine."""
    os.makedirs(f"{folder}/home/fiat")
    own = write(f"{folder}/home/fiat", 'history = "/own"\npager = "own"\n')
    named = write(folder, 'history = "/named"\n')
    environment = {"XDG_CONFIG_HOME": f"{folder}/home", "FIAT_CONFIG": "", "FIAT_PAGER": ""}

    def told(*words: str, **more: str) -> dict[str, dict[str, str]]:
        done = fiat(*words, "--where", "--json", env={**environment, **more})
        assert (done.returncode, done.stderr) == (0, "")
        found: list[dict[str, str]] = json.loads(done.stdout)["results"]
        return {one["setting"]: one for one in found}

    assert told()["history"] == {"setting": "history", "value": "/own", "source": f"'{own}', line 1"}
    assert told("--config", named)["history"]["value"] == "/named"
    assert told("--config", named)["pager"]["value"] == "own"
    assert told(FIAT_CONFIG=named)["history"]["value"] == "/named"
    assert told(FIAT_PAGER="less")["pager"] == {
        "setting": "pager",
        "value": "less",
        "source": "the environment, FIAT_PAGER",
    }
    assert told("--config", "none")["history"]["source"] == "by itself"
    assert set(SETTINGS) <= told().keys()


def test_settings_do_what_they_say(folder: str) -> None:
    """The folder of snapshots, accounts that count as the system's, an engine."""
    tree = f"{folder}/t"
    os.mkdir(tree)
    text = f'snapshots = "{folder}/snapshots"\n'
    os.mkdir(f"{folder}/snapshots", 0o700)
    config = write(folder, text)
    assert fiat("--config", config, "save", tree).returncode == 0
    (host,) = os.listdir(f"{folder}/snapshots")
    assert host == os.uname().nodename
    (saved,) = os.listdir(f"{folder}/snapshots/{host}")
    assert saved.endswith(".jsonl.zst")
    services = configured(folder, 'system-accounts = ["surveyor", "steward"]', "who", S, "--below", *SAMPLE).stdout
    assert services != fiat("who", S, "--below", *SAMPLE).stdout
    assert "services" in services
    far = configured(folder, 'engine = "nonsense"', "audit", S, "--from", "skerry-fleet")
    typed = fiat("audit", S, "--engine", "nonsense", "--from", "skerry-fleet")
    assert (far.returncode, far.stderr) == (typed.returncode, typed.stderr)
    assert "nonsense" in far.stderr


def test_a_run_goes_into_the_history_that_is_set(folder: str) -> None:
    tree = f"{folder}/t"
    os.mkdir(tree)
    os.mkdir(f"{folder}/h", 0o700)
    config = write(folder, f'history = "{folder}/h/history.db"\n')
    done = subprocess.run([*PROGRAM, "--config", config, "set", tree, "--mode", "700"], capture_output=True, text=True)
    assert done.returncode == 0, done
    assert stat.S_IMODE(os.stat(tree).st_mode) == 0o700
    assert os.path.exists(f"{folder}/h/history.db")
    assert "--history" not in done.stdout, "the command that puts it back needs no option"
    listed = subprocess.run([*PROGRAM, "--config", config, "history"], capture_output=True, text=True)
    assert tree in listed.stdout


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("pagr = 1", "line 1: there is no setting 'pagr'; near is 'pager'"),
        ('\n\npager = ["less"]', "line 3: pager is a text"),
        ("history = 'h.db'", "line 1: history is 'h.db', and must begin with a slash"),
        ('system-accounts = "one"', "line 1: system-accounts is a list of names"),
        ("[options.who]\n\nbecaus = true", "line 3: fiat who has no option 'becaus'; near is 'because'"),
        ("[options.whom]\nall = true", "line 2: no command is called 'whom'; near is 'who'"),
        ("[options.who]\nbecause = 'yes'", "line 2: --because is true or false"),
        ("[options.who]\nuser = true", "line 2: --user takes a text or a number"),
        ("[options.who]\naccounts = ['a', 'b']", "line 2: --accounts takes one value, and this is a list"),
        ("options.who.becaus = 1", "line 1: fiat who has no option 'becaus'"),
        ("options = 3", "line 1: options is no table"),
        ("[options]\nbecause = true", "line 2: 'because' stands in no command's table"),
        ("pager = ", "is no TOML"),
        ('"a\\u001b" = 1', "not printable"),
    ],
)
def test_what_is_wrong_is_named_with_its_line(folder: str, text: str, says: str) -> None:
    done = configured(folder, text, "who", S, *SAMPLE)
    assert (done.returncode, says in done.stderr, done.stderr.count("\n"), done.stdout) == (2, True, 1, ""), done
    assert "fiat.toml" in done.stderr
    assert configured(folder, text, "--where").returncode == 2


@pytest.mark.parametrize("name", ["accept", "trust-file", "do", "even-if-changed", "no-history"])
def test_no_file_decides_what_takes_a_look(folder: str, name: str) -> None:
    """Neither for the command that is run, nor for another one."""
    for command in (*list(COMMANDS)[:3], "set"):
        done = configured(folder, f"[options.{command}]\n{name} = true", "who", S, *SAMPLE)
        assert (done.returncode, f"line 2: --{name} is not taken from a file" in done.stderr) == (2, True), done


@pytest.mark.root
def test_files_that_others_can_write_are_not_used(folder: str) -> None:
    """One that is named is refused; one's own that is somebody else's is told of, and passed over."""
    open_to_all = write(folder, 'pager = "sh"\n', 0o666)
    done = fiat("--config", open_to_all, "who", S, *SAMPLE)
    assert (done.returncode, "anybody can write to it" in done.stderr) == (4, True)
    os.makedirs(f"{folder}/theirs/fiat")
    path = write(f"{folder}/theirs/fiat", "history = 'nonsense'\n")
    os.chown(f"{folder}/theirs", STRANGER, -1)
    done = fiat("who", f"{S}/keys", *SAMPLE, env={"XDG_CONFIG_HOME": f"{folder}/theirs", "FIAT_CONFIG": ""})
    assert done.returncode == 0
    assert done.stderr.count("\n") == 1
    assert path in done.stderr
    assert "is not used" in done.stderr


def test_a_file_that_is_named_must_be_there(folder: str) -> None:
    done = fiat("--config", f"{folder}/missing.toml", "who", S, *SAMPLE)
    assert (done.returncode, "No such file" in done.stderr, done.stderr.count("\n")) == (2, True, 1), done
    for words in (("--config",), ("--config=", "who", S)):
        assert "--config names no file" in fiat(*words).stderr
    after = fiat("who", S, "--config", "x", *SAMPLE)
    assert "--config stands before the command: fiat --config FILE who" in after.stderr


def test_an_option_of_a_file_that_does_not_fit_says_where_it_stands(folder: str) -> None:
    done = configured(folder, "[options.who]\nbecause = true\n", "who", S, "--below", *SAMPLE)
    assert "(--because stands in" in done.stderr
    assert "fiat --config none who … leaves it out" in done.stderr
    done = configured(folder, "[options.why]\nall = true\n", "why", "keeper")
    assert (done.returncode, "stands in" in done.stderr) == (2, False), done
    done = configured(folder, '[options.who]\naccounts-timeout = "soon"\n', "who", S)
    assert (done.returncode, "stands in" in done.stderr) == (2, True), done


def test_lines_are_found_however_keys_are_written() -> None:
    text = 'pager="less"\n[ options . "who" ]\n"because"=true\n\'can\' = """\n[x]\n"""\n[options.audit]\nweight="odd"\n'
    found = parse_configuration(text.encode(), "f")
    assert found.settings["pager"].line == 1
    assert {name: given.line for name, given in found.options["who"].items()} == {"because": 3, "can": 4}
    assert found.options["audit"]["weight"].line == 8

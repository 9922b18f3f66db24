"""Messages in one voice: each error is one line that names the word that was wrong and says what to do; the words that
are Fiat's own stand in the glossary, and no other word is used for the same."""

import re
from pathlib import Path

import pytest

from fiat.cli.registry import COMMANDS, names
from support.program import fiat

S = "/srv/skerry"
DOCS = Path(__file__).parent.parent / "docs"
GLOSSARY, FORMATS = DOCS / "glossary.md", DOCS / "formats.md"
HOST = ("--from", "skerry")

WRONG = {
    "who /srv/skerry --user keper": "keper",
    "who /srv/skerry --group wach": "wach",
    "who /srv/skerry --can red": "red",
    "who /srv/skerry --belo": "--belo",
    "who /srv/skerry --pid many": "many",
    "who /srv/skery": "/srv/skery",
    "who /srv/skerry --because --below": "--because",
    "who /srv/skerry --if-member keeper": "keeper",
    "why keper read /srv/skerry": "keper",
    "why keeper red /srv/skerry": "red",
    "why group:wach read /srv/skerry": "wach",
    "show /srv/skery": "/srv/skery",
    "show /srv/skerry --user keper": "keper",
    "show /srv/skerry --below --with setuit": "setuit",
    "decode 8754": "8754",
    "decode u:keeper:rwz": "rwz",
    "foresee /srv/skery": "/srv/skery",
    "foresee /srv/skerry --by keper": "keper",
    "audit /srv/skerry --rule file-open-to-al": "file-open-to-al",
    "audit": "PATH",
    "check": "FILE",
    "check nothing.toml": "nothing.toml",
    "set /srv/skerry --mode 8 --preview": "8",
    "set /srv/skerry --mode u+q --preview": "u+q",
    "set /srv/skerry --owner keper --preview": "keper",
    "set /srv/skerry --entry user:keper:r --preview": "keper",
    "set /srv/skerry --arrange tem:survey --preview": "tem",
    "set /srv/skerry --accept lokout --mode 700 --preview": "lokout",
    "set /srv/skerry --preview": "--mode",
    "set": "PATH",
    "let keper read /srv/skerry": "keper",
    "let keeper red /srv/skerry": "red",
    "bar keper read /srv/skerry": "keper",
    "undo many": "many",
    "history --by keper": "keper",
    "save /srv/skerry": "-o",
    "save /srv/skery -o x": "/srv/skery",
    "restore nothing.jsonl --preview": "nothing.jsonl",
    "compare skerry": "B",
    "compare skery skerry": "skery",
    "chart": "KIND",
    "chart whom": "whom",
    "chart who /srv/skerry": "-o",
    "completion sh": "sh",
    "hwo /srv/skerry": "hwo",
}
"""Wrong command lines, with the word that is at fault."""

_NO_HOST = ("undo", "history", "compare", "restore", "chart", "completion", "hwo", "decode")

_STEP = re.compile(
    r"fiat [a-z-]+|near (is|are) |; (write|give|there (is|are)|see|it is|as|no)|write |lists them|such as|goes with"
    r"|does not go with|--[a-z]+|explains it|Give |No such file|is one of|stand r, w|, or a number"
)
"""What a next step looks like: a command, what would be right, or that a path is not there as the kernel says it."""


@pytest.mark.parametrize("line", WRONG)
def test_every_error_names_its_word_and_has_a_next_step(line: str, folder: str) -> None:
    words = line.split()
    host = () if words[0] in _NO_HOST or words[-1] == "chart" else HOST
    done = fiat(*words, *host, cwd=folder)
    if line == "chart":
        assert (done.returncode, "KIND" in done.stdout) == (2, True)
        return
    assert done.returncode == 2, done
    assert done.stdout == ""
    said = done.stderr.removesuffix("\n")
    assert "\n" not in said
    assert said.startswith(("fiat ", "fiat: "))
    message = said.partition(": ")[2]
    assert WRONG[line] in message, message
    assert _STEP.search(message), message
    assert not message.endswith((".", "!")), message
    assert not re.search(r"\b(please|sorry|oops|invalid|illegal|unable|failed to|error:)\b", message, re.I), message


def test_every_command_is_tried() -> None:
    assert {line.split()[0] for line in WRONG} - {"hwo"} == set(COMMANDS) - {"demo"}


# --- words --------------------------------------------------------------------

ELSEWHERE = {
    r"\bACLs?\b": "access list",
    r"\bpermission(?!s? denied)s?\b": "right, or mode",
    r"\brollback|revert(s|ed)?\b": "put back",
    r"\bdry.run\b": "preview",
    r"\brecursive(ly)?\b": "below",
    r"\bpolic(y|ies)\b": "expectation",
    r"\bvulnerabilit(y|ies)\b": "danger",
    r"\bsuper.user\b": "superuser",
    r"\bsearch permission\b": "traverse",
    r"\bworld.(readable|writable)\b": "everyone may read, or write",
}
"""Words that others have for what Fiat calls otherwise, with Fiat's."""


def glossary() -> set[str]:
    return set(re.findall(r"^(\w[\w ]*)\n: ", GLOSSARY.read_text(), re.M))


def test_the_tour_keeps_to_the_words() -> None:
    """All that the tour prints, and all help: the glossary's words are used, and none that stands for one of them."""
    tour = fiat("demo").stdout
    helps = "\n".join(fiat(*name.split(), "--help").stdout for name in [*names(), "chart"])
    said = re.sub(r"(?m)^\$ .*$|--[\w-]+|/\S+|\(e\.g\.[^)]*\)|Permission denied", " ", tour + helps)
    said = re.sub(r"(?m)^.*(only|--only) .*$", " ", said)  # files and dirs are words of an option
    for word, ours in ELSEWHERE.items():
        found = re.search(f".{{0,60}}{word}.{{0,40}}", said)
        assert found is None, f"{found[0]!r}: Fiat says {ours}"
    lowered = re.sub("[-_]", " ", said + FORMATS.read_text()).lower()  # names of fields are words, too
    beginnings = {word: word.removesuffix("y") for word in glossary()}
    unused = [word for word, begin in beginnings.items() if not re.search(rf"\b{re.escape(begin)}", lowered)]
    assert unused == [], "words of the glossary that nothing uses"
    assert len(glossary()) > 20

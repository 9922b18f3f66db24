"""The documentation as it is built: manual pages that man shows without a word, a site whose links lead somewhere."""

import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote

import pytest

from fiat.cli.registry import load, names
from support.places import trusted_folder
from support.program import fiat

pytestmark = pytest.mark.slow
HOME = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def built() -> Iterator[Path]:
    """The site and the manual pages; Sphinx takes warnings for errors."""
    with trusted_folder() as folder:
        done = subprocess.run(
            [sys.executable, "scripts/documentation.py"],
            cwd=HOME,
            env={**os.environ, "FIAT_BUILD": folder},
            capture_output=True,
            text=True,
        )
        assert (done.returncode, done.stdout) == (0, ""), done
        yield Path(folder)


def shown(page: Path) -> tuple[str, str]:
    """What man shows of a page at 80 columns, and what it and the formatter complain of."""
    if shutil.which("man") is None:
        if os.environ.get("FIAT_TEST_EVERYTHING"):
            pytest.fail("man is not here")
        pytest.skip("man is not here")
    done = subprocess.run(
        ["man", "--warnings", "-E", "UTF-8", "-l", str(page)],
        env={**os.environ, "MANWIDTH": "80", "LC_ALL": "C.UTF-8", "MAN_KEEP_FORMATTING": ""},
        capture_output=True,
        text=True,
    )
    return re.sub(r".\x08", "", done.stdout), done.stderr


def test_there_is_a_page_for_each_command_and_man_shows_all(built: Path) -> None:
    pages = {page.name for page in (built / "man").glob("*.[1-8]")}
    commands = {f"fiat-{name.replace(' ', '-')}.1" for name in names()}
    others = {"fiat.1", "fiat-rules.7"} | {
        f"fiat-{name}.5" for name in ("formats", "expectations", "arrangements", "configuration")
    }
    assert pages == commands | others
    for page in sorted(pages):
        text, complaints = shown(built / "man" / page)
        assert complaints == "", page
        assert len(text) > 500, page
        wide = [line for line in text.splitlines() if len(line) > 80]  # what is to be copied stays in one piece
        assert all("fiat" in line or page.endswith(".5") for line in wide), (page, wide)
        assert "NAME" in text


def test_pages_say_what_help_says(built: Path) -> None:
    """Every option that a command takes, with its explanation, and every example."""
    for name in names():
        command = load(name)
        text, _ = shown(built / "man" / f"fiat-{name.replace(' ', '-')}.1")
        told = re.sub(r"‐\n\s*", "", text)  # words are parted at the ends of lines
        told = " ".join(told.split())
        for option in command.parser.options():
            if option.startswith("--") and option not in ("--help", "--json", "--no-pager", "--trust-file"):
                assert option in told, (name, option)
        for about, line in command.examples:
            assert " ".join(about.split()) in told, (name, about)
            assert "".join(line.split()) in "".join(told.split()), (name, line)


class Links(HTMLParser):
    """What a page links to, and what can be linked to in it."""

    def __init__(self, page: Path) -> None:
        super().__init__()
        self.targets: list[str] = []
        self.anchors: set[str] = set()
        self.feed(page.read_text(encoding="utf-8"))

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = dict(attrs)
        self.anchors |= {str(given[name]) for name in ("id", "name") if given.get(name)}
        target = given.get("href" if tag in ("a", "link") else "src")
        if target:
            self.targets.append(target)


def test_every_link_leads_somewhere(built: Path) -> None:
    site = built / "site"
    pages = {page: Links(page) for page in site.rglob("*.html") if "_static" not in page.parts}
    assert len(pages) > 40
    followed = 0
    for page, found in pages.items():
        for target in found.targets:
            if re.match(r"[a-z]+:", target):
                assert target.startswith(("data:", "mailto:")) or "sphinx" in target or "furo" in target, (page, target)
                continue
            path, _, anchor = unquote(target.partition("?")[0]).partition("#")
            there = (page.parent / path).resolve() if path else page
            assert there.exists(), (page.name, target)
            followed += 1
            if anchor and there in pages:
                assert anchor in pages[there].anchors, (page.name, target)
    assert followed > 1000


@pytest.mark.root
def test_what_is_tried_by_hand_is_what_fiat_says(folder: str) -> None:
    """The program of the page on checking by hand, as it stands there, for files of every mode that an account sees."""
    text = (HOME / "docs/by-hand.md").read_text()
    program = text.partition("<<'END'\n")[2].partition("END\n")[0]
    assert "os.setuid" in program
    for mode in (0o600, 0o604, 0o602, 0o606, 0o644, 0o000):
        path = f"{folder}/{mode:o}"
        with open(path, "w"):
            os.chmod(path, mode)
        words = [sys.executable, "-", "nobody", path]
        tried = subprocess.run(words, input=program, capture_output=True, text=True, check=True).stdout.splitlines()
        for right, line in zip(("read", "write"), tried, strict=True):
            said = fiat("why", "nobody", right, path)
            assert line.startswith(f"{right} {'yes' if said.returncode == 0 else 'no'}"), (line, said)

"""The packages, as whoever installs them has them: built twice, installed in a clean root, removed without a trace."""

import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from support.places import trusted_folder

pytestmark = [pytest.mark.slow, pytest.mark.root]
HOME = Path(__file__).parent.parent
NO_SOURCE = shutil.ignore_patterns(".git", ".venv*", "build", "dist", "__pycache__", ".*_cache", ".hypothesis")
UNITS = [f"fiat-{name}.{kind}" for name in ("save", "audit", "check") for kind in ("service", "timer")]


def built(source: Path, into: Path, *kinds: str) -> list[Path]:
    environment = {**os.environ, "FIAT_DIST": str(into), "PYTHONPATH": str(source / "src")}
    words = [sys.executable, str(source / "scripts/package.py"), *kinds]
    done = subprocess.run(words, env=environment, cwd=source, capture_output=True, text=True)
    assert done.returncode == 0, done
    return [Path(line) for line in done.stdout.split()]


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def test_the_same_source_gives_the_same_bytes(folder: str) -> None:
    """In another folder, in another order, at another time, under another umask."""
    found = []
    for name, umask in (("one", 0o022), ("other", 0o077)):
        source = Path(folder) / name / "fiat"
        shutil.copytree(HOME, source, ignore=NO_SOURCE)
        for number, path in enumerate(sorted(source.rglob("*.py"), reverse=name == "other")):
            os.utime(path, (10**9 + number, 10**9 + number))
        before = os.umask(umask)
        try:
            found.append([(path.name, digest(path)) for path in built(source, Path(folder) / name, "sdist", "wheel")])
        finally:
            os.umask(before)
    assert found[0] == found[1]
    assert [name.rpartition(".")[2] for name, _ in found[0]] == ["gz", "whl"]


def test_the_wheel_runs_by_itself(folder: str) -> None:
    """From where it is installed, and not from the source; with the pages, scripts and data that it needs."""
    (wheel,) = built(HOME, Path(folder), "wheel")
    into = f"{folder}/there"
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "-q", "install", "--no-deps", "--no-index"]
    subprocess.run([*pip, "--target", into, str(wheel)], check=True)
    environment = {**os.environ, "PYTHONPATH": into}
    for words in (["demo"], ["chart", "page", "/srv/skerry", "--from", "skerry", "-o", f"{folder}/page.html"]):
        done = subprocess.run(
            [sys.executable, "-m", "fiat", *words], cwd=folder, env=environment, capture_output=True, text=True
        )
        assert (done.returncode, done.stderr) == (0, ""), done
    assert os.path.exists(f"{into}/bin/fiat")
    asked = [sys.executable, "-c", "import fiat; print(fiat.__file__)"]
    assert into in subprocess.run(asked, env=environment, capture_output=True, text=True, cwd=folder).stdout


@pytest.fixture(scope="module")
def root() -> Iterator[str]:
    """A new Debian with Python, and nothing else."""
    with trusted_folder() as folder:
        place = f"{folder}/root"
        made = shutil.which("mmdebstrap") is not None and (
            subprocess.run(
                ["mmdebstrap", "--quiet", "--variant=minbase", "--include=python3,man-db", "bookworm", place],
                capture_output=True,
            ).returncode
            == 0
        )
        if not made:
            if os.environ.get("FIAT_TEST_EVERYTHING"):
                pytest.fail("no clean root can be made here")
            pytest.skip("no clean root can be made here")
        subprocess.run(["mount", "-t", "proc", "proc", f"{place}/proc"], check=True)
        try:
            yield place
        finally:
            subprocess.run(["umount", "-l", f"{place}/proc"], check=True)


def inside(root: str, *words: str) -> subprocess.CompletedProcess[str]:
    environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/root", "LC_ALL": "C.UTF-8"}
    return subprocess.run(["chroot", root, *words], env=environment, capture_output=True, text=True)


def everything(root: str) -> set[str]:
    found = set()
    for here, folders, files in os.walk(root):
        if here == root:
            folders[:] = [name for name in folders if name not in ("proc", "sys", "dev", "tmp")]
        found |= {os.path.relpath(f"{here}/{name}", root) for name in (*folders, *files)}
    return found


def test_the_debian_package_in_a_clean_root(root: str, folder: str) -> None:
    (package,) = built(HOME, Path(folder), "deb")
    before = everything(root)
    shutil.copy(package, f"{root}/tmp/fiat.deb")
    installed = inside(root, "dpkg", "-i", "/tmp/fiat.deb")
    assert installed.returncode == 0, installed
    there = everything(root) - before
    # it works, and writes nothing by being used
    assert inside(root, "fiat", "demo").returncode == 0
    answer = inside(root, "fiat", "who", "/etc/shadow", "--can", "read")
    assert (answer.returncode, answer.stderr) == (0, "")
    assert "root" in answer.stdout
    assert everything(root) - before == there
    for name in ("who.png", "page.html"):
        words = ("chart", name.partition(".")[0], "/etc/shadow", "-o", f"/tmp/{name}")
        drawn = inside(root, "fiat", *words)
        assert (drawn.returncode, drawn.stderr) == (0, ""), drawn
    # manual pages, completion, timers that are off
    page = inside(root, "man", "fiat-who")
    assert (page.returncode, page.stderr) == (0, ""), page
    assert "which users and groups can really get at a path" in " ".join(page.stdout.split())
    for path in (
        "bash-completion/completions/fiat",
        "zsh/vendor-completions/_fiat",
        "fish/vendor_completions.d/fiat.fish",
    ):
        assert os.path.getsize(f"{root}/usr/share/{path}") > 10_000
    assert all(os.path.exists(f"{root}/usr/lib/systemd/system/{unit}") for unit in UNITS)
    assert not [path for path in everything(root) if "wants/fiat" in path]
    if shutil.which("systemd-analyze"):
        verified = subprocess.run(
            ["systemd-analyze", "verify", f"--root={root}", "--man=no", *UNITS], capture_output=True, text=True
        )
        # a root without systemd has none of its targets
        wrong = [line for line in verified.stderr.splitlines() if "fiat" in line and "target not found" not in line]
        assert not wrong, wrong
    # what the timers run
    os.makedirs(f"{root}/srv/tree", exist_ok=True)
    night = ("save", "/srv", "--add", "/var/lib/fiat/snapshots", "--keep", "30", "--for-audit", "--quiet")
    saved = inside(root, "fiat", *night)
    assert (saved.returncode, saved.stdout, saved.stderr) == (0, "", ""), saved
    # gone, but for its history
    assert inside(root, "fiat", "set", "/srv/tree", "--mode", "700").returncode == 0
    removed = inside(root, "dpkg", "-P", "fiat")
    assert (removed.returncode, "warning" in removed.stderr) == (0, False), removed
    left = {path for path in everything(root) - before if not path.startswith(("var/lib/fiat", "srv", "var/log"))}
    # what man has indexed, and the list of fonts in the cache of whoever drew, are theirs
    assert {path for path in left if not path.startswith(("var/cache/man", "root/.cache"))} == set()
    assert os.path.exists(f"{root}/var/lib/fiat/history.db")

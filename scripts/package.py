"""Build the packages: ``python scripts/package.py [sdist] [wheel] [deb]``, into dist; all where none is named.

``wheel`` is the one that needs nothing compiled. ``wheels`` are those with the compiled part, for Python 3.11 and newer
on each of the machines below; they take what requirements/wheels.txt pins (``make wheels``): a compiler for every
machine, and what tells on which systems a wheel runs.

The same source gives the same bytes. The Debian package holds Fiat and the pinned libraries that it needs
(requirements/run.txt), for the Python and the machine that it is built with; manual pages, completion, and timers for
save, audit and check, which are off until they are enabled. FIAT_DIST names another folder than dist.
"""

from __future__ import annotations

import gzip
import os
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

HOME = Path(__file__).resolve().parent.parent
DIST = Path(os.environ.get("FIAT_DIST") or HOME / "dist")
FILES = HOME / "packaging"
COMPLETIONS = {
    "bash": "usr/share/bash-completion/completions/fiat",
    "zsh": "usr/share/zsh/vendor-completions/_fiat",
    "fish": "usr/share/fish/vendor_completions.d/fiat.fish",
}
_BUILDERS = ("hatchling", "editables", "packaging", "pathspec", "pluggy", "tomlkit", "trove-classifiers")
"""What only builds Fiat, of all that is pinned."""

_CHARTS = (
    *("contourpy", "cycler", "fonttools", "jinja2", "kiwisolver", "markupsafe", "matplotlib", "packaging", "pillow"),
    *("pyparsing", "python-dateutil", "tzdata"),
)
"""What pictures and pages need besides; nothing is loaded of it for anything else."""


def main() -> None:
    """Build what is named on the command line."""
    wanted = sys.argv[1:] or ["sdist", "wheel", "deb"]
    os.environ["SOURCE_DATE_EPOCH"] = str(epoch())
    DIST.mkdir(parents=True, exist_ok=True)
    for kind in wanted:
        for made in build_wheels() if kind == "wheels" else [build_deb() if kind == "deb" else build_python(kind)]:
            print(made)


def epoch() -> int:
    """The time that everything in a package has, in seconds: as the environment says, or that of the last commit."""
    given = os.environ.get("SOURCE_DATE_EPOCH")
    if given:
        return int(given)
    words = ["git", "-C", str(HOME), "log", "-1", "--format=%ct"]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    return int(done.stdout) if done.returncode == 0 else 1_764_547_200


def build_python(kind: str) -> Path:
    """An sdist or a wheel; its path."""
    return _hatched(kind, DIST, {"FIAT_NATIVE": "0"})


def _hatched(kind: str, into: Path, environment: dict[str, str]) -> Path:
    words = [sys.executable, "-m", "hatchling", "build", "-t", kind, "-d", str(into)]
    environment = {**os.environ, **environment}
    said = subprocess.run(words, cwd=HOME, check=True, capture_output=True, text=True, env=environment)
    return into / Path(said.stdout.split()[-1] if said.stdout.split() else said.stderr.split()[-1]).name


MACHINES = ("x86_64", "aarch64")
_GLIBC = "2.28"
"""The oldest C library that the wheels run with: it has statx(2)."""


def build_wheels() -> list[Path]:
    """The wheels with the compiled part, each named for the systems that it was found to run on."""
    made = []
    for machine in MACHINES:
        with tempfile.TemporaryDirectory() as folder:
            compiler = f"{sys.executable} -m ziglang cc -target {machine}-linux-gnu.{_GLIBC}"
            environment = {
                "FIAT_NATIVE": "1",
                "FIAT_PLATFORM": f"linux_{machine}",
                "CC": compiler,
                "LDSHARED": f"{compiler} -shared",
                "CFLAGS": "",
                "ZIG_GLOBAL_CACHE_DIR": folder,
            }
            wheel = _hatched("wheel", Path(folder), environment)
            words = [sys.executable, "-m", "auditwheel", "repair", "--wheel-dir", f"{folder}/named", str(wheel)]
            subprocess.run(words, check=True, capture_output=True)
            (named,) = Path(folder, "named").iterdir()
            made.append(Path(shutil.move(named, DIST / named.name)))
    return made


def version() -> str:
    """The version of Fiat."""
    found = re.search(r'__version__ = "(.*)"', (HOME / "src/fiat/__init__.py").read_text())
    assert found is not None
    return found[1]


def build_deb() -> Path:
    """The Debian package; its path."""
    machine = subprocess.run(
        ["dpkg", "--print-architecture"], check=True, capture_output=True, text=True
    ).stdout.strip()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder) / "root"
        root.mkdir(mode=0o755)
        _libraries(root)
        _programs(root)
        _manual(root, Path(folder))
        _units(root)
        _documents(root)
        _control(root, machine)
        for path in [*root.rglob("*"), root]:
            if not path.is_symlink():
                path.chmod(0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644)
            os.utime(path, (epoch(), epoch()), follow_symlinks=False)
        made = DIST / f"fiat_{version()}_{machine}.deb"
        words = ["dpkg-deb", "--root-owner-group", "-Zxz", "--build", str(root), str(made)]
        subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
    return made


def _libraries(root: Path) -> None:
    """Fiat and what it imports, compiled: a root that runs it writes nothing here."""
    into = root / "usr/lib/fiat"
    run, every = (_pins(HOME / "requirements" / name) for name in ("run.txt", "test.txt"))
    needed = [every[name] for name in (*(one for one in run if one not in _BUILDERS), *_CHARTS)]
    with tempfile.NamedTemporaryFile("w", suffix=".txt") as file:
        file.write("".join(needed))
        file.flush()
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet", "install", "--no-compile"]
        subprocess.run([*pip, "--require-hashes", "--target", str(into), "-r", file.name], check=True)
    shutil.copytree(HOME / "src/fiat", into / "fiat", ignore=shutil.ignore_patterns("__pycache__"))
    for useless in (*into.glob("*/tests"), *into.glob("numpy/*/tests"), into / "bin", *into.glob("*.dist-info/RECORD")):
        shutil.rmtree(useless) if useless.is_dir() else useless.unlink()
    words = ["-m", "compileall", "-q", "--invalidation-mode", "unchecked-hash", "-s", str(root), "-p", "/", str(into)]
    subprocess.run([sys.executable, *words], check=True)


def _pins(file: Path) -> dict[str, str]:
    """What a file pins, by name, each with its digests."""
    parts = re.split(r"(?m)^(?=\S)", file.read_text())
    return {part.partition("==")[0]: part for part in parts if "==" in part}


def _programs(root: Path) -> None:
    program = root / "usr/bin/fiat"
    program.parent.mkdir(parents=True)
    shutil.copy(FILES / "fiat", program)
    program.chmod(0o755)
    for shell, path in COMPLETIONS.items():
        place = root / path
        place.parent.mkdir(parents=True, exist_ok=True)
        words = [sys.executable, "-m", "fiat", "completion", shell]
        environment = {**os.environ, "PYTHONPATH": str(HOME / "src"), "FIAT_CONFIG": "none"}
        place.write_bytes(subprocess.run(words, check=True, capture_output=True, env=environment).stdout)


def _manual(root: Path, folder: Path) -> None:
    environment = {**os.environ, "FIAT_BUILD": str(folder / "build")}
    subprocess.run([sys.executable, str(HOME / "scripts/documentation.py"), "man"], check=True, env=environment)
    for page in sorted((folder / "build/man").glob("*.[1-8]")):
        _zipped(page, root / f"usr/share/man/man{page.suffix[1:]}/{page.name}.gz")


def _zipped(source: Path, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    with open(target, "wb") as file, gzip.GzipFile("", "wb", 9, file, mtime=0) as into:
        into.write(source.read_bytes())


def _units(root: Path) -> None:
    folder = root / "usr/lib/systemd/system"
    folder.mkdir(parents=True)
    for unit in sorted([*FILES.glob("*.service"), *FILES.glob("*.timer")]):
        shutil.copy(unit, folder)


def _documents(root: Path) -> None:
    folder = root / "usr/share/doc/fiat"
    folder.mkdir(parents=True)
    shutil.copy(HOME / "LICENSE", folder / "copyright")
    _zipped(HOME / "CHANGELOG.md", folder / "changelog.gz")
    for page in sorted((HOME / "docs").glob("*.md")):
        _zipped(page, folder / f"{page.name}.gz")


def _control(root: Path, machine: str) -> None:
    folder = root / "DEBIAN"
    folder.mkdir()
    shutil.copy(FILES / "prerm", folder / "prerm")
    (folder / "prerm").chmod(0o755)
    size = sum(path.lstat().st_size for path in root.rglob("*") if path.is_file()) // 1024
    major, minor = sys.version_info[:2]
    (folder / "control").write_text(
        f"""Package: fiat
Version: {version()}
Architecture: {machine}
Maintainer: The authors of Fiat <fiat@localhost>
Installed-Size: {size}
Depends: python3 (>= {major}.{minor}), python3 (<< {major}.{minor + 1}), libc6
Suggests: man-db
Section: admin
Priority: optional
Description: what a path allows, and who can really get at it
 Shows what mode bits, ownership, special bits and POSIX access lists of a
 path allow, and which users and groups can therefore really read, write,
 execute or traverse it, before and after each change; finds what is
 dangerous, checks what was meant, and puts back what was changed.
 .
 Timers for nightly snapshots, audits and checks are included, and are off
 until they are enabled: systemctl enable --now fiat-save.timer
"""
    )


if __name__ == "__main__":
    main()

"""Builds ``fiat._native`` with the compiler that Python was built with, where there is one.

Without a compiler, or Python's headers, Fiat is built without it: everything works, more slowly. ``FIAT_NATIVE=0``
leaves it out; with ``FIAT_NATIVE=1`` a build that fails is an error. ``FIAT_PLATFORM`` names another machine, where CC
and LDSHARED compile for that.
"""

import os
import sysconfig
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

SOURCES = ("attributes.c", "changing.c", "laying.c", "module.c", "numbered.c", "reading.c")
NAME = "_native.abi3.so"
FLAGS = ["-std=gnu11", "-O2", "-Wall", "-Wextra", "-Wshadow", "-g0"]


class CustomBuildHook(BuildHookInterface[Any]):
    """Puts the compiled module into a wheel, or beside the sources of an editable installation."""

    _folder: TemporaryDirectory[str] | None = None

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, and have the wheel hold what came of it."""
        wanted = os.environ.get("FIAT_NATIVE", "")
        beside = Path(self.root) / "src" / "fiat" / NAME
        if version == "editable":
            beside.unlink(missing_ok=True)
        if wanted == "0" or self.target_name != "wheel":
            return
        self._folder = TemporaryDirectory()
        try:
            made = compiled(Path(self.root) / "native", Path(self._folder.name))
        except Exception as error:
            if wanted == "1":
                raise
            self.app.display_warning(f"Fiat is built without its compiled part: {error}")
            return
        if version == "editable":
            # put in place at once: a Fiat that runs goes on with the file that it has
            new = beside.with_suffix(f".{os.getpid()}")
            new.write_bytes(made.read_bytes())
            new.chmod(0o755)
            new.replace(beside)
            return
        build_data["force_include"][str(made)] = f"fiat/{NAME}"
        build_data["pure_python"] = False
        platform = os.environ.get("FIAT_PLATFORM") or sysconfig.get_platform()
        build_data["tag"] = f"cp311-abi3-{platform.replace('-', '_').replace('.', '_')}"

    def finalize(self, version: str, build_data: dict[str, Any], artifact_path: str) -> None:
        """Nothing is left behind."""
        if self._folder is not None:
            self._folder.cleanup()


def compiled(sources: Path, folder: Path) -> Path:
    """The module, compiled by setuptools in a folder; any of its errors where that cannot be done."""
    from setuptools import Distribution, Extension
    from setuptools.command.build_ext import build_ext

    module = Extension(
        "_native",
        [str(sources / name) for name in SOURCES],
        extra_compile_args=FLAGS,
        libraries=["pthread"],
        py_limited_api=True,
    )
    command = build_ext(Distribution({"ext_modules": [module]}))
    command.build_lib = command.build_temp = str(folder)
    command.ensure_finalized()
    command.run()
    (made,) = folder.glob("_native*.so")
    return made

"""Builds ``fiat._native`` with the compiler that Python was built with, where there is one.

Without a compiler, or Python's headers, Fiat is built without it: everything works, more slowly. ``FIAT_NATIVE=0``
leaves it out; with ``FIAT_NATIVE=1`` a build that fails is an error.
"""

import os
import sysconfig
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

SOURCES = ("attributes.c", "changing.c", "module.c", "numbered.c", "reading.c")
FLAGS = ["-std=gnu11", "-O2", "-Wall", "-Wextra", "-Wshadow", "-g0"]


class CustomBuildHook(BuildHookInterface[Any]):
    """Puts the compiled module into a wheel, or beside the sources of an editable installation."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, and have the wheel hold what came of it."""
        wanted = os.environ.get("FIAT_NATIVE", "")
        target = Path(self.root) / "src" / "fiat" / "_native.abi3.so"
        if wanted == "0" or self.target_name != "wheel":
            return
        try:
            built = compiled(Path(self.root) / "native", target)
        except Exception as error:
            if wanted == "1":
                raise
            self.app.display_warning(f"Fiat is built without its compiled part: {error}")
            target.unlink(missing_ok=True)
            return
        build_data["artifacts"].append(f"src/fiat/{built.name}")
        build_data["pure_python"] = False
        build_data["tag"] = f"cp311-abi3-{sysconfig.get_platform().replace('-', '_').replace('.', '_')}"


def compiled(sources: Path, target: Path) -> Path:
    """The module, compiled by setuptools; any of its errors where that cannot be done."""
    from setuptools import Distribution, Extension
    from setuptools.command.build_ext import build_ext

    module = Extension(
        "_native",
        [str(sources / name) for name in SOURCES],
        extra_compile_args=FLAGS,
        libraries=["pthread"],
        py_limited_api=True,
    )
    with TemporaryDirectory() as folder:
        command = build_ext(Distribution({"ext_modules": [module]}))
        command.build_lib = command.build_temp = folder
        command.ensure_finalized()
        command.run()
        (made,) = Path(folder).glob("_native*.so")
        target.write_bytes(made.read_bytes())
        target.chmod(0o755)
    return target

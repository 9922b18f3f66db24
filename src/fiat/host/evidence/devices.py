"""What devices, modules and every program's start bring about: rules of udev(7), modprobe.d(5), ld.so(8)."""

import glob
import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.host.evidence.commandlines import Setting, of_command, of_shell
from fiat.host.evidence.texts import files_like, first_of_a_name, is_roots_alone, lines_of, text_of

_RULES = ("/etc/udev/rules.d", "/run/udev/rules.d", "/usr/local/lib/udev/rules.d", "/usr/lib/udev/rules.d")
_MODULES = ("/etc/modprobe.d", "/run/modprobe.d", "/usr/local/lib/modprobe.d", "/usr/lib/modprobe.d")
_HELPERS = "/usr/lib/udev"
"""Where udev looks for programs without a path."""

_RUNS = re.compile(
    r"""(?:RUN(?:\{program\})?\s*\+?:?=|PROGRAM\s*=?=|IMPORT\{program\}\s*=?=)\s*(?:e?"((?:[^"\\]|\\.)*)")"""
)
_INSTALL = re.compile(r"(?:install|remove)\s+\S+\s+(.*)")


def of_devices() -> Iterator[StartedFile]:
    """The programs that rules for devices run, and the lines that loading a module hands to a shell."""
    for path in first_of_a_name(_RULES, ".rules"):
        setting = Setting(0, f"rule {path}", path=(_HELPERS,))
        for line in lines_of(path):
            for command in _RUNS.findall(line):
                yield from of_command(command.replace('\\"', '"'), setting)
    for path in first_of_a_name(_MODULES, ".conf"):
        for line in lines_of(path):
            found = _INSTALL.fullmatch(line)
            if found is not None:
                yield from of_shell(found[1], Setting(0, f"modules {path}"))


def of_the_loader() -> Iterator[StartedFile]:
    """The libraries that every program loads, and the folders that they are looked for in."""
    setting = Setting(0, "every program's loader")
    for line in lines_of("/etc/ld.so.preload"):
        for word in re.split(r"[\s:]+", line.partition("#")[0]):
            if word.startswith("/"):
                yield setting.started(word, run=False)
    for folder in _library_folders("/etc/ld.so.conf", 0):
        yield setting.started(folder, run=False, folder=True)
        for path in files_like(f"{glob.escape(folder)}/*"):
            if not is_roots_alone(path):
                yield setting.started(path, run=False)


def library_folders() -> tuple[str, ...]:
    """Where programs look for their libraries, after what they name themselves (ld.so(8), ldconfig(8))."""
    return tuple(dict.fromkeys((*_library_folders("/etc/ld.so.conf", 0), "/lib64", "/usr/lib64", "/lib", "/usr/lib")))


def _library_folders(path: str, depth: int) -> Iterator[str]:
    if depth > 4:
        return
    for line in text_of(path).split("\n"):
        words = line.partition("#")[0].split()
        if words[:1] == ["include"]:
            for word in words[1:]:
                pattern = os.path.join(os.path.dirname(path), word)
                for one in sorted(glob.glob(pattern)):
                    yield from _library_folders(one, depth + 1)
        elif words[:1] != ["hwcap"]:
            yield from (word.partition("=")[0] for word in words if word.startswith("/"))

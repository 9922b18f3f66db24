"""What upkeep runs: the hooks of apt.conf(5), and the scripts that logrotate(8) hands to a shell."""

import glob
import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, of_shell
from fiat.host.evidence.texts import files_like, is_open_to_others, text_of

_HOOK = re.compile(
    r"(?i)(?:dpkg|apt(?:::update)?)::(?:pre-invoke|post-invoke(?:-success)?|pre-install-pkgs|[\w-]*invoke)"
)
_PART = re.compile(r"[\w-]+(?:\.conf)?")
_TOKEN = re.compile(r'"((?:[^"\\]|\\.)*)"|//[^\n]*|/\*.*?\*/|(?m:^\s*#(?!clear)[^\n]*)|([{};])|([^\s{};"]+)', re.DOTALL)

_SCRIPTS = re.compile(
    r"(?m)^\s*(?:pre|post)rotate\s*$(.*?)^\s*endscript|^\s*(?:first|last)action\s*$(.*?)^\s*endscript|"
    r"^\s*preremove\s*$(.*?)^\s*endscript",
    re.DOTALL,
)
_SU = re.compile(r"(?m)^\s*su\s+(\S+)")
_INCLUDE = re.compile(r"(?m)^\s*include\s+(\S+)")
_PASSED_OVER = (
    ".disabled .dpkg-old .dpkg-dist .dpkg-new .cfsaved .ucf-old .ucf-dist .ucf-new .rpmorig .rpmsave .swp .rpmnew ~ ,v "
    ".bak .dpkg-bak .dpkg-del"
).split()
"""Endings of names in a folder that logrotate does not read (logrotate.conf(5), tabooext)."""


def of_package_manager() -> Iterator[StartedFile]:
    """The lines that apt hands to a shell before and after its work."""
    parts = [path for path in files_like("/etc/apt/apt.conf.d/*") if _PART.fullmatch(os.path.basename(path))]
    for path in (*parts, "/etc/apt/apt.conf"):
        for name, value in apt_settings(text_of(path)):
            if _HOOK.fullmatch(name.rstrip(":")):
                yield from of_shell(value, Setting(0, f"hook {path}"))


def apt_settings(text: str) -> Iterator[tuple[str, str]]:
    """The names and values of a file as apt.conf(5) describes it: scopes in braces, and lists of quoted values."""
    scopes: list[str] = []
    name, value = "", None
    for found in _TOKEN.finditer(text):
        quoted, sign, word = found.groups()
        if quoted is not None:
            value = quoted
        elif word is not None:
            if name:
                value = word
            else:
                name = word
        elif sign == "{":
            scopes.append(name)
            name, value = "", None
        elif sign is not None:
            if value is not None:
                yield "::".join(one.rstrip(":") for one in (*scopes, name) if one.rstrip(":")), value
            name, value = "", None
            if sign == "}" and scopes:
                scopes.pop()


def of_log_rotation(accounts: Accounts) -> Iterator[StartedFile]:
    """The configuration that logrotate reads, and what its scripts run."""
    seen: set[str] = set()
    pending = ["/etc/logrotate.conf"]
    while pending:
        path = pending.pop(0)
        if path in seen or _is_passed_over(path):
            continue
        seen.add(path)
        text = text_of(path)
        setting = Setting(0, f"log rotation {path}", accounts=accounts)
        yield setting.started(path, run=False)
        for place in _INCLUDE.findall(text):
            if os.path.isdir(place):
                yield setting.started(place, run=False, folder=True)
                pending += files_like(f"{glob.escape(place)}/*")
            else:
                pending += files_like(place)
        whose = _SU.search(text)
        for scripts in _SCRIPTS.findall(text):
            for script in scripts:
                yield from of_shell(script, setting.as_user(whose[1]) if whose else setting)


def _is_passed_over(path: str) -> bool:
    """Whether logrotate does not read it: by its name, or since others own it or may write to it."""
    if path.endswith(tuple(_PASSED_OVER)) or not os.path.isfile(path):
        return True
    return is_open_to_others(path)

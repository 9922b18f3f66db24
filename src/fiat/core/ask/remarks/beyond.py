"""Remarks on what counts beyond mode and lists: flags, capabilities, mounts, hard links, the unknown.

Source: ioctl_iflags(2), capabilities(7), mount(2), link(2).
"""

import os
from collections.abc import Iterator

from fiat.core.ask.remarks.subject import Subject
from fiat.core.model import capabilities
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.finding import Finding
from fiat.core.model.kind import NEVER_READ_ONLY, Kind
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.program import Format
from fiat.core.text import joined, visible


def remarks(subject: Subject) -> Iterator[Finding]:
    """What limits even the superuser, what a program brings along, what could not be read."""
    yield from _flags(subject)
    found = subject.posture.capabilities
    if found is not None:
        yield from _capabilities(subject, found)
    yield from _program(subject)
    yield from _mount(subject)
    links = subject.object.status.links
    if links > 1 and not subject.directory:
        text = f"{links} names lead to this object: a change made through one of them shows under all"
        yield Finding("hard-links", "plain", text)
    for what, number in subject.object.unknown:
        so = (
            ", so it is taken for a program, though it may be a script or nothing that can run"
            if what == "first bytes"
            else ""
        )
        yield Finding("unknown", "odd", f"its {what} could not be read ({os.strerror(number)}){so}")


def _program(subject: Subject) -> Iterator[Finding]:
    """What carries an x and cannot be run, and what is odd about a script's first line."""
    program = subject.object.program
    if program is None or not subject.mode & EXECUTE_BITS:
        return
    if program.format is Format.NONE:
        text = f"x is set, but nobody can run it as a program: {program.problem}"
        yield Finding("not-executable", "plain", text)
    elif program.problem:
        text = f"{program.problem}, which becomes a part of the interpreter's name: {visible(program.runs_with or '')}"
        yield Finding("carriage-return", "odd", text)


def _flags(subject: Subject) -> Iterator[Finding]:
    flags = subject.posture.flags or ()
    if "immutable" in flags:
        text = "immutable: while the flag is set not even root can write, change, rename or remove it"
        yield Finding("immutable", "odd", text)
    if "append-only" in flags:
        what = "names can be added here but not removed" if subject.directory else "it can only be added to"
        yield Finding("append-only", "odd", f"append-only: while the flag is set {what}, not even by root")


def _capabilities(subject: Subject, found: FileCapabilities) -> Iterator[Finding]:
    if subject.mounted_with("nosuid"):
        text = "its file capabilities do nothing here: the mount has nosuid"
        yield Finding("capabilities-without-effect", "odd", text)
    elif found.permitted:
        given = joined(f"CAP_{name.upper()}" for name in capabilities.names(found.permitted))
        when = "" if found.effective else ", once the program asks for it"
        yield Finding("capabilities", "danger", f"file capabilities: whoever runs this gets {given}{when}")


def _mount(subject: Subject) -> Iterator[Finding]:
    if subject.mounted_with("ro") and subject.kind not in NEVER_READ_ONLY:
        yield Finding("read-only", "odd", "it is on a read-only mount: not even root can write or change it")
    if subject.mounted_with("noexec") and subject.kind is Kind.FILE and subject.mode & EXECUTE_BITS:
        yield Finding("noexec", "odd", "it is on a mount with noexec: nobody can run it, whatever x says")
    if subject.mounted_with("nodev") and subject.kind in (Kind.BLOCK, Kind.CHARACTER):
        yield Finding("nodev", "odd", "it is on a mount with nodev: nobody can open it")
    if subject.mounted_with("nosymfollow") and subject.kind is Kind.SYMLINK:
        yield Finding("nosymfollow", "odd", "it is on a mount with nosymfollow: nobody can follow it")

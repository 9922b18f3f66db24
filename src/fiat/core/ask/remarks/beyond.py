"""Remarks on what counts beyond mode and lists: flags, capabilities, mounts, hard links, the unknown.

Source: ioctl_iflags(2), capabilities(7), mount(2), link(2).
"""

import os
from collections.abc import Iterator

from fiat.core.ask.remarks.remark import Remark, Subject
from fiat.core.model import capabilities
from fiat.core.model.capabilities import FileCapabilities
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Kind
from fiat.core.words import naming

_UNWRITTEN = (Kind.FIFO, Kind.SOCKET, Kind.BLOCK, Kind.CHARACTER)


def remarks(subject: Subject) -> Iterator[Remark]:
    """What limits even the superuser, what a program brings along, what could not be read."""
    yield from _flags(subject)
    found = subject.posture.capabilities
    if found is not None:
        yield from _capabilities(subject, found)
    yield from _mount(subject)
    links = subject.object.status.links
    if links > 1 and not subject.directory:
        text = f"{links} names lead to this object: a change made through one of them shows under all"
        yield Remark("hard-links", "plain", text)
    for what, number in subject.object.unknown:
        so = ", so it is taken for a program, though it may be a script" if what == "first line" else ""
        yield Remark("unknown", "odd", f"its {what} could not be read ({os.strerror(number)}){so}")


def _flags(subject: Subject) -> Iterator[Remark]:
    flags = subject.posture.flags or ()
    if "immutable" in flags:
        text = "immutable: while the flag is set not even root can write, change, rename or remove it"
        yield Remark("immutable", "odd", text)
    if "append-only" in flags:
        what = "names can be added here but not removed" if subject.directory else "it can only be added to"
        yield Remark("append-only", "odd", f"append-only: while the flag is set {what}, not even by root")


def _capabilities(subject: Subject, found: FileCapabilities) -> Iterator[Remark]:
    if subject.mounted_with("nosuid"):
        text = "its file capabilities do nothing here: the mount has nosuid"
        yield Remark("capabilities-without-effect", "odd", text)
    elif found.permitted:
        given = naming.joined(f"CAP_{name.upper()}" for name in capabilities.names(found.permitted))
        when = "" if found.effective else ", once the program asks for it"
        yield Remark("capabilities", "danger", f"file capabilities: whoever runs this gets {given}{when}")


def _mount(subject: Subject) -> Iterator[Remark]:
    if subject.mounted_with("ro") and subject.kind not in _UNWRITTEN:
        yield Remark("read-only", "odd", "it is on a read-only mount: not even root can write or change it")
    if subject.mounted_with("noexec") and subject.kind is Kind.FILE and subject.mode & EXECUTE_BITS:
        yield Remark("noexec", "odd", "it is on a mount with noexec: nobody can run it, whatever x says")
    if subject.mounted_with("nodev") and subject.kind in (Kind.BLOCK, Kind.CHARACTER):
        yield Remark("nodev", "odd", "it is on a mount with nodev: nobody can open it")
    if subject.mounted_with("nosymfollow") and subject.kind is Kind.SYMLINK:
        yield Remark("nosymfollow", "odd", "it is on a mount with nosymfollow: nobody can follow it")

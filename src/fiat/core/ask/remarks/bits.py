"""Remarks on the twelve mode bits.

Source: inode(7), "The file type and mode"; execve(2), on setuid and on
interpreter scripts; path_resolution(7).
"""

from collections.abc import Iterator

from fiat.core.ask.remarks.subject import Subject
from fiat.core.model.finding import Finding
from fiat.core.model.kind import Kind
from fiat.core.model.mode import EXECUTE, EXECUTE_BITS, READ, SETGID, SETUID, STICKY, WRITE, permission_letters
from fiat.core.text import visible

_CLASSES = (("the owner", 6), ("the group", 3), ("other", 0))


def remarks(subject: Subject) -> Iterator[Finding]:
    """Special bits and their effect, rights open to everyone, letters that do nothing."""
    yield from _open_to_everyone(subject)
    yield from _half_a_directory(subject)
    yield from on_script(subject.mode, subject.object.script)
    if subject.mode & SETUID:
        yield from _setuid(subject)
    if subject.mode & SETGID:
        yield from _setgid(subject)
    if subject.mode & STICKY:
        yield _sticky(subject)


def _open_to_everyone(subject: Subject) -> Iterator[Finding]:
    other = subject.mode & 7
    if subject.directory:
        if other & 3 == WRITE | EXECUTE:
            if subject.mode & STICKY:
                yield Finding("everyone-writes", "plain", "everyone may add names here")
            else:
                text = "everyone may add names here, and remove or replace other people's: the sticky bit is missing"
                yield Finding("everyone-writes", "danger", text)
    elif other & WRITE and subject.kind in (Kind.FILE, Kind.BLOCK):
        yield Finding("everyone-writes", "danger", "everyone who gets here may write to it")


def _half_a_directory(subject: Subject) -> Iterator[Finding]:
    if not subject.directory:
        return
    for name, shift in _CLASSES:
        three = subject.mode >> shift & 7
        if three and not three & EXECUTE:
            effect = "its names can be listed, but nothing in it can be used" if three & READ else "it does nothing"
            yield Finding("no-traverse", "odd", f"{permission_letters(three)} for {name} lacks x: {effect}")
        elif three & (READ | EXECUTE) == EXECUTE and not three & WRITE:
            text = f"{permission_letters(three)} for {name} lacks r: who knows a name in it can use it, but not list it"
            yield Finding("traverse-only", "plain", text)


def on_script(mode: int, interpreter: str | None) -> list[Finding]:
    """What is to be said of a script's letters; ``interpreter`` is None for what is no script."""
    cannot = [name for name, shift in _CLASSES if mode >> shift & 5 == EXECUTE]
    if interpreter is None or not cannot:
        return []
    text = f"this is a script for {visible(interpreter)}, which must read it: "
    return [Finding("script-not-readable", "odd", f"{text}x without r does not let {' or '.join(cannot)} run it")]


def _setuid(subject: Subject) -> Iterator[Finding]:
    if subject.directory:
        yield Finding("setuid-without-effect", "odd", "setuid on a directory does nothing on Linux")
    elif subject.kind is Kind.FILE:
        yield _set_id(subject, "setuid", f"as {subject.owner}", "the owner", subject.mode & 0o100)


def _setgid(subject: Subject) -> Iterator[Finding]:
    if subject.directory:
        under = "" if subject.mode & 0o010 else "; the capital S says that the group itself may not traverse it"
        text = f"setgid: what is made here gets the group {subject.group}, new directories the setgid bit too{under}"
        yield Finding("setgid-directory", "plain", text)
    elif subject.kind is Kind.FILE:
        yield _set_id(subject, "setgid", f"with the group {subject.group}", "the group", subject.mode & 0o010)


def _set_id(subject: Subject, name: str, how: str, whose: str, under: int) -> Finding:
    if not subject.mode & EXECUTE_BITS:
        return Finding(
            "capital-s",
            "odd",
            f"capital S: {name} is set but nobody may execute this file, so it does nothing; "
            f"most likely a mistake: either x is missing or {name} is left over",
        )
    if subject.object.script is not None:
        return Finding(f"{name}-without-effect", "odd", f"{name} does nothing here: the kernel ignores it on scripts")
    if subject.mounted_with("nosuid"):
        return Finding(f"{name}-without-effect", "odd", f"{name} does nothing here: the mount has nosuid")
    capital = "" if under else f"; the capital S says that {whose} itself may not execute it"
    return Finding(name, "danger", f"{name}: whoever may execute this program runs it {how}{capital}")


def _sticky(subject: Subject) -> Finding:
    if not subject.directory:
        return Finding("sticky-without-effect", "odd", "the sticky bit does nothing on anything but a directory")
    capital = "" if subject.mode & EXECUTE else "; the capital T says that other may not traverse it"
    keepers = "by root" if subject.posture.uid == 0 else f"by {subject.owner} or by root"
    return Finding(
        "sticky",
        "plain",
        f"sticky: a name in here is removed or renamed only by the owner of what it names, {keepers}{capital}",
    )

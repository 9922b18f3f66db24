"""Findings as machine output has them."""

from collections.abc import Iterator, Sequence

from fiat.core.model.finding import Finding
from fiat.core.text import FEW, Fields, counted, quoted
from fiat.render.model import Prose, Verbatim, unbroken

_LEAVING_OUT = ("held-by-flags", "partly-forbidden")
"""Guards of which what they object to is left as it is where they are accepted."""


def finding_fields(finding: Finding) -> Fields:
    """A remark, a note or a caveat."""
    return {"code": finding.code, "weight": finding.weight, "text": finding.text}


def guard_fields(finding: Finding) -> Fields:
    """A guard that objects, as a JSON object: its name, what it says, where."""
    return {"name": finding.code, "path": finding.path, "text": finding.text, "paths": finding.paths}


def objections(guards: Sequence[Finding], begin: str, end: str = "") -> Iterator[Prose | Verbatim]:
    """What guards say, in a line for each of them after ``begin``, and after ``end`` how all of them are accepted."""
    by_name: dict[str, list[Finding]] = {}
    for guard in guards:
        by_name.setdefault(guard.code, []).append(guard)
    for name, found in by_name.items():
        first, others = found[0], found[1:]
        where = unbroken(quoted(first.path))
        if first.paths > 1:
            where = f"{counted(first.paths, 'path')}, {'such as' if first.paths > FEW else 'the first'} {where}"
        more = ""
        if others:
            paths = counted(sum(one.paths for one in others), "path")
            such = unbroken(quoted(others[0].path))
            more = f"; and {counted(len(others), 'more objection')}, of {paths}, such as {such}"
        does = "leaves that out" if name in _LEAVING_OUT else "does it all the same"
        accept = f"; {unbroken(f'--accept {name}')} {does}" if len(by_name) == 1 else ""
        yield Prose(f"{begin} {name}: {where}: {first.text}{more}{accept}", hanging="  ")
    if len(by_name) > 1:
        accepts = " ".join(f"--accept {name}" for name in by_name)
        yield Verbatim(f"{end}{len(by_name)} guards object; this does it all the same:")
        yield Verbatim(accepts, 1)

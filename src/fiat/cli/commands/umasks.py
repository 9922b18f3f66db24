"""``fiat show --umask``: the umask of processes, and where on this host it is set."""

import argparse
import os

from fiat.core.errors import NotationError
from fiat.core.model import umask
from fiat.core.model.host import Host
from fiat.core.model.mode import letters, octal
from fiat.core.text import visible
from fiat.render import terminal
from fiat.render.report import Report


def show(args: argparse.Namespace, host: Host, report: Report) -> int:
    """Show the umask of this process, or of each given with ``--pid``."""
    if args.paths:
        raise NotationError("--umask", "--umask takes no PATH; processes are given with --pid")
    pids = args.pid or [None]
    masks = [(pid, host.settings.umask if pid is None else host.process_umask(pid)) for pid in pids]
    for pid, mask in masks:
        left = umask.leaves(mask)
        if report.as_text:
            _print(pid, mask)
            report.count()
            continue
        fields = {
            "process": pid,
            "umask": octal(mask),
            "clauses": umask.clauses(mask),
            "files": octal(left.files),
            "directories": octal(left.directories),
        }
        if report.format == "csv":
            report.add_row(fields)
        else:
            report.add(fields)
    if args.snapshot is None and args.pid is None:
        _where(report)
    return report.finish()


def _print(pid: int | None, mask: int) -> None:
    whose = "this process, as its shell handed it on" if pid is None else f"process {pid}"
    left = umask.leaves(mask)
    print(f"{octal(mask)}  {umask.clauses(mask)}  the umask of {whose}")
    rows = [
        ["new files", "666", _mode(left.files)],
        ["new directories", "777", _mode(left.directories)],
    ]
    print()
    print(terminal.table(["", "asked for", "left by the umask"], rows))
    terminal.say(
        "In a directory with a default list the umask does not count: new entries take that list over.",
        terminal.INDENT,
    )


def _where(report: Report) -> None:
    """Where the umask is set on this host."""
    from fiat.host.live import umaskfiles as umask_files

    found = umask_files.search()
    report.beside["set_in"] = [
        {"path": s.path, "line": s.line, "text": s.text, "umask": None if s.umask is None else octal(s.umask)}
        for s in found.settings
    ]
    report.beside["searched"] = found.read
    if not report.as_text:
        return
    print()
    if not found.settings:
        print(f"Set nowhere in the {len(found.read)} files searched: what the kernel gave the first process holds.")
    else:
        print("Set here; a line that comes later, or runs later, wins:")
        rows = [
            [
                f"{visible(s.path)}:{s.line}",
                visible(" ".join(s.text.split())),
                "" if s.umask is None else _both(s.umask),
            ]
            for s in found.settings
        ]
        print(terminal.table(["", "", "new files, new directories"], rows, flexible=1))
    for path, number in found.unread:
        print(f"{terminal.INDENT}not read: {visible(path)} ({os.strerror(number)})")


def _both(mask: int) -> str:
    left = umask.leaves(mask)
    return f"{octal(left.files)}, {octal(left.directories)}"


def _mode(mode: int) -> str:
    return f"{octal(mode)}  {letters(mode)}"

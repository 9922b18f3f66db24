"""Say what each path says about access: kind, mode, owner, group, access lists,
flags, capabilities and mount, each with its meaning in plain words.

A symlink is shown itself, and then what it leads to. With --inside or --below,
list what is in a directory, or its whole tree, as a table. With --umask, say
what new files and directories get, and where that is set."""

import argparse
import errno
from collections.abc import Iterator
from typing import Any

from fiat.cli.commands import umasks
from fiat.cli.options.hosts import arrive, open_host
from fiat.cli.parser import add_common, add_selection, selection
from fiat.core.ask import caveats
from fiat.core.ask.remarks import remarks_on
from fiat.core.errors import NotationError, PathError
from fiat.core.model.host import Host
from fiat.core.model.posture import Kind, Object
from fiat.core.model.record import object_fields
from fiat.core.text import visible
from fiat.core.tree.below import Trouble, below
from fiat.core.tree.route import Route, open_end, walk
from fiat.core.words.selection import Selection
from fiat.render.listing import csv_row, print_listing
from fiat.render.report import Report
from fiat.render.sheet import print_sheet

EXAMPLES = (
    ("all that one path says", "fiat show /srv/skerry/gauge/raw"),
    ("what is in a directory", "fiat show /srv/skerry/tools --inside"),
    ("everything in a tree that everyone may write to", "fiat show /srv/skerry --below --with o+w"),
    ("what new files get", "fiat show --umask"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat show``."""
    parser.add_argument("paths", nargs="*", metavar="PATH", help="what to show")
    how = parser.add_mutually_exclusive_group()
    how.add_argument("--inside", action="store_true", help="a table of what is in each directory")
    how.add_argument("--below", action="store_true", help="a table of the whole tree under each directory")
    how.add_argument("--umask", action="store_true", help="the umask of this process, or of those given with --pid")
    parser.add_argument("--pid", type=int, action="append", metavar="N", help="with --umask: a process by number")
    add_selection(parser)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """Show each path."""
    report = Report("show", args.format)
    host = open_host(args)
    if args.umask:
        return umasks.show(args, host, report)
    if not args.paths:
        raise NotationError("PATH", "what shall be shown? Give one PATH or more, or --umask")
    chosen = selection(args, host.accounts)
    if not (args.inside or args.below):
        if chosen != Selection():
            raise NotationError(
                "--only", "--only, --name, --owned-by, --in-group and --with go with --inside or --below"
            )
        for route in arrive(host, args.paths, report, follow=False):
            _show(host, route, report)
    else:
        for route in arrive(host, args.paths, report):
            _list(host, route, report, chosen, tree=args.below, across=args.across_mounts)
    if report.answered:
        report.caveat(caveats.of_host(host.settings))
    return report.finish()


def _show(host: Host, route: Route, report: Report) -> None:
    """One path; where it is a symlink, what it leads to as well."""
    assert route.end is not None
    object_ = route.end._replace(path=route.asked.rstrip("/") or "/")
    report.caveat(caveats.of_object(object_))
    target = walk(host, route.asked) if object_.posture.kind is Kind.SYMLINK else None
    if target is not None and target.end is not None:
        report.caveat(caveats.of_object(target.end))
    if report.as_text:
        if report.answered:
            print()
        print_sheet(object_, host.accounts, remarks_on(object_, host.accounts))
        if target is not None:
            _print_target(host, target)
        report.count()
        return
    fields = _fields(object_, host)
    if report.format == "csv":
        report.add_row(csv_row(fields))
        return
    if target is not None:
        fields["leads_to"] = None if target.end is None else _fields(target.end, host)
    report.add(fields)


def _fields(object_: Object, host: Host) -> dict[str, Any]:
    fields = object_fields(object_, host.accounts)
    fields["remarks"] = [remark._asdict() for remark in remarks_on(object_, host.accounts)]
    return fields


def _print_target(host: Host, target: Route) -> None:
    if target.end is not None:
        print("\nand what it leads to:\n")
        print_sheet(target.end, host.accounts, remarks_on(target.end, host.accounts))
    elif target.errno == errno.ENOENT:
        print(f"\nIt leads nowhere: there is no {visible(target.failed_at)}")
    else:
        print(f"\n{PathError(target.failed_at, target.errno, 'follow it to')}")


def _list(host: Host, route: Route, report: Report, chosen: Selection, *, tree: bool, across: bool) -> None:
    """The entries, or the tree, of one directory."""
    assert route.end is not None
    if not route.end.posture.directory:
        report.problem(PathError(route.asked, errno.ENOTDIR, "list what is in"))
        return
    skipped: list[str] = []
    found = (
        object_
        for object_ in _objects(host, route, report, skipped, tree=tree, across=across)
        if chosen.takes(object_, host.accounts)
    )
    if report.as_text:
        if report.answered:
            print()
        print(visible(route.end.path))
        print_listing(route.end.path, found, host.accounts)
        report.count()
    for object_ in found:
        fields = _fields(object_, host)
        if report.format == "csv":
            report.add_row(csv_row(fields))
        else:
            report.add(fields)
    report.caveat(caveats.of_mounts_left_out(skipped))


def _objects(
    host: Host, route: Route, report: Report, skipped: list[str], *, tree: bool, across: bool
) -> Iterator[Object]:
    """What is in the directory at the end of ``route``, as it is read; caveats are noted on the way."""
    again, node = open_end(host, route.asked)
    if node is None or again.end is None:
        report.problem(PathError(route.asked, again.errno))
        return
    top = again.end

    def enter(directory: Object) -> bool:
        if directory is top:
            return True
        if tree and not across and directory.mount != top.mount:
            skipped.append(directory.path)
            return False
        return tree

    def trouble(met: Trouble) -> None:
        report.problem(PathError(met.path, met.errno))

    try:
        for object_ in below(node, top, enter, trouble):
            report.caveat(caveats.of_object(object_))
            yield object_
    finally:
        node.close()

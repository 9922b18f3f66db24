"""Say which users and groups can really read, write, execute or traverse each path,
the whole route from / included. People with the same answer share a row.

RIGHT is read, write, execute, traverse, list, create, delete, rename,
change-mode, change-owner or change-group. On a directory, write means adding
and removing names. A group's row says what membership of that group alone
gives, and how many of its members have the right by whatever rule."""

import argparse
from collections.abc import Iterator
from typing import Any

from fiat.cli.options.asked import Asked
from fiat.cli.options.hosts import arrive, open_host
from fiat.cli.parser import add_common, add_selection, selection
from fiat.core.ask import caveats
from fiat.core.ask import effects as shift
from fiat.core.ask.who import Answer
from fiat.core.model.process import difference
from fiat.render import answers
from fiat.render.effects import shift_fields
from fiat.render.report import Report

EXAMPLES = (
    ("who can do what with a file", "fiat who /srv/skerry/gauge/raw/0412.csv"),
    ("and why", "fiat who /srv/skerry/gauge/raw/0412.csv --because"),
    ("who may delete it", "fiat who /srv/skerry/gauge/raw/0412.csv --can delete"),
    ("all that one user can write", "fiat who /srv/skerry --below --can write --user tidefeed"),
    ("what is open to anyone", "fiat who /srv/skerry --below --can write --anyone-else"),
    ("what a membership would change", "fiat who /srv/skerry/observatory --if-member surveyor:watch"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat who``."""
    parser.add_argument("paths", nargs="+", metavar="PATH", help="a path; symlinks are followed, as the kernel does")
    parser.add_argument("--can", action="append", default=[], metavar="RIGHT", help="ask about this right alone")
    parser.add_argument("--user", action="append", default=[], metavar="USER", help="only this user")
    parser.add_argument("--group", action="append", default=[], metavar="GROUP", help="only this group")
    parser.add_argument("--pid", action="append", default=[], type=int, metavar="N", help="this running process, too")
    parser.add_argument("--anyone-else", action="store_true", help="only whoever no entry and no group matches")
    parser.add_argument("--because", action="store_true", help="name the rule and the entry that decided")
    parser.add_argument("--all", action="store_true", help="name everyone, and show all answers, however many")
    parser.add_argument(
        "--if-member", action="append", default=[], metavar="USER:GROUP", help="as if USER were in GROUP"
    )
    parser.add_argument(
        "--if-not-member", action="append", default=[], metavar="USER:GROUP", help="as if USER were not in GROUP"
    )
    parser.add_argument("--below", action="store_true", help="the whole tree under each PATH, equal answers together")
    add_selection(parser)
    add_common(parser, ("text", "json", "jsonl", "csv"))


def run(args: argparse.Namespace) -> int:
    """Answer for each path."""
    report = Report("who", args.format)
    host = open_host(args)
    asked = Asked(args, host)
    chosen = selection(args, host.accounts)
    for process in asked.processes:
        report.caveat(caveats.of_process(process, difference(process, host.accounts), host.accounts))
    for route in arrive(host, args.paths, report, missing="create" in asked.rights):
        if args.below:
            from fiat.cli.commands import trees  # loads NumPy

            trees.answer(asked, route, report, chosen, across=args.across_mounts)
        else:
            today = Answer(host, host.accounts, route, asked.rights, asked.processes)
            then = Answer(host, asked.accounts, route, asked.rights, asked.processes) if asked.supposing else today
            _report(asked, today, then, report)
        report.caveat(caveats.of_route(route))
    if report.answered:
        report.caveat(caveats.of_host(host.settings))
    return report.finish()


def _report(asked: Asked, today: Answer, then: Answer, report: Report) -> None:
    gains, losses = shift.between(today, then) if asked.supposing else ([], [])
    if report.as_text:
        if report.answered:
            print()
        answers.print_answer(then, asked.shows, everyone=asked.everyone, because=asked.because)
        if asked.supposing:
            answers.print_supposed(gains, losses)
        report.count()
        return
    if report.format == "csv":
        for row in _rows(asked, then):
            report.add_row(row)
        return
    fields = answers.fields(then, asked.shows)
    if asked.supposing:
        fields["against_today"] = {
            "gains": [shift_fields(found) for found in gains],
            "losses": [shift_fields(found) for found in losses],
        }
    report.add(fields)


def _rows(asked: Asked, answer: Answer) -> Iterator[dict[str, Any]]:
    """A flat row for each principal; ``members`` is empty for users."""
    for place, principal in enumerate(answer.universe.principals):
        if not asked.shows(principal):
            continue
        gid = next(iter(principal.gids)) if principal.kind == "group" else None
        yield {
            "path": answer.route.asked,
            "who": principal.kind,
            "name": principal.name,
            "number": principal.pid or (principal.uid if gid is None else gid),
            **answers.rights_of(answer, place),
            "members": None if gid is None else answer.members(gid).bit_count(),
        }

"""Write a page for somebody who has no shell: one file that asks nothing of any network.
It says what was asked, when, of which host and by whom; who can do what with each PATH,
and why; and with the options, what is below, dangers, expectations, and who gained and lost
since a snapshot. Long tables can be sorted and filtered; it prints well."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING

import fiat
from fiat.app import unevaluated
from fiat.app.compare import LIVE, compared, open_state
from fiat.app.hosts import arrive
from fiat.app.peoplebypaths import people_by_paths
from fiat.app.question import Question
from fiat.app.running import who_asks
from fiat.app.who import Who, who
from fiat.cli.options.common import add_host, host_of, output_of, same_host, speaks_of
from fiat.cli.options.histories import command_words
from fiat.cli.options.paths import add_paths
from fiat.cli.options.picture import add_picture, expect_place, write
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import counted, joined, of_all, several, shell_word, visible
from fiat.render.model import Table
from fiat.render.output import Output
from fiat.render.runwords import who_in_full

if TYPE_CHECKING:
    from fiat.app.whobelow import TreeWho
    from fiat.render.charts.picture import Picture
    from fiat.render.page.page import Figure, Section

EXAMPLES = (
    ("two folders, for the auditor", "fiat chart page /srv/skerry/keys /srv/skerry/dropbox -o report.html"),
    (
        "with the tree, dangers, expectations, and what a week changed",
        "fiat chart page /srv/skerry --below --audit --expect skerry --since skerry -o report.html",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat chart page``."""
    add_paths(parser, "a path; symlinks are followed, as the kernel does")
    parser.add_argument("--below", action="store_true", help="everything under each PATH, too: a map, and a table")
    parser.add_argument("--audit", action="store_true", help="what an audit finds there, too")
    parser.add_argument("--expect", action="append", default=[], metavar="FILE", help="whether expectations hold, too")
    parser.add_argument("--since", metavar="SNAPSHOT", help="who gained and lost since then, too")
    parser.add_argument("--title", metavar="TEXT", help="the heading of the page")
    add_picture(parser, "the page: FILE ends in .html")
    add_host(parser)


def run(args: argparse.Namespace) -> int:
    """Ask all that is wanted, and write the page; the exit status."""
    if args.format == "json":
        raise NotationError("--json", "a page has no such form: fiat who, audit, check and compare say it as JSON")
    expect_place(args, ("html",))
    output = output_of("chart page", args)
    host = host_of(args)
    question = Question(host)
    found = [who(question, route) for route in arrive(host, args.paths, output.problem)]
    if not found:
        return output.finish()
    from fiat.render.page.page import Page, written

    sections = [_who(found, host)]
    if args.below:
        sections += _below(args, question, output)
    if args.since is not None:
        sections += _since(args, output)
    if args.audit:
        sections += _audit(args, host, output)
    if args.expect:
        sections += _expect(args, host, output)
    for one in found:
        output.caveat(unevaluated.of_route(one.answer.route))
    output.caveat(unevaluated.of_host(host))
    paths = several([visible(one.answer.route.asked) for one in found], "paths", 3)
    taken = getattr(host, "taken", None)
    page = Page(
        title=visible(args.title) if args.title is not None else f"Who can do what with {paths}",
        host=visible(host.name),
        state="as it was when asked"
        if args.snapshot is None
        else f"as a snapshot of {taken or 'no known time'} has it",
        asked=datetime.now().astimezone(),
        by=who_in_full(who_asks()),
        command=" ".join(map(shell_word, command_words())),
        version=fiat.__version__,
        sections=sections,
        notes=output.notes,
    )
    output.answered += len(found)
    write(args.output, os.fsencode(written(page)), output)
    return output.finish()


def _who(found: list[Who], host: Host) -> Section:
    from markupsafe import Markup

    from fiat.render.charts.who import who_picture
    from fiat.render.page.blocks import html
    from fiat.render.page.page import Section
    from fiat.render.who import WhoView

    table = people_by_paths(found)
    figure = _figure(who_picture(table, found[0].question, f"on {host.name}"))
    parts = []
    for one in found:
        parts.append(Markup("<h3>{}</h3>").format(visible(one.answer.route.asked)))
        parts.append(html([*WhoView(one, everyone=True, because=False).blocks()][1:]))
        parts.append(Markup("<h3>Why, at {}</h3>").format(visible(one.answer.route.asked)))
        reasons = WhoView(one, everyone=True, because=True).blocks()
        parts.append(html([next(block for block in reasons if isinstance(block, Table))]))
    anyone = [
        f"{joined(names)} {visible(one.answer.route.asked)}"
        for one in found
        if (names := [right.name for right, bits in one.answer.allowed.items() if bits & _anyone(one)])
    ]
    answer = f"anyone can {several(anyone, show=2)}" if anyone else "nothing is open to anyone"
    return Section("who", "Who can do what", Markup("\n").join(parts), (figure,), None, answer)


def _anyone(one: Who) -> int:
    return one.answer.universe.of_kind("anyone-else")


def _below(args: argparse.Namespace, question: Question, output: Output) -> Iterator[Section]:
    from markupsafe import Markup

    from fiat.app.howmany import how_many
    from fiat.app.whobelow import who_below
    from fiat.core.model.right import WRITE
    from fiat.render.charts.below import below_picture
    from fiat.render.page.page import Section
    from fiat.render.page.treetable import tree_table

    for number, route in enumerate(arrive(question.host, args.paths, output.problem), 1):
        if route.end is None or not route.end.posture.directory:
            continue
        with Progress(output.shows_progress) as progress:
            tree: TreeWho = who_below(question, route, problem=output.problem, progress=progress.report)
        many = how_many(tree, WRITE)
        figure = _figure(below_picture(many, "write", "", f"on {question.host.name}"))
        output.caveat(tree.caveats)
        opened = sum(one.paths for one in many.open_to_anyone())
        answer = f"{of_all(opened, len(tree.survey), 'path')} open to anyone to write"
        title, weight = f"Everything in {visible(tree.survey.top.path)}", "danger" if opened else ""
        yield Section(f"below-{number}", title, Markup(""), (figure,), tree_table(tree), answer, weight)


def _since(args: argparse.Namespace, output: Output) -> Iterator[Section]:
    from fiat.render.charts.change import change_picture
    from fiat.render.compare import ComparisonView
    from fiat.render.page.blocks import html
    from fiat.render.page.page import Section

    before = open_state(args.since, accounts=args.accounts, accounts_timeout=args.accounts_timeout)
    now, cut_short = args.snapshot or LIVE, args.incomplete
    after = open_state(now, accounts=args.accounts, incomplete=cut_short, accounts_timeout=args.accounts_timeout)
    speaks_of(args, before.host, after.host)
    with Progress(output.shows_progress) as progress:
        found = compared(before, after, args.paths, problem=output.problem, progress=progress.report)
    if found is None:
        return
    view = ComparisonView(found, before, after, args.paths, gains_only=False, with_paths=True)
    gained, lost = ({one.principal.identity for one in some} for some in (found.effects.gains, found.effects.losses))
    answer = f"{counted(len(gained), 'user or group', 'users and groups')} gained, {len(lost):,} lost something"
    figure = _figure(change_picture(view.shown_change(), f"on {after.host.name}"))
    weight = "danger" if gained else ""
    yield Section("since", f"Since {visible(args.since)}", html(view.blocks()), (figure,), None, answer, weight)


def _audit(args: argparse.Namespace, host: Host, output: Output) -> Iterator[Section]:
    from fiat.app.audit import audit, chosen_rules
    from fiat.render.audit import AuditView
    from fiat.render.page.blocks import html
    from fiat.render.page.page import Section

    with Progress(output.shows_progress) as progress:
        found = audit(host, args.paths, chosen_rules(), weight="odd", problem=output.problem, progress=progress.report)
    output.caveat(found.caveats)
    about = "".join(f" {option} {shell_word(value)}" for option, value in same_host(args))
    view = AuditView(found, "odd", in_part=output.has_problems, about=about)
    dangers, odd = len(found.weighing("danger")), len(found.weighing("odd"))
    answer = f"{counted(dangers, 'danger')}, {odd:,} that are odd"
    yield Section("audit", "What is dangerous", html(view.blocks()), (), None, answer, "danger" if dangers else "")


def _expect(args: argparse.Namespace, host: Host, output: Output) -> Iterator[Section]:
    from fiat.app.check import check, read_expectations
    from fiat.render.check import CheckView
    from fiat.render.page.blocks import html
    from fiat.render.page.page import Section

    with Progress(output.shows_progress) as progress:
        expectations = read_expectations(args.expect, host)
        checked = check(host, expectations, problem=output.problem, progress=progress.report)
    about = "".join(f" {option} {shell_word(value)}" for option, value in same_host(args))
    view = CheckView(checked, args.expect, host=about)
    broken, unknown = len(checked.broken), len(checked.unknown)
    answer = f"{broken:,} of {counted(len(checked.found), 'expectation')} broken"
    answer += f", {unknown:,} not known" if unknown else ""
    yield Section("expectations", "What should hold", html(view.blocks()), (), None, answer, "danger" if broken else "")


def _figure(picture: Picture) -> Figure:
    from fiat.render.charts.drawing import drawn
    from fiat.render.page.page import Figure

    return Figure(drawn(picture, "svg", cropped=True), picture.title, round(picture.height))

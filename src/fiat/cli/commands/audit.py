"""Find what is dangerous in these trees, or probably not meant: where, who can really use it
with the whole way there counted in, why it matters, and the command that mends it.

What nobody else can get to is no danger, and is said to be so. Of weight danger is what lets
others in; odd what is probably not meant; plain what is to be known, and only counted unless
--weight plain is given. The exit status is 1 where a danger is left.

Beside the tree an audit of this host looks at what packages own, what services and the clock
start, and the first 64 bytes of small files that others can read, for keys and passwords."""

import argparse

from fiat.app.audit import RULES, audit, chosen_rules, read_known, write_known
from fiat.app.status import ExitStatus
from fiat.cli.options.common import add_common, add_null, add_trust, host_of, not_with, output_of, same_host, trust_of
from fiat.cli.options.elevation import add_elevation
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.paths import add_paths
from fiat.cli.options.selections import add_selection, selected
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError, PathError
from fiat.core.model.finding import WEIGHTS
from fiat.core.text import shell_word
from fiat.render.audit import AuditView, RulesView

EXAMPLES = (
    ("what is dangerous on the sample host", "fiat audit /srv/skerry --weight danger --from skerry"),
    ("and on which of its hosts", "fiat audit /srv/skerry --weight danger --from skerry-fleet"),
    ("one kind of thing, as a table for a spreadsheet", "fiat audit /srv --rule owner-without-account --format csv"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat audit``."""
    add_paths(parser, "the tree to be looked at", needed=False)
    parser.add_argument("--weight", choices=WEIGHTS, help="what weighs so much and more (odd; with --quiet danger)")
    parser.add_argument("--rule", action="append", default=[], metavar="RULE", help="just what this rule finds")
    parser.add_argument("--not", dest="without_rule", action="append", default=[], metavar="RULE", help="but this rule")
    parser.add_argument("--rules", action="store_true", help="list the rules, and what each looks for")
    parser.add_argument("--logs", action="store_true", help="look for credentials in logs that everyone may read, too")
    parser.add_argument("--accept-known", metavar="FILE", help="leave out what FILE accepts, until its day")
    parser.add_argument("--write-known", metavar="FILE", help="write a new FILE that accepts what was found")
    add_elevation(parser)
    add_trust(parser)
    add_selection(parser)
    add_null(parser)
    add_common(parser, ("text", "json", "csv", "sarif", "parquet"))
    add_fleet(parser)


def run(args: argparse.Namespace) -> int:
    """Look, and tell; the exit status is 1 where there is a danger."""
    output = output_of("audit", args)
    not_with("--format sarif", args.format == "sarif", "--rules", args.rules, "rules alone are no findings")
    if args.rules:
        output.add(RulesView(RULES.values()))
        return output.finish()
    if not args.paths:
        raise NotationError("PATH", "what shall be looked at? Give one PATH or more; see --help")
    weight = args.weight or ("danger" if args.quiet else "odd")
    rules = chosen_rules(args.rule, args.without_rule, logs=args.logs)
    known = read_known(args.accept_known, trust_of(args, acts=True)) if args.accept_known is not None else []
    host = host_of(args)
    with Progress(output.shows_progress) as progress:
        found = audit(
            host,
            args.paths,
            rules,
            selected(args, host.accounts),
            known=known,
            weight=weight,
            across_mounts=args.across_mounts,
            elevation=args.elevation,
            problem=output.problem,
            progress=progress.report,
        )
    output.caveat(found.caveats)
    if not found.objects:
        return output.finish()
    output.status = ExitStatus.NO if found.weighing("danger") else ExitStatus.DONE  # known, whoever reads the output
    on = "".join(f" {option} {shell_word(value)}" for option, value in same_host(args))
    view = AuditView(found, weight, terse=args.quiet, in_part=output.has_problems, about=on)
    if args.write_known is not None:
        try:
            write_known(view.found, args.write_known)
            view.file = args.write_known
        except PathError as error:
            output.problem(error)
    output.only_what_is_wrong(wrong=bool(view.found))
    output.add(view)
    return output.finish()

"""Say which users and groups can really read, write, execute or traverse each path,
the whole route from / included. People with the same answer share a row.

RIGHT is read, write, execute, traverse, list, append, create, delete, rename,
change-mode, change-owner or change-group. On a directory, write means adding
and removing names. A group's row says what membership of that group alone
gives, and how many of its members have the right by whatever rule."""

import argparse

from fiat.app import unevaluated
from fiat.app.hosts import arrive
from fiat.app.status import ExitStatus
from fiat.app.who import who
from fiat.cli.options.common import (
    add_common,
    add_null,
    count_of_users,
    goes_with,
    not_with,
    output_of,
    say_groups,
    selection_goes_with,
)
from fiat.cli.options.elevation import add_elevation, matcher_of
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.ownmeans import add_own_means, expect_own_means
from fiat.cli.options.paths import add_paths
from fiat.cli.options.questions import add_question, question
from fiat.cli.options.selections import add_selection, selected
from fiat.cli.options.view import add_view, viewed_host_of
from fiat.cli.progress import Progress
from fiat.core.model.host import Host
from fiat.render.output import Output

EXAMPLES = (
    ("who can do what with a file", "fiat who /srv/skerry/gauge/raw/0412.csv"),
    ("and why", "fiat who /srv/skerry/gauge/raw/0412.csv --because"),
    ("who may delete it", "fiat who /srv/skerry/gauge/raw/0412.csv --can delete"),
    ("all that one user can write", "fiat who /srv/skerry --below --can write --user tidefeed"),
    ("what is open to anyone", "fiat who /srv/skerry --below --can write --anyone-else"),
    (
        "what one can read and another cannot",
        "fiat who /srv/skerry --below --can read --user steward --but-not apprentice",
    ),
    ("who can do it as somebody else", "fiat who /srv/skerry/gauge/raw --can write --elevated"),
    ("who can bring it about", "fiat who /srv/skerry/tools/reduce --by-own-means"),
    ("what an account would leave behind", "fiat who /srv/skerry --if-gone chartpress"),
    ("what the root of a container can", "fiat who /keys/lamp.key --user root --from skerry-press"),
    (
        "on which hosts one can write what",
        "fiat who /srv/skerry --below --can write --user tidefeed --from skerry-fleet",
    ),
    ("what a membership would change", "fiat who /srv/skerry/observatory --if-member surveyor:watch"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat who``."""
    add_paths(parser, "a path; symlinks are followed, as the kernel does")
    add_question(parser)
    add_elevation(parser, "what they can do by acting as others, too")
    add_own_means(parser)
    parser.add_argument("--because", action="store_true", help="name the rule and the entry that decided")
    parser.add_argument("--all", action="store_true", help="name everyone, and show all answers, however many")
    parser.add_argument("--below", action="store_true", help="the whole tree under each PATH, equal answers in one")
    parser.add_argument(
        "--more-than", type=count_of_users, metavar="N", help="only what more than N users have --can on"
    )
    parser.add_argument(
        "--each-person", action="store_true", help="in CSV a row for each path and user, group, anyone else"
    )
    parser.add_argument(
        "--topmost", action="store_true", help="in JSON and CSV a row for the topmost paths, as in text"
    )
    add_selection(parser)
    add_null(parser)
    add_view(parser)
    add_common(parser, ("text", "json", "jsonl", "csv", "parquet"))
    add_fleet(parser)


def run(args: argparse.Namespace) -> int:
    """Tell for each path who may do what, or for whole trees; the exit status."""
    selection_goes_with(args, "--below", args.below)
    goes_with("--across-mounts", args.across_mounts, "--below", args.below)
    not_with("--because", args.because, "--below", args.below, "the rule is named for one path")
    goes_with("--more-than", args.more_than is not None, "--below and one --can", args.below and args.can)
    goes_with("--topmost", args.topmost, "--below, one --can and --user", args.below and args.can)
    goes_with("--but-not", args.but_not, "--below, one --can and --user or --group", args.below and args.can)
    goes_with("--but-not", args.but_not, "--user or --group", args.user or args.group)
    goes_with("--paths", args.with_paths, "--below and --if-member or --if-not-member", args.below)
    goes_with("--each-person", args.each_person, "--format csv", args.format == "csv")
    not_with("--each-person", args.each_person, "--topmost", args.topmost, "it is about each path")
    table = args.format == "parquet"
    goes_with("--format parquet", table, "--below", args.below)
    not_with("--format parquet", table, "--topmost", args.topmost, "it has a row for each path")
    not_with("--format parquet", table, "--each-person", args.each_person, "that is a form of CSV")
    goes_with("--null", args.format == "null", "--below, one --can and --user, --group or --anyone-else", args.can)
    expect_own_means(args)
    not_with("--through-programs", args.through_programs, "--below", args.below, "chains are told for one path")
    output = output_of("who", args)
    host = viewed_host_of(args)
    if args.if_gone is not None:
        return _if_gone(args, host, output)
    asked = question(args, host)
    for word in args.user:
        say_groups(word, host, output)
    chosen = selected(args, host.accounts)
    not_with("--elevated", args.elevated, "--below", args.below, "who may act as whom is the same for every path")
    supposes = args.if_member or args.if_not_member
    not_with(
        "--by-own-means", args.by_own_means and args.below, "--if-member", supposes, "the two are not told together"
    )
    matcher = matcher_of(args, host)
    output.caveat(asked.caveats)
    for option, given in (("--more-than", args.more_than is not None), ("--topmost", args.topmost)):
        goes_with(option, given, "one RIGHT alone", len(asked.asked) == 1)
    numbered, nobody = 0, bool(asked.asked)
    for route in arrive(host, args.paths, output.problem, missing=asked.may_be_missing):
        if args.below:
            from fiat.app.whobelow import who_below  # loads NumPy
            from fiat.render.below import BelowView

            with Progress(output.shows_progress) as progress:
                found = who_below(
                    asked,
                    route,
                    chosen,
                    across_mounts=args.across_mounts,
                    more_than=args.more_than,
                    own_means=args.by_own_means,
                    problem=output.problem,
                    progress=progress.report,
                )
            output.caveat(found.caveats)
            nobody &= found.nobody
            view = BelowView(
                found,
                everyone=args.all,
                numbered=numbered,
                topmost=args.topmost,
                paths=args.with_paths,
                each_person=args.each_person,
            )
            output.add(view)
            numbered = view.numbered
        else:
            from fiat.render.who import WhoView

            answer = who(asked, route, matcher, own_means=args.by_own_means, through_programs=args.through_programs)
            nobody &= answer.nobody
            if answer.acting is not None:
                from fiat.app.elevation import caveats_of_acting

                output.caveat(caveats_of_acting(host, answer.acting))
            output.add(WhoView(answer, everyone=args.all, because=args.because))
        output.caveat(unevaluated.of_route(route))
    if output.answered:
        output.caveat(unevaluated.of_host(host))
        if nobody:
            output.status = ExitStatus.NO
    return output.finish()


def _if_gone(args: argparse.Namespace, host: Host, output: Output) -> int:
    from fiat.app.gone import if_gone
    from fiat.cli.options.sight import sight_of
    from fiat.render.gone import GoneView

    for option, given in (("--can", args.can), ("--user", args.user), ("--group", args.group), ("--pid", args.pid)):
        not_with("--if-gone", True, option, given, "it is about one account")
    with Progress(output.shows_progress) as progress:
        found = if_gone(host, args.if_gone, args.paths, sight_of(args, output, progress))
    output.add(GoneView(found, host.accounts))
    output.caveat(unevaluated.of_host(host))
    return output.finish()

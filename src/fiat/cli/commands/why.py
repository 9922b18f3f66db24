"""Answer one question - may WHO do this to PATH? - and walk the route to the
answer: what each component needed, and the rule and entry that decided it.

WHO is a user name, uid:NUMBER, group:NAME (membership alone), pid:NUMBER
(a running process), anyone-else or self. RIGHT is read, write, execute,
traverse, list, append, create, delete, rename, change-mode, change-owner or
change-group; r, w and x for the first four (x is traverse on a directory); or
several with commas, each asked alone. The exit status is 0 for yes, to all that
was asked, and 1 for no.

With run for RIGHT, and a NAME in place of PATH: which program WHO gets by NAME
after login, or why none."""

import argparse

from fiat.app.status import ExitStatus
from fiat.app.why import why_each
from fiat.cli.options.common import add_common, goes_with, not_with, output_of, same_host, say_groups
from fiat.cli.options.elevation import add_elevation, matcher_of
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.ownmeans import add_own_means, expect_own_means
from fiat.cli.options.paths import add_paths
from fiat.cli.options.view import add_view, viewed_host_of
from fiat.core.errors import PathError
from fiat.core.model.host import Host
from fiat.core.words.who import parse_rights
from fiat.render.output import Output
from fiat.render.why import WhyView

EXAMPLES = (
    (
        "a file that says r and cannot be read",
        "fiat why surveyor read /srv/skerry/observatory/2026/november/barometer.csv",
    ),
    ("a group on its own", "fiat why group:press write /srv/skerry/charts/draft"),
    ("what somebody could bring about", "fiat why keeper write /srv/skerry/tools/reduce --by-own-means"),
    ("both at once", "fiat why tidefeed rw /srv/skerry/gauge/raw/0412.csv"),
    ("what is found by a name", "fiat why surveyor run reduce --folders /srv/skerry/tools:/usr/bin"),
    ("somebody without any account here", "fiat why anyone-else delete /srv/skerry/dropbox/from-surveyor.txt"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat why``."""
    parser.add_argument("who", metavar="WHO", help="who asks: keeper, uid:7101, group:watch, pid:812, self")
    parser.add_argument("right", metavar="RIGHT", help="what they want: read, rw, write,delete, run …")
    add_paths(parser, "where; symlinks are followed, as the kernel does")
    parser.add_argument("--all", action="store_true", help="every step, those that are not reached too")
    parser.add_argument(
        "--folders", metavar="LIST", help="with run: where to look, as PATH has it, not what login gives"
    )
    add_elevation(parser, "where they have it not, whether they have it by acting as another")
    add_own_means(parser)
    add_view(parser)
    add_common(parser)
    add_fleet(parser)


def run(args: argparse.Namespace) -> int:
    """Give the verdict for each right and path, step by step; the exit status."""
    goes_with("--folders", args.folders is not None, "run", args.right == "run")
    not_with("--elevated", args.elevated, "run", args.right == "run", "a name is looked for as whoever asks")
    not_with("--as-seen-by", args.as_seen_by, "run", args.right == "run", "what a login gives there is not read")
    expect_own_means(args)
    output = output_of("why", args)
    rights = () if args.right == "run" else parse_rights([args.right])  # before the host is opened, which takes longer
    host = viewed_host_of(args)
    matcher = matcher_of(args, host)
    say_groups(args.who, host, output)
    output.settled = True  # what is not known of others makes no difference to who is asked about
    for path in args.paths:
        try:
            if not rights:
                _run_by_name(host, path, args, output)
                continue
            found = why_each(
                host,
                args.who,
                rights,
                path,
                matcher,
                own_means=args.by_own_means,
                through_programs=args.through_programs,
            )
        except PathError as error:
            output.problem(error)
            continue
        for one in found:
            output.caveat(one.caveats)
            if matcher is not None:
                from fiat.app.elevation import caveats_of

                ways = [*([one.acting] if one.acting else []), *one.perhaps]
                output.caveat(caveats_of(host, matcher.elevations, [grant for way in ways for grant in way.grants]))
            output.status = output.status if one.verdict.allowed or one.means or one.chain else ExitStatus.NO
            output.settled &= not (one.open or (one.means == () and one.who.unsure))
        if len(found) == 1:
            output.add(WhyView(found[0], same_host(args), every=args.all))
        else:
            from fiat.render.whyseveral import WhySeveralView

            output.add(WhySeveralView(found, same_host(args), every=args.all))
    return output.finish()


def _run_by_name(host: Host, name: str, args: argparse.Namespace, output: Output) -> None:
    """Which program is found by a name."""
    from fiat.app.byname import by_name
    from fiat.render.why import ByNameView

    found = by_name(host, args.who, name, args.folders)
    output.caveat(found.caveats)
    output.status = output.status if found.program is not None else ExitStatus.NO
    output.add(ByNameView(found, same_host(args)))

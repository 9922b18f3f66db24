"""Say what each path says about access: kind, mode, owner, group, access lists,
flags, capabilities and mount, each with its meaning in plain words.

A symlink is shown itself, and then what it leads to. With --inside or --below,
list what is in a directory, or its whole tree, as a table. With --umask, say
what new files and directories get, and where that is set.

With --user or --group, an account as access sees it: numbers, groups and where each
comes from, running processes that have other groups than the account, what a login
gives; and under each PATH what it owns, what names it in a list, and what it reaches
only by which group."""

import argparse
from typing import TYPE_CHECKING

from fiat.app import look, unevaluated
from fiat.app.hosts import arrive
from fiat.cli.options.arranging import add_file
from fiat.cli.options.common import (
    add_common,
    add_null,
    goes_with,
    not_with,
    output_of,
    process_number,
    say_groups,
    selection_goes_with,
)
from fiat.cli.options.elevation import add_elevation
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.paths import add_paths
from fiat.cli.options.selections import add_selection, selected
from fiat.cli.options.view import add_view, viewed_host_of
from fiat.cli.progress import Progress
from fiat.core.errors import ArrangementError, ElevationError, NotationError
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.words.selection import Selection
from fiat.core.words.who import means_group
from fiat.render.output import Output

if TYPE_CHECKING:
    from fiat.app.elevation import Matcher
    from fiat.core.model.arrangement import Arrangement

EXAMPLES = (
    ("all that one path says", "fiat show /srv/skerry/gauge/raw"),
    ("what is in a directory", "fiat show /srv/skerry/tools --inside"),
    ("everything in a tree that everyone may write to", "fiat show /srv/skerry --below --with o+w"),
    ("what new files get", "fiat show --umask"),
    ("what a user is in, and reaches by it", "fiat show --user surveyor /srv/skerry"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat show``."""
    add_paths(parser, "what to show", needed=False)
    how = parser.add_mutually_exclusive_group()
    how.add_argument("--inside", action="store_true", help="a table of what is in each directory")
    how.add_argument("--below", action="store_true", help="a table of the whole tree under each directory")
    how.add_argument("--umask", action="store_true", help="the umask of this process, or of those given with --pid")
    parser.add_argument(
        "--pid", type=process_number, action="append", metavar="N", help="with --umask: a process by number"
    )
    parser.add_argument(
        "--user", metavar="USER", action="append", help="an account as access sees it; with --umask what its login gets"
    )
    parser.add_argument("--group", metavar="GROUP", action="append", help="a group as access sees it")
    add_elevation(parser)
    add_selection(parser)
    add_file(parser)
    add_null(parser)
    add_view(parser)
    add_common(parser, ("text", "json", "csv", "parquet"))
    add_fleet(parser)


def run(args: argparse.Namespace) -> int:
    """Show each path, what is in it, or the whole tree under it; the exit status."""
    selection_goes_with(args, "--inside or --below", args.inside or args.below)
    about_accounts = (args.user is not None and not args.umask) or args.group is not None
    goes_with("--across-mounts", args.across_mounts, "--below", args.below or about_accounts)
    goes_with("--pid", args.pid, "--umask", args.umask)
    for option, given in (("--umask", args.umask), ("--inside", args.inside), ("--below", args.below)):
        not_with(option, given, "--group" if args.group else "--user", about_accounts, "it is about an account")
    not_with("--as-seen-by", args.as_seen_by, "--user", about_accounts, "what a login gives there is not read")
    goes_with("--format parquet", args.format == "parquet", "--below", args.below)
    output = output_of("show", args)
    host = viewed_host_of(args)
    if args.umask:
        return _umask(args, host, output)
    if about_accounts:
        _accounts(args, host, output)
        return output.finish()
    if not args.paths:
        raise NotationError("PATH", "what shall be shown? Give one PATH or more, or --umask")
    chosen = selected(args, host.accounts)
    if args.inside or args.below:
        _list(args, host, chosen, output)
    else:
        _sheets(args, host, output)
    if output.answered:
        output.caveat(unevaluated.of_host(host))
    return output.finish()


def _accounts(args: argparse.Namespace, host: Host, output: Output) -> None:
    from fiat.app.account import group_account, user_account
    from fiat.cli.options.sight import sight_of
    from fiat.render.account import GroupAccountView, UserAccountView

    for name in args.user or ():
        if means_group(name, host):
            say_groups(name, host, output)
            args.group = [*(args.group or ()), name]
            continue
        with Progress(output.shows_progress) as progress:
            user = user_account(host, name, args.paths, sight_of(args, output, progress), _rules(args, host, output))
        rules = _rules(args, host, output)
        if user.acting and rules is not None:
            from fiat.app.elevation import caveats_of

            grants = [grant for one in user.acting for grant in one.grants]
            output.caveat(caveats_of(host, rules.elevations, grants))
        output.add(UserAccountView(user, host.accounts))
    for name in args.group or ():
        with Progress(output.shows_progress) as progress:
            group = group_account(host, name, args.paths, sight_of(args, output, progress))
        output.add(GroupAccountView(group, host.accounts))
    if args.paths:
        output.caveat(unevaluated.of_host(host))


def _rules(args: argparse.Namespace, host: Host, output: Output) -> "Matcher | None":
    """The rules by which users act as others, read once; where they are none to be had, that is said."""
    if not hasattr(args, "matcher"):
        from fiat.app.elevation import Matcher, elevations_of

        args.matcher = None
        try:
            args.matcher = Matcher(elevations_of(host, args.elevation), host.accounts)
        except ElevationError as error:
            if args.elevation is not None:
                raise
            output.caveat([Finding("elevation-unread", "plain", f"as whom they may act is not known: {error}")])
    found: Matcher | None = args.matcher
    return found


def _sheets(args: argparse.Namespace, host: Host, output: Output) -> None:
    from fiat.render.sheet import Sheet

    known: dict[str, Arrangement] | None = None
    for route in arrive(host, args.paths, output.problem, follow=False):
        end = route.end
        if known is None and end is not None and (args.arrangements or look.may_be_arranged(end.posture)):
            known = _arrangements(args, output)
        found = look.look(host, route, known or {})
        output.caveat(found.caveats)
        output.add(Sheet(found, host.accounts))


def _arrangements(args: argparse.Namespace, output: Output) -> "dict[str, Arrangement]":
    """Those to recognize; a file in one of the usual places that is no good is told, and hinders nothing else."""
    from fiat.app.arrange import known_arrangements

    try:
        return known_arrangements(args.arrangements)
    except ArrangementError as error:
        if args.arrangements is not None:
            raise
        output.complain(f"{error}; arrangements are left out")
        return {}


def _list(args: argparse.Namespace, host: Host, chosen: Selection, output: Output) -> None:
    for route in arrive(host, args.paths, output.problem):
        with Progress(output.shows_progress) as progress:
            if args.below:
                from fiat.render.treerecords import TreeListingView

                tree = look.tree_listing(
                    host,
                    route,
                    chosen,
                    across_mounts=args.across_mounts,
                    problem=output.problem,
                    note=output.caveat,
                    progress=progress.report,
                    done=progress.close,
                )
                if tree is not None:
                    output.add(TreeListingView(tree))
            else:
                from fiat.render.sheet import ListingView

                found = look.listing(
                    host, route, chosen, problem=output.problem, note=output.caveat, progress=progress.report
                )
                if found is not None:
                    output.add(ListingView(found))


def _umask(args: argparse.Namespace, host: Host, output: Output) -> int:
    from fiat.app import umask
    from fiat.render.umask import LoginView, UmaskView, WhereSetView

    if args.paths:
        raise NotationError("--umask", "--umask takes no PATH; processes are given with --pid, a login with --user")
    if args.user is not None:
        not_with("--user", True, "--from", args.snapshot, "a snapshot holds none of the files that set a umask")
        for name in args.user:
            output.add(LoginView(umask.umask_at_login(host, name)))
        return output.finish()
    for pid in args.pid or [None]:
        output.add(UmaskView(umask.umask_of(host, pid, held=args.snapshot is not None)))
    if args.snapshot is None and args.pid is None:
        output.add(WhereSetView(umask.where_set()), count=0)
    return output.finish()

"""Change mode, flags, ownership and lists: before and after, who gains, who loses.

MODE is octal (640, 2750), letters (rw-r-----) or clauses (u+x, g=u, go-w,+X); beside PATH alone it
needs no --mode. Up to three octal digits leave a directory's special bits; four set all twelve.
ENTRY is such as user:auditor:r-x, or group:press:rX (x where it means something).

Each change is in the history first, and fiat undo puts it back. What is dangerous
is refused (exit status 4) until --accept names the guard:"""

import argparse
from typing import TYPE_CHECKING

from fiat.app import change
from fiat.app.change import GUARDS, ChangeOptions, Planned
from fiat.cli.options.arranging import EXPLAIN, add_arranging, arrangement_of, explain_arrangements
from fiat.cli.options.carrying import add_care, carry_out
from fiat.cli.options.common import add_common, goes_with, host_of, not_with, output_of, trust_of
from fiat.cli.options.paths import add_paths
from fiat.cli.options.selections import add_selection, selected
from fiat.cli.options.wishes import add_wishes, tied, wish_of, wish_without_option
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError, WorkError
from fiat.core.model.host import Host
from fiat.core.model.wish import Wish
from fiat.render.output import Output

if TYPE_CHECKING:
    from fiat.core.model.arrangement import ArrangementChoice

EXAMPLES = (
    ("see a change before it is made", "fiat set /srv/skerry/observatory --mode o+x --preview"),
    ("for a team, what they make later too", "fiat set /srv/skerry/charts/draft --arrange team:survey --preview"),
    (
        "a whole tree, files and directories apart",
        "fiat set /srv/skerry/series --below --file-mode 640 --dir-mode 2750 --preview",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat set``."""
    parser.description = f"{parser.description}\n" + "\n".join(
        f"  {name:<18}  {about}" for name, about in GUARDS.items()
    )
    add_paths(parser, "what to change; that a symlink is followed is said", needed=False)
    add_wishes(parser)
    add_arranging(parser)
    far = parser.add_argument_group("how far")
    far.add_argument("--below", action="store_true", help="PATH and all under it; symlinks stay unfollowed")
    far.add_argument("--contents", action="store_true", help="all under PATH, not PATH itself")
    far.add_argument("--link-itself", action="store_true", help="of a symlink change the link, not what it leads to")
    add_selection(far)
    add_care(parser, flags=True)
    add_common(parser, ("text", "json", "csv"))


prepare = tied


def run(args: argparse.Namespace) -> int:
    """Plan, show, and unless it is a preview, apply."""
    goes_with("--across-mounts", args.across_mounts, "--below or --contents", args.below or args.contents)
    output = output_of("set", args, changes=True)
    if args.arrange == EXPLAIN:
        return explain_arrangements(args, output)
    if not args.paths:
        raise NotationError("PATH", "what shall be changed? Give one PATH or more; see --help")
    host = host_of(args, trust_of(args, acts=not args.preview))
    chosen = arrangement_of(args, host)
    if chosen is None:
        wish_without_option(args, host)
    wish = wish_of(args, host) if chosen is None else chosen
    if args.like is not None and (args.below or args.contents):
        alone = isinstance(wish, Wish) and wish._replace(like=None) == Wish()
        not_with("--like with --below", not alone, "other changes", True, "a tree is like another as a whole")
    if args.snapshot is not None and not args.preview:
        raise NotationError("--from", "a snapshot cannot be changed; add --preview to see what the change would do")
    how = ChangeOptions(
        args.below or chosen is not None,
        args.contents,
        args.link_itself,
        args.across_mounts,
        selected(args, host.accounts),
        args.through_flags,
    )
    return carry_out(host, args.paths, how, lambda: _plan(host, wish, how, args, output), args, output)


def _plan(
    host: Host, wish: "Wish | ArrangementChoice", how: ChangeOptions, args: argparse.Namespace, output: Output
) -> Planned:
    try:
        with Progress(output.shows_progress) as progress:
            if args.like is not None and how.with_tree:
                from fiat.app.liketree import plan_like_tree

                planned = plan_like_tree(
                    host, args.paths, args.like, how, problem=output.problem, progress=progress.report
                )
            elif isinstance(wish, Wish):
                planned = change.plan(host, args.paths, wish, how, problem=output.problem, progress=progress.report)
            else:
                from fiat.app.arrange import plan_arranged

                planned = plan_arranged(host, args.paths, wish, how, problem=output.problem, progress=progress.report)
    except WorkError as error:
        raise WorkError(f"{error}; nothing was changed") from error
    output.caveat(planned.caveats)
    return planned

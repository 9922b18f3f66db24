"""Put modes, owners, lists and capabilities back as a snapshot has them. It is a change like
any other: before and after, who gains and who loses, guards, history, undo.

An object is put back where it is the same one: by its path and inode, or by its inode and
birth where it was moved. What is new, gone or another object now is left alone and named.
Setuid, setgid and capabilities come back only on contents that nobody but root and the owner
could have written to since, by a digest in the snapshot; else they are left off and named.

SNAPSHOT may be a folder of snapshots: its last one, or the last one up to --at."""

import argparse

from fiat.app.change import ChangeOptions, Planned
from fiat.app.compare import LIVE, open_state, trees_of
from fiat.app.restore import LeftObjects, RestoreDirection, restore
from fiat.app.unevaluated import of_host
from fiat.cli.options.carrying import add_care, carry_out
from fiat.cli.options.common import add_common, output_of, speaks_of, trust_of
from fiat.cli.options.selections import add_choice, selected
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.render.plan import PlanView
from fiat.render.restore import RestoreView

EXAMPLES = (
    ("what putting a week back would do", "fiat restore skerry --from skerry-later --preview"),
    (
        "take away just what people gained",
        "fiat restore skerry /srv/skerry/keys --only-gained --from skerry-later --preview",
    ),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat restore``."""
    parser.add_argument("state", metavar="SNAPSHOT", help="what to put back")
    parser.add_argument("paths", nargs="*", default=[], metavar="PATH", help="just this tree of it")
    parser.add_argument("--at", metavar="TIME", help="of the folder SNAPSHOT the last one up to this time")
    only = parser.add_mutually_exclusive_group()
    only.add_argument("--only-lost", action="store_true", help="give back what people lost, and take nothing away")
    only.add_argument("--only-gained", action="store_true", help="take away what people gained, and give nothing back")
    add_choice(parser)
    add_care(parser, flags=True)
    add_common(parser, ("text", "json", "csv"))


def run(args: argparse.Namespace) -> int:
    """Plan, show, and unless it is a preview, put back."""
    if args.snapshot is not None and not args.preview:
        raise NotationError("--from", "a snapshot cannot be changed; --preview shows what the change would do")
    output = output_of("restore", args, changes=True)
    trust = trust_of(args, acts=not args.preview)
    before = open_state(args.state, args.at, incomplete=args.incomplete, trust=trust)
    if args.accounts is not None:
        trust.expect_accounts(args.accounts)
    now = open_state(
        LIVE if args.snapshot is None else args.snapshot,
        accounts=args.accounts,
        incomplete=args.incomplete,
        accounts_timeout=args.accounts_timeout,
    )
    speaks_of(args, now.host)
    if before.path is None:
        raise NotationError(args.state, f"{LIVE} is how it is now; write the snapshot that is to be put back")
    gained = RestoreDirection.GAINED if args.only_gained else RestoreDirection.EVERYTHING
    only = RestoreDirection.LOST if args.only_lost else gained
    left: list[LeftObjects] = []
    otherwise: list[str] = []
    held_in_part = [one for one in of_host(before.host) if one.code == "cut-short"]
    tops = trees_of(before, now, args.paths)
    how = ChangeOptions(below=True, across_mounts=before.across_mounts)

    def plan() -> Planned:
        with Progress(output.shows_progress) as progress:
            found = restore(
                before,
                now,
                tops,
                selected(args, now.host.accounts),
                only,
                through_flags=args.through_flags,
                privilege="privilege" in args.accept,
                problem=output.problem,
                progress=progress.report,
            )
        output.caveat([*held_in_part, *found.planned.caveats])
        left.extend(found.left)
        otherwise.extend(found.otherwise)
        return found.planned

    def shown(view: PlanView) -> RestoreView:
        return RestoreView(
            view, left, otherwise, only_gained=args.only_gained, only_lost=args.only_lost, in_part=output.has_problems
        )

    return carry_out(now.host, tops, how, plan, args, output, shown)

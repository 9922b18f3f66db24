"""Check what was meant: expectations in TOML files, who shall and who shall not have which right
where, what postures shall be. Each is held, or broken with counterexamples: who, where, by which
rule; or unknown, where something could not be looked at. Exit status 1: one is broken; 3: unknown.

    [[expect]]
    name = "keys stay with the steward"
    paths = ["/srv/skerry/keys"]
    below = true
    except = ["*.pub"]
    read = { only = ["root", "steward"] }
    write = { only = ["root"], never = ["group:watch"] }
    because = "the harbour contract, section 4"

For each right only (nobody else), always (at least these) and never; owner, group, mode,
file-mode, dir-mode, list, default-list and arrangement state a posture; may-replace = { only = […] }
who alone may put something else there. docs/check.md has all of it."""

import argparse
import sys

from fiat.app.change import ChangeOptions, Planned
from fiat.app.check import Checked, check, mend, read_expectations, statements
from fiat.app.status import ExitStatus
from fiat.cli.options.carrying import add_acceptance, carry_out
from fiat.cli.options.common import (
    add_common,
    add_paths_behind,
    goes_with,
    host_of,
    not_with,
    output_of,
    same_host,
    trust_of,
)
from fiat.cli.options.fleet import add_fleet
from fiat.cli.options.histories import add_history
from fiat.cli.progress import Progress
from fiat.core.errors import NotationError
from fiat.core.model.host import Host
from fiat.core.text import joined, quoted, shell_word
from fiat.render.check import CheckView
from fiat.render.output import Output

EXAMPLES = (
    ("today's answers as a start to edit", "fiat check --write /srv/skerry/keys /srv/skerry/logbook"),
    ("what the sample host's file expects", "fiat check skerry"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat check``."""
    parser.add_argument("files", nargs="*", metavar="FILE", help="expectations; skerry is the sample host's file")
    parser.add_argument("--write", action="store_true", help="write expectations that hold now of the trees PATH…")
    parser.add_argument("--arrangements", metavar="FILE", help="arrangements of your own, besides those of /etc/fiat")
    care = parser.add_argument_group("mending")
    care.add_argument("--mend", action="store_true", help="show one plan after which all hold that can")
    care.add_argument("--do", action="store_true", help="with --mend: carry it out")
    add_acceptance(care)
    add_paths_behind(care)
    care.add_argument("--stop", action="store_true", help="stop at the first path that cannot be changed")
    add_history(parser, without=True)
    add_common(parser, ("text", "json", "junit", "openmetrics"))
    add_fleet(parser)


def run(args: argparse.Namespace) -> int:
    """Check, and tell; or write, or mend."""
    goes_with("--do", args.do, "--mend", args.mend)
    form = f"--format {args.format}"
    not_with(form, args.format in ("junit", "openmetrics"), "--mend", args.mend, "a plan has no such form")
    output = output_of("check", args, changes=args.do)
    trust = trust_of(args, acts=args.do)
    host = host_of(args, trust)
    if not args.files:
        what = "PATH" if args.write else "FILE"
        raise NotationError(what, f"what shall be checked? Give one {what} or more; see --help")
    if args.write:
        with Progress(output.shows_progress) as progress:
            lines = list(statements(host, args.files, output.problem, progress.report))
        output.answered += 1
        sys.stdout.writelines(lines)
        return output.finish()
    if args.do and args.snapshot is not None:
        raise NotationError("--from", "a snapshot cannot be changed; --mend alone shows what the change would be")
    expectations = read_expectations(args.files, host, args.arrangements, trust)
    with Progress(output.shows_progress) as progress:
        checked = check(host, expectations, problem=output.problem, progress=progress.report)
    if args.mend and checked.broken:
        return _mend(args, host, checked, output)
    output.settled = True  # each expectation says for itself where it hangs on what is not known
    wrong = bool(checked.broken or checked.contradictions)
    output.status = ExitStatus.NO if wrong else ExitStatus.DONE
    output.only_what_is_wrong(wrong=wrong or bool(checked.unknown))
    on = "".join(f" {option} {shell_word(value)}" for option, value in same_host(args))
    output.add(CheckView(checked, args.files, host=on, broken_only=args.quiet), count=len(checked.found))
    return output.finish()


def _mend(args: argparse.Namespace, host: Host, checked: Checked, output: Output) -> int:
    args.preview = not args.do
    tops = [path for one in checked.found for path in one.expectation.paths]
    left: list[str] = []

    def plan() -> Planned:
        with Progress(output.shows_progress) as progress:
            planned, found = mend(host, checked, problem=output.problem, progress=progress.report)
        output.caveat(planned.caveats)
        for one in found.after:
            if one.broken:
                why = found.why_not.get(one.expectation.name, "mending another one breaks it")
                left.append(f"{quoted(one.expectation.name)} ({why})")
        return planned

    status = carry_out(host, tops, ChangeOptions(link_itself=True), plan, args, output)
    if left:
        output.complain(f"{joined(left)} would still not hold")
        return max(status, ExitStatus.NO) if status in (ExitStatus.DONE, ExitStatus.NO) else status
    return status

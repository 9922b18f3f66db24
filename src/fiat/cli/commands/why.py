"""Answer one question - may WHO do this to PATH? - and walk the route to the
answer: what each component needed, and the rule and entry that decided it.

WHO is a user name, uid:NUMBER, group:NAME (membership alone), pid:NUMBER
(a running process), anyone-else or self. RIGHT is read, write, execute,
traverse, list, create, delete, rename, change-mode, change-owner or
change-group. The exit status is 0 for yes and 1 for no."""

import argparse
import errno
import os
from typing import Any

from fiat.cli.options.asked import right
from fiat.cli.options.hosts import failure, open_host
from fiat.cli.parser import add_common
from fiat.cli.status import Status
from fiat.core.ask import caveats
from fiat.core.ask import why as explain
from fiat.core.errors import PathError
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import permission_letters
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.process import difference
from fiat.core.rules.access import ALL_RIGHTS, Access, Step, Verdict, route_for
from fiat.core.suggest import advice
from fiat.core.suggest.advice import Change
from fiat.core.text import visible
from fiat.core.tree.route import Route
from fiat.core.words import naming, who
from fiat.render import terminal, words
from fiat.render.report import Report, errno_name

EXAMPLES = (
    (
        "a file that says r and cannot be read",
        "fiat why surveyor read /srv/skerry/observatory/2026/november/barometer.csv",
    ),
    ("a group on its own", "fiat why group:press write /srv/skerry/charts/draft"),
    ("somebody without any account here", "fiat why anyone-else delete /srv/skerry/dropbox/from-surveyor.txt"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat why``."""
    parser.add_argument("who", metavar="WHO", help="who asks: keeper, uid:7101, group:watch, pid:812, self")
    parser.add_argument("right", metavar="RIGHT", help=f"what they want: {', '.join(ALL_RIGHTS)}")
    parser.add_argument("path", metavar="PATH", help="where; symlinks are followed, as the kernel does")
    add_common(parser)


def run(args: argparse.Namespace) -> int:
    """Give the verdict."""
    right(args.right)
    report = Report("why", args.format)
    host = open_host(args)
    principal = who.parse(args.who, host)
    if not args.path:
        report.problem(PathError("", errno.ENOENT))
        return report.finish()
    route = route_for(host, args.path, args.right)
    universe = Universe([principal])
    verdict = Access(universe, host.settings).verdict(route, args.right, 0)
    if route.hidden and verdict.blocker is verdict.steps[-1] and verdict.blocker.object is None:
        # It fails where Fiat's own sight ends: what holds for this principal there is not known.
        report.problem(failure(route))
        return report.finish()
    if principal.kind == "process":
        report.caveat(caveats.of_process(principal, difference(principal, host.accounts), host.accounts))
    report.caveat(caveats.of_route(route))
    report.caveat(caveats.of_host(host.settings))
    changes = [_here(change, args) for change in advice.changes(principal, verdict, host.accounts)]
    if not report.as_text:
        report.add(_fields(principal, args.right, route, verdict, changes))
    else:
        _print(principal, args.right, route, verdict, changes, host.accounts)
        report.count()
    return report.finish(Status.DONE if verdict.allowed else Status.NO)


def _here(change: Change, args: argparse.Namespace) -> Change:
    """The command line with the host and the accounts that this one was asked about."""
    if not change.command:
        return change
    about = [("--from", args.snapshot), ("--accounts", args.accounts)]
    words = [f" {option} {advice.shell_word(value)}" for option, value in about if value is not None]
    return change._replace(command=change.command + "".join(words))


def _fields(principal: Principal, right: str, route: Route, verdict: Verdict, changes: list[Change]) -> dict[str, Any]:
    return {
        "who": {
            "kind": principal.kind,
            "name": principal.name,
            "uid": principal.uid,
            "gids": sorted(principal.gids),
            "pid": principal.pid,
            "capabilities": capabilities.names(principal.capabilities),
        },
        "right": right,
        "path": route.asked,
        "allowed": verdict.allowed,
        "errno": errno_name(verdict.errno),
        "blocker": verdict.blocker.path if verdict.blocker else None,
        "steps": [_step_fields(step) for step in verdict.steps],
        "beyond": [_step_fields(step) for step in verdict.beyond],
        "changes": [change._asdict() for change in changes],
    }


def _step_fields(step: Step) -> dict[str, Any]:
    return {
        "path": step.path,
        "needs": step.needs,
        "allowed": step.allowed,
        "rule": step.rule,
        "entry": step.reason.share.entry.text() if step.reason else None,
        "effective": permission_letters(step.reason.share.permissions) if step.reason else None,
        "errno": errno_name(step.errno),
    }


# --- text ------------------------------------------------------------------


def _print(
    principal: Principal, right: str, route: Route, verdict: Verdict, changes: list[Change], accounts: Accounts
) -> None:
    kind = route.end.posture.kind if route.end else None
    phrase = words.right_phrase(right, kind)
    name = words.principal(principal)
    if verdict.allowed:
        terminal.say(f"{terminal.paint('Yes.', 'yes')} {name} may {phrase} {visible(route.asked)}")
    else:
        number = f"{errno_name(verdict.errno)}, {os.strerror(verdict.errno)}"
        terminal.say(f"{terminal.paint('No.', 'no')} {name} may not {phrase} {visible(route.asked)}  ({number})")
    for line in explain.explain(principal, verdict, route.end, accounts):
        terminal.say(line, terminal.INDENT)
    print()
    print(terminal.table(["", "at", "needs", "rule", "entry"], _rows(verdict, accounts), flexible=1))
    if changes:
        print()
        print("What would have to change, the narrowest first:")
        for change in changes:
            terminal.say(f"- {change.effect}{':' if change.command else ''}", terminal.INDENT, hanging="  ")
            if change.command:  # never wrapped, so that it can be copied
                print(f"{terminal.INDENT * 3}{change.command}")


def _rows(verdict: Verdict, accounts: Accounts) -> list[list[str]]:
    """A row for each step; an interpreter that can be run takes only one."""
    rows = []
    for number, step in enumerate((*verdict.steps, *verdict.beyond)):
        reached = number < len(verdict.steps)
        if reached:
            mark = terminal.paint("yes", "yes") if step.allowed else terminal.paint("NO", "no")
        else:
            mark = terminal.paint("not reached" if step.allowed else "would stop too", "faint")
        needs = step.needs
        if step.script:
            if reached and step.allowed and needs != "execute" and step.path != step.script:
                continue
            needs += ", as script" if step.path == step.script else ", as interpreter"
        rows.append([mark, visible(step.path), needs, *_decided(step, accounts)])
    return rows


def _decided(step: Step, accounts: Accounts) -> list[str]:
    """The rule and the entry: ``named user``, ``user:auditor:r--, mask leaves r--``."""
    if step.reason is None:
        return ["", explain.RULE_WORDS.get(step.rule, step.rule)]
    share = step.reason.share
    entry = share.entry
    text = naming.entry(entry, accounts)
    if share.permissions != entry.permissions:
        text += f", mask leaves {permission_letters(share.permissions)}"
    if step.reason.capability:
        (power,) = capabilities.names(step.reason.capability)
        text += f", overridden by CAP_{power.upper()}"
    return [step.rule.replace("-", " "), text]

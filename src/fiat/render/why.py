"""One verdict, walked component by component; and what a program's name finds, folder by folder."""

import errno
import os
from collections.abc import Iterator
from typing import TYPE_CHECKING

from fiat.app.why import Why
from fiat.core.ask import why
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import permission_letters
from fiat.core.model.principals import Principal
from fiat.core.rules.checks import Step
from fiat.core.text import Fields, counted, shell_word, visible
from fiat.core.words import naming
from fiat.render import words
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken
from fiat.render.output import errno_name

if TYPE_CHECKING:
    from fiat.app.byname import ByName
    from fiat.core.ask.acting import Acting
    from fiat.core.model.wish import Advice


class WhyView(PlainResult):
    """The verdict, its steps, and what would have to change.

    ``about`` are options that the command lines need for the host that was asked. With
    ``every``, each step has a row, those that the kernel never comes to as well.
    """

    def __init__(self, found: Why, about: list[tuple[str, str]], *, every: bool = True) -> None:
        self.found = found
        self.every = every
        self.accounts = found.host.accounts
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)

    def records(self) -> Iterator[Fields]:
        """The verdict with its steps."""
        found, verdict = self.found, self.found.verdict
        yield {
            "who": who_fields(found.asker or found.who),
            "right": found.right.name,
            "path": found.route.asked,
            "allowed": None if found.open else verdict.allowed,
            "errno": None if found.open else errno_name(verdict.errno),
            "blocker": verdict.blocker.path if verdict.blocker and not found.open else None,
            **({"by_known_groups": verdict.allowed} if found.open else {}),
            "steps": [*self._acting_steps(), *(_step_fields(step) for step in verdict.steps)],
            "beyond": [_step_fields(step) for step in verdict.beyond],
            "changes": [
                {
                    "path": advice.path,
                    "effect": advice.with_others(),
                    "command": self._command(advice),
                    "others": advice.others,
                    "suffices": advice.suffices if advice.group is not None else None,
                }
                for advice in found.advice
            ],
            "apart": found.apart,
            **self._means_fields(),
            **({"perhaps_by_acting": [self._way_fields(one) for one in found.perhaps]} if found.perhaps else {}),
        }

    def _means_fields(self) -> Fields:
        """What they can bring about, where that is asked."""
        if self.found.means is None:
            return {}
        from fiat.render.ownmeans import means_fields

        ways = means_fields(self.found.means, self.found.who.name)
        chain = self.found.chain
        if chain is not None:
            from fiat.render.ownmeans import chain_fields

            return {"reachable": True, "own_means": ways, "through_programs": chain_fields(chain)}
        return {"reachable": None if not ways and self.found.who.unsure else bool(ways), "own_means": ways}

    def _acting_steps(self) -> list[Fields]:
        """That they act as others first."""
        if self.found.acting is None:
            return []
        from fiat.render.acting import grant_fields

        step = {"path": None, "needs": "act as", "allowed": True}
        return [{**step, **grant_fields(one, self.accounts)} for one in self.found.acting.grants]

    def _way_fields(self, one: "Acting") -> Fields:
        from fiat.render.acting import acting_fields

        return acting_fields(one, self.accounts)

    def blocks(self) -> Iterator[Block]:
        """The answer first, then the reason, then what to do."""
        found, verdict = self.found, self.found.verdict
        phrase = words.right_phrase(found.right, found.route.end.posture.kind if found.route.end else None)
        name, path = naming.principal(found.who), unbroken(visible(found.route.asked))
        if found.open:
            so = "may" if verdict.allowed else "may not"
            text = f" Whether {name} may {phrase} {path} hangs on groups that could not be asked for."
            yield Prose([Span("Not known.", "no"), text], hanging="  ")
            yield Prose(f"With the groups that are known, {name} {so}:", 1)
        elif found.acting is not None and found.asker is not None:
            from fiat.render.acting import step_words, way_words

            asker = naming.principal(found.asker)
            as_whom = way_words(found.acting, self.accounts)
            yield Prose([Span("Yes,", "yes"), f" by acting as {as_whom}: {asker} may {phrase} {path}"], hanging="  ")
            for grant in found.acting.grants:
                yield Prose(f"{asker} {step_words(grant, self.accounts)}.", 1, hanging="  ")
                yield Verbatim(f"the rule: {visible(grant.rule.text)}", 2)
                asker = naming.principal(found.who) if grant is found.acting.grants[-1] else visible(grant.account.name)
        elif verdict.allowed:
            yield Prose([Span("Yes.", "yes"), f" {name} may {phrase} {path}"])
        elif self._missing():
            gets = f"; {name} gets {errno_name(verdict.errno)}" if verdict.errno != errno.ENOENT else ""
            sees = naming.user(found.host.actor().uid or 0, self.accounts)
            yield Prose([Span("No, ENOENT.", "no"), f" There is no {path}, as {sees} sees it{gets}"], hanging="  ")
        else:
            reason = unbroken(f"({os.strerror(verdict.errno)})")
            begin = Span(f"No, {errno_name(verdict.errno)}.", "no")
            yield Prose([begin, f" {name} may not {phrase} {path}  {reason}"], hanging="  ")
        for line in found.explained:
            yield Prose(self._with_paths(line), 1)
        if found.means or found.chain is not None:
            how = "by their own means" if found.means else "through programs that others run"
            yield Prose(f"{name} can bring it about {how}: see below.", 1, hanging="  ")
        if found.perhaps:
            from fiat.render.acting import step_words

            for one in found.perhaps:
                last = one.grants[-1]
                told = f"{name} {step_words(last, self.accounts)}; {visible(last.account.name)} may {phrase} it."
                yield Prose(told, 1, hanging="  ")
        if found.apart:
            yield apart_block()
        yield BLANK
        yield Table(["", "at", "needs", "rule", "entry"], self._rows(), flexible=(1, 4))
        if found.means is not None:
            from fiat.render.ownmeans import way_blocks

            kind = found.route.end.posture.kind if found.route.end else None
            yield from way_blocks(found.means, name, phrase, kind, unsure=found.who.unsure)
        if found.chain is not None:
            from fiat.render.ownmeans import chain_blocks

            yield from chain_blocks(found.chain, name, phrase)
        if found.advice and not found.means and found.chain is None:
            yield BLANK
            yield from self.advice_blocks()

    def _missing(self) -> bool:
        """Whether nothing is there, whoever asks."""
        return self.found.route.end is None and any(
            step.errno == errno.ENOENT for step in (*self.found.verdict.steps, *self.found.verdict.beyond)
        )

    def advice_blocks(self) -> Iterator[Block]:
        """What would have to change; where several objects refuse, each is a step, with its ways."""
        at: dict[str, list[Advice]] = {}
        for advice in self.found.advice:
            at.setdefault(advice.path, []).append(advice)
        if len(at) == 1:
            yield Verbatim("What would have to change, one of these, the narrowest first:")
            for advice in self.found.advice:
                yield from self._way(advice, "")
            return
        enough = {advice.group: advice for advice in self.found.advice if advice.suffices}
        steps = "both of these steps" if len(at) == 2 else f"all of these {len(at)} steps"
        yield Verbatim(f"What would have to change: {steps}, each in one of its ways{', or' if enough else ''}")
        for advice in enough.values():
            yield Prose(f"- {advice.effect.replace('it here', 'it all')}: that alone is enough", 1, hanging="  ")
        for number, (path, ways) in enumerate(at.items(), 1):
            yield Verbatim(f"{number}. at {visible(path)}", 1)
            for advice in ways:
                if not advice.suffices:
                    yield from self._way(advice, "; not enough alone" if advice.group is not None else "", 1)

    def _way(self, advice: "Advice", more: str, deeper: int = 0) -> Iterator[Block]:
        command = self._command(advice)
        yield Prose(f"- {advice.with_others()}{more}{':' if command else ''}", 1 + deeper, hanging="  ")
        if command:
            yield Verbatim(command, 3 + deeper)

    def _with_paths(self, line: str) -> str:
        """A sentence in which no path is broken."""
        for step in (*self.found.verdict.steps, *self.found.verdict.beyond):
            path = visible(step.path)
            if " " in path:
                line = line.replace(path, unbroken(path))
        return line

    def _command(self, advice: "Advice") -> str:
        """The command line for what is advised, on the host and with the accounts that were asked; or nothing."""
        if advice.wish is None:
            return ""
        from fiat.core.words.commands import set_command

        return f"{set_command(advice.path, advice.wish, self.accounts)} --preview{self.about}"

    def _rows(self) -> Iterator[list[Spans]]:
        """A row for each step; an interpreter that can be run takes only one, and what is not reached one for all."""
        verdict = self.found.verdict
        not_reached: list[Step] = []
        for number, step in enumerate((*verdict.steps, *verdict.beyond)):
            if step.runs_for and step.allowed and step.needs != "execute" and step.path != step.runs_for:
                continue
            if number < len(verdict.steps):
                mark = Span("yes", "yes") if step.allowed else Span("NO", "no")
            elif step.allowed and not self.every:
                not_reached.append(step)
                continue
            else:
                mark = Span("not reached" if step.allowed else "would stop too", "faint")
            yield self._row(mark, step)
        if len(not_reached) == 1:
            yield self._row(Span("not reached", "faint"), not_reached[0])
        elif not_reached:
            more = counted(len(not_reached) - 1, "more step")
            yield [Span("not reached", "faint"), f"{more}, which would let through", "", "", ""]
            yield self._row(Span("not reached", "faint"), not_reached[-1])

    def _row(self, mark: Span, step: Step) -> list[Spans]:
        return [mark, *step_cells(step, self.accounts)]


def step_cells(step: Step, accounts: Accounts) -> list[str]:
    """Where a step is, what it needs there, the rule and the entry that decide."""
    needs = step.needs
    if step.runs_for:
        needs += ", as script" if step.path == step.runs_for else ", to run it"
    return [unbroken(visible(step.path)), needs, *decided(step, accounts)]


def apart_block() -> Block:
    """That reading and writing are allowed apart, and not together."""
    text = " Opening it for reading and writing at once fails all the same: no one entry allows both."
    return Prose([Span("!!", "no"), text], 1, hanging="   ")


def who_fields(who: Principal) -> Fields:
    """The machine output of who asks."""
    return {
        "kind": who.kind,
        "name": who.name,
        "uid": who.uid,
        "gids": sorted(who.gids),
        "pid": who.pid,
        "capabilities": capabilities.names(who.capabilities),
    }


def _step_fields(step: Step) -> Fields:
    return {
        "path": step.path,
        "needs": step.needs,
        "allowed": step.allowed,
        "rule": step.rule,
        "entry": step.reason.share.entry.text() if step.reason else None,
        "effective": permission_letters(step.reason.share.permissions) if step.reason else None,
        "errno": errno_name(step.errno),
    }


def decided(step: Step, accounts: Accounts) -> list[str]:
    """The rule and the entry: ``named user``, ``user:auditor:r--, mask leaves r--``."""
    if step.reason is None:
        return ["", why.RULE_WORDS.get(step.rule, step.rule)]
    share = step.reason.share
    entry = share.entry
    text = naming.entry(entry, accounts)
    if share.permissions != entry.permissions:
        text += f", mask leaves {permission_letters(share.permissions)}"
    if step.reason.capability:
        (power,) = capabilities.names(step.reason.capability)
        text += f", overridden by CAP_{power.upper()}"
    return [step.rule.replace("-", " "), text]


class ByNameView(PlainResult):
    """The program, where it was found, and what else has the name."""

    def __init__(self, found: "ByName", about: list[tuple[str, str]]) -> None:
        self.found = found
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)

    def records(self) -> Iterator[Fields]:
        """What is found, and each place that was looked at."""
        found = self.found
        refused = found.refused[-1].verdict.errno if found.refused else 2
        yield {
            "who": who_fields(found.who),
            "right": "run",
            "name": found.name,
            "allowed": found.program is not None,
            "errno": None if found.program is not None else errno_name(refused),
            "path": None if found.program is None else found.program.path,
            "by_shell": found.program is not None and found.program.by_shell,
            "folders": list(found.folders),
            "source": found.source,
            "open_ends": list(found.open_ends),
            "places": [
                {
                    "path": place.path,
                    "there": place.why is not None,
                    "allowed": None if place.why is None else place.runs,
                    "errno": None if place.why is None else errno_name(place.why.verdict.errno),
                }
                for place in found.places
            ],
            "here": found.here,
        }

    def blocks(self) -> Iterator[Block]:
        """The answer, the folders, and what to do."""
        found, who, name = self.found, naming.principal(self.found.who), visible(self.found.name)
        folders = ":".join(map(visible, found.folders))
        if found.program is not None:
            yield Verbatim([Span("Yes.", "yes"), f" {who} gets {visible(found.program.path)} by the name {name}"])
        elif found.refused:
            yield Verbatim([Span("No.", "no"), f" what is called {name} may not be run by {who}  (EACCES)"])
        else:
            yield Verbatim([Span("No.", "no"), f" {who} finds nothing called {name}  (ENOENT, command not found)"])
        yield Prose(f"Looked for in {folders} ({visible(found.source)}).", 1, hanging="  ")
        for open_end in found.open_ends:
            yield Prose(f"Not evaluated: {visible(open_end)}.", 1, hanging="  ")
        if found.program is not None and found.program.by_shell:
            text = (
                "To the kernel it is no program: without #! in its first line the shell runs it as a script of its own."
            )
            yield Prose(text, 1, hanging="  ")
        if found.refused:
            yield BLANK
            rows = [[Span("NO", "no"), visible(one.route.asked), one.explained[0]] for one in found.refused]
            yield Table(["", "at", "why"], rows, flexible=(2,))
            for one in found.refused[-1:] if found.program is None else ():
                where = shell_word(one.route.asked)
                word = shell_word(naming.word_for(found.who))
                yield Verbatim(f"fiat why {word} execute {where}{self.about}  says what would have to change", 1)
        if found.program is None and found.here is not None:
            yield Prose(
                f"It is in the current directory, which is not looked through: ./{shell_word(found.name)} runs it.", 1
            )
        elif found.program is None and not found.refused:
            where = counted(len(found.folders), "folder")
            text = (
                f"None of the {where} holds anything of this name that they can find. What is elsewhere is run by its"
            )
            yield Prose(f"{text} path, such as ./{shell_word(found.name)} in the current directory.", 1)

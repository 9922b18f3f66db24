"""What an audit found, the worst first: where, who can really use it, why it matters, and what mends it."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from fiat.app.audit import Audit
from fiat.core.audit.auditedtree import Rule
from fiat.core.audit.examine import TreeFinding
from fiat.core.audit.mending import Mended
from fiat.core.audit.registry import RULES
from fiat.core.model.finding import WEIGHTS
from fiat.core.model.principals import Universe
from fiat.core.text import Fields, counted, joined, shell_word, visible
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords
from fiat.render.changes import people_words
from fiat.render.model import BLANK, Block, OutputLines, Part, PlainResult, Prose, Span, Table, Verbatim, unbroken

_SHOWN = 30
"""Findings of one rule that are shown before the rest is only counted."""

_PATHS = 3
"""Paths of one finding that are named."""

_LISTED = 1000
"""Paths of one finding that machine output lists."""

_COLUMNS = ("weight", "rule", "path", "paths", "text", "users", "groups", "anyone_else", "mend")

_STYLES = {"danger": "no", "odd": "changed", "plain": "faint"}


class AuditView(PlainResult):
    """The findings of one weight or worse; the others are counted.

    ``about`` are options that command lines need for the host that was asked. ``in_part``: not everything could be
    looked at. ``terse``: just the findings. ``file`` is where the findings were written to, if anywhere.
    """

    def __init__(
        self, audit: Audit, weight: str, *, in_part: bool = False, terse: bool = False, about: str = ""
    ) -> None:
        self.audit = audit
        self.shown = WEIGHTS[: WEIGHTS.index(weight) + 1]
        self.in_part = in_part
        self.terse = terse
        self.about = about
        self.file: str | None = None
        self.found = [one for one in audit.found if one.told.found.weight in self.shown]

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """One for each finding that is shown."""
        for one in self.found:
            told = one.told
            paths = told.audited.paths(told.found.places[:_LISTED])
            yield {
                "rule": told.rule.code,
                "weight": told.found.weight,
                "path": told.first,
                "paths": told.paths,
                "listed": paths,
                "text": told.found.text,
                "why": told.rule.why,
                "affected": _affected(told.audited.universe, told.found.people),
                "mend": [f"{command}{self.about}" for command in one.commands],
                "takes": None if one.takes is None else [_shift(shift) for shift in one.takes],
                "gives": None if one.gives is None else [_shift(shift) for shift in one.gives],
            }

    def parts(self, *, text: bool) -> Iterator[Part]:
        """Each finding by itself; on which paths it was found, but for the first, makes no other of it."""
        if not text:
            yield from (Part(record, apart=("listed", "paths", "takes", "gives")) for record in self.records())
            return
        for one in self.found:
            rule, weight = one.told.rule, one.told.found.weight
            shifts = (shift.who for some in (one.takes, one.gives) for shift in some or () if shift.apart)
            yield Part(
                None,
                tuple(self._of_one(one)),
                exactly=(_people(one.told).exactly(one.told.found.people), *shifts),
                under=tuple(_rule_words(rule, weight)),
                rank=WEIGHTS.index(weight),
            )

    def rows(self) -> Iterator[Fields]:
        """The records as flat rows, for CSV."""
        for one in self.records():
            affected = one["affected"]
            yield {
                **{name: one[name] for name in ("weight", "rule", "path", "paths", "text")},
                "users": affected["users"],
                "groups": affected["groups"],
                "anyone_else": affected["anyone_else"],
                "mend": one["mend"],
            }

    def tables(self) -> Iterator[Any]:
        """A row for each finding."""
        from fiat.render import tables

        yield tables.of_rows(self.rows(), _COLUMNS)

    def written(self, format: str) -> OutputLines | None:
        """As SARIF all at once."""
        if format != "sarif":
            return None
        from fiat.render.sarif import log

        return OutputLines([log(self.found, list(RULES.values()), self.audit.caveats)])

    def envelope(self) -> Fields:
        """How many of each weight, and what was accepted."""
        return {
            "objects": self.audit.objects,
            "weights": {weight: len(self.audit.weighing(weight)) for weight in WEIGHTS},
            "known": self.audit.known,
            "no_longer_known": [
                {"rule": one.rule, "path": one.path, "reason": one.reason, "until": one.until}
                for one in self.audit.over
            ],
        }

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """How many there are, each with what belongs to it, and what is not shown."""
        counts = [(weight, len(self.audit.weighing(weight))) for weight in (self.shown if self.terse else WEIGHTS)]
        names = {"danger": "danger", "odd": "odd thing", "plain": "plain finding"}
        told = joined(counted(count, names[weight]) for weight, count in counts if count)
        where = joined(unbroken(visible(top)) for top in self.audit.tops)
        objects = counted(self.audit.objects, "object")
        what = (told or "Nothing was found").capitalize()
        part = ", of what could be looked at" if self.in_part else ""
        yield Prose(f"{what} among {objects} at and under {where}{part}.", hanging="  ")
        for weight in self.shown:
            for rule in RULES.values():
                some = [one for one in self.found if one.told.rule is rule and one.told.found.weight == weight]
                if some:
                    yield BLANK
                    yield from self._of_rule(rule, weight, some)
        if not self.terse:
            yield from self._rest()

    def _of_rule(self, rule: Rule, weight: str, some: Sequence[Mended]) -> Iterator[Block]:
        yield from _rule_words(rule, weight)
        for one in some[:_SHOWN]:
            yield from self._of_one(one)
        if len(some) > _SHOWN:
            yield Verbatim(f"and {len(some) - _SHOWN:,} more of this; --rule {rule.code} --json lists them", 1)

    def _of_one(self, one: Mended) -> Iterator[Block]:
        told = one.told
        first = told.audited.paths(told.found.places[:_PATHS])
        names = ", ".join(unbroken(visible(path)) for path in first)
        more = f" and {told.paths - len(first):,} more" if told.paths > len(first) else ""
        yield Prose([Span(f"{names}{more}", "strong"), f": {told.found.text}"], 1, hanging="  ")
        if told.found.people:
            yield Prose(f"who   {_people(told).words(_users(told))}", 2, hanging="      ")
        for command in one.commands[:1]:
            yield Verbatim(f"mend  {unbroken(command)}{unbroken(self.about)}", 2)
        if len(one.commands) > 1:
            yield Verbatim(f"      and {len(one.commands) - 1:,} more such commands, which --json has", 2)
        if one.later:
            yield Verbatim("mend  once the danger there is mended: fiat audit tells then what is left", 2)
        cost = [*(f"guarded: {guard.text}" for guard in one.guards), *self._cost(one)] if one.commands else []
        if cost:
            yield Prose(f"      {'; '.join(cost)}", 2, hanging="      ")

    def _cost(self, one: Mended) -> Iterator[str]:
        """Who loses and who gains what by mending; nothing where that was not counted."""
        for shifts, verb in ((one.takes, "takes"), (one.gives, "gives")):
            if shifts is None:
                continue
            rights: dict[str, list[str]] = {}
            for shift in shifts:
                if shift.apart:
                    rights.setdefault(shift.who, []).append(shift.right)
            alike: dict[tuple[str, ...], list[str]] = {}
            for who, theirs in rights.items():
                alike.setdefault(tuple(theirs), []).append(who)
            for some, people in sorted(alike.items(), key=lambda item: -len(item[1]))[:2]:
                whom = people_words(people, self.audit.host.accounts, one.unlisted)
                yield f"{verb} {joined(some)} {'from' if verb == 'takes' else 'to'} {whom}"
        if one.takes == () and one.gives == ():
            yield "takes nothing from anybody, and gives nothing"

    def _rest(self) -> Iterator[Block]:
        hidden = [weight for weight in WEIGHTS if weight not in self.shown and self.audit.weighing(weight)]
        known, over = self.audit.known, self.audit.over
        if hidden or known or over:
            yield BLANK
        for weight in hidden:
            count = len(self.audit.weighing(weight))
            what = "finding" if weight == "plain" else "thing"
            them = "it" if count == 1 else "them"
            yield Verbatim(f"{counted(count, f'{weight} {what}')} more: --weight {weight} shows {them}")
        if self.file is not None:
            yield BLANK
            file = unbroken(shell_word(self.file))
            option = unbroken(f"--accept-known {shell_word(self.file)}")
            yield Prose(f"Written to {file}: give each a reason, then {option} leaves them out", hanging="  ")
        if known:
            yield Verbatim(f"{counted(known, 'path')} accepted, and left out")
        for one in over[:_PATHS]:
            reason = visible(one.reason)
            text = f"no longer accepted since {one.until}: {one.rule} at {unbroken(one.path)} ({reason})"
            yield Prose(text, hanging="  ")


def _rule_words(rule: Rule, weight: str) -> Iterator[Block]:
    yield Prose([Span(weight, _STYLES[weight]), f"  {rule.about}  ", Span(rule.code, "faint")], hanging="  ")
    yield Prose(f"why   {rule.why}", 1, hanging="      ")


def _people(told: TreeFinding) -> PeopleWords:
    return PeopleWords(told.audited.universe, told.audited.accounts, told.audited.universe.everyone)


def _users(told: TreeFinding) -> int:
    """Bare groups stand for nobody in particular."""
    universe = told.audited.universe
    return (
        told.found.people
        if told.found.people & universe.of_kind("anyone-else") == 0
        else (told.found.people | universe.of_kind("group"))
    )


def _affected(universe: Universe, bits: int) -> Fields:
    members = list(universe.members(bits))
    return {
        "users": [naming.word_for(who) for who in members if who.kind == "user"],
        "groups": [naming.word_for(who).removeprefix("group:") for who in members if who.kind == "group"],
        "anyone_else": any(who.kind == "anyone-else" for who in members),
    }


def _shift(shift: object) -> Fields:
    who, right, paths = (getattr(shift, name) for name in ("who", "right", "paths"))
    return {"who": who, "right": right, "paths": paths}


class RulesView(PlainResult):
    """Every rule, with what it looks for and why."""

    def __init__(self, rules: Iterable[Rule]) -> None:
        self.rules = list(rules)

    def records(self) -> Iterator[Fields]:
        """One record for each rule, for JSON."""
        for rule in self.rules:
            yield {"rule": rule.code, "about": rule.about, "why": rule.why, "asked": rule.asked}

    def blocks(self) -> Iterator[Block]:
        """The name, and what it looks for."""
        rows = [[rule.code, f"{rule.about}: {rule.why}"] for rule in self.rules]
        yield Table(["rule", "looks for"], rows, indent=0)

"""Ways: what each does, what it costs, and the command lines."""

from collections.abc import Iterator

from fiat.app.let import Meant
from fiat.core.model.accesslist import Tag
from fiat.core.model.fields import Fields
from fiat.core.model.record import PostureRecord
from fiat.core.suggest.ways import COUNTED, Way
from fiat.core.text import counted, joined, shell_word, visible
from fiat.core.words import naming
from fiat.core.words.commands import set_command
from fiat.core.words.people import several_words
from fiat.render import words
from fiat.render.effects import shift_fields
from fiat.render.findings import finding_fields, guard_fields
from fiat.render.model import BLANK, Block, Plain, Prose, Span, Verbatim, unbroken
from fiat.render.why import who_fields

_MOST = 5
"""Ways that are shown where not all are asked for."""


class WaysView(Plain):
    """The ways to one goal, the best first; ``about`` are options that command lines need for the same host."""

    def __init__(self, found: Meant, about: list[tuple[str, str]], *, every: bool = False) -> None:
        self.meant = found
        self.found = found.found
        self.goal = found.found.goal
        self.accounts = found.host.accounts
        who = self.goal.who
        self.who = f"group {naming.group_of(who)}" if who.kind == "group" else naming.principal(who)
        self.every = every
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """The goal, whether it is so already or can be, and each way with what it costs."""
        found, goal = self.found, self.goal
        yield {
            "who": who_fields(goal.who),
            "right": goal.right.name,
            "path": goal.path,
            "gives": goal.gives,
            "already": found.already,
            "possible": found.already or bool(found.ways),
            "why_not": found.why_not or None,
            "ways": [self._way_fields(rank, way) for rank, way in enumerate(found.ways, 1)],
            "notes": [finding_fields(note) for note in self.meant.notes],
        }

    def _way_fields(self, rank: int, way: Way) -> Fields:
        record, cost = PostureRecord(self.accounts), way.cost
        membership = (
            None if way.membership is None else {"user": way.membership[0], "group": self._group(way.membership[1])}
        )
        changes = [] if way.plan is None else [(item.path, item.change) for item in way.plan.items()]
        return {
            "rank": rank,
            "means": list(way.means),
            "commands": self._commands(way),
            "steps": [
                {"path": path, "before": record.write(change.before), "after": record.write(change.after)}
                for path, change in changes
            ],
            "membership": membership,
            "gains": [shift_fields(shift) for shift in way.gains],
            "losses": [shift_fields(shift) for shift in way.losses],
            "collateral": {
                "others": {"gains": way.others[0], "losses": way.others[1]},
                "anyone_else": cost.anyone_else,
                "own": cost.own,
                "root": way.root,
                "objects": cost.objects,
                "entries": cost.entries,
                "at_least": way.at_least,
            },
            "guards": [] if way.plan is None else [guard_fields(guard) for guard in way.plan.guards],
            "caveats": [] if way.plan is None else [finding_fields(one) for one in way.plan.caveats],
        }

    def _commands(self, way: Way) -> list[str]:
        return [f"{set_command(path, wish, self.accounts)}{self.about}" for path, wish in way.steps]

    def _group(self, gid: int) -> str:
        group = self.accounts.group_numbered(gid)
        return str(gid) if group is None else group.name

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """Whether it is so, and the ways, each with what it costs others."""
        found, goal = self.found, self.goal
        who, path = self.who, unbroken(visible(goal.path))
        end = found.verdict.deciding.object
        phrase = words.right_phrase(goal.right, None if end is None or end.path != goal.path else end.posture.kind)
        may = f"{who} may {'' if found.verdict.allowed else 'not '}{phrase} {path}"
        if found.already:
            yield Prose([Span("Already so.", "yes"), f" {may}."])
            return
        if found.why_not:
            yield Prose([Span("No way.", "no"), f" {may}: {found.why_not}."], hanging="  ")
            return
        shown = found.ways if self.every else found.ways[:_MOST]
        yield Prose(f"{may}. {self._title()}", hanging="  ")
        for number, way in enumerate(shown, 1):
            yield BLANK
            yield from self._way(number, way)
        if len(found.ways) > len(shown):
            yield BLANK
            yield Verbatim(f"and {counted(len(found.ways) - len(shown), 'more way')}; --all shows every one", 1)
        yield BLANK
        for note in self.meant.notes:
            mark = "! " if note.weight == "odd" else "- "
            yield Prose([Span(mark, "no" if note.weight == "odd" else "faint"), f" {note.text}"], 1, hanging="   ")
        first = next((number for number, way in enumerate(found.ways, 1) if way.plan is not None), None)
        if first is not None:
            verb, word = ("let" if goal.gives else "bar"), naming.word_for(goal.who)
            command = (
                f"fiat {verb} {shell_word(word)} {goal.right.name} {shell_word(goal.path)} --do {first}{self.about}"
            )
            yield Verbatim(f"Carried out by: {command}")

    def _title(self) -> str:
        ways = counted(len(self.found.ways), "way")
        turn = "to let them" if self.goal.gives else "to bar them from it"
        return f"{ways} {turn}{', the best first' if len(self.found.ways) > 1 else ''}:"

    def _way(self, number: int, way: Way) -> Iterator[Block]:
        yield Prose([Span(f"{number}. ", "strong"), f"{' and '.join(way.means)}: {self._does(way)}"], 1, hanging="   ")
        costs, style = self._costs(way)
        yield Prose([Span(costs, style), self._beyond(way)], 2, hanging="  ")
        if way.plan is not None and way.plan.guards:
            names = joined(dict.fromkeys(guard.code for guard in way.plan.guards))
            yield Prose(f"refused without --accept: {names}", 2, hanging="  ")
        for command in self._commands(way):
            yield Verbatim(command, 3)

    def _does(self, way: Way) -> str:
        """What a way does, in words."""
        if way.membership is not None:
            name, group = visible(way.membership[0]), visible(self._group(way.membership[1]))
            joining = f"making {name} a member of {group}" if self.goal.gives else f"taking {name} out of {group}"
            return f"{joining}, from the next login on; whoever keeps the accounts does that"
        return f"{joined(self._in_words(name, way) for name in way.means)}, at {self._places(way)}"

    @staticmethod
    def _places(way: Way) -> str:
        return joined(unbroken(visible(path)) for path in dict.fromkeys(path for path, _ in way.steps))

    def _in_words(self, means: str, way: Way) -> str:
        """One means, with whom it is about."""
        wishes = [wish for _, wish in way.steps]
        if means == "entry":
            return f"an access entry for {self.who} alone"
        if means == "named-group":
            named = (one.entry for wish in wishes for one in wish.access.entries if one.entry.tag is Tag.NAMED_GROUP)
            theirs = dict.fromkeys(naming.group(one.id, self.accounts) for one in named if one.id in self.goal.who.gids)
            return f"an entry for group {joined(theirs)}"
        if means == "owning-group":
            given = dict.fromkeys(naming.group(wish.gid, self.accounts) for wish in wishes if wish.gid is not None)
            return f"the group becomes {joined(given)}"
        if means == "owner":
            given = dict.fromkeys(naming.user(wish.uid, self.accounts) for wish in wishes if wish.uid is not None)
            return f"the owner becomes {joined(given)}"
        return _LETTERS[means]

    def _costs(self, way: Way) -> tuple[str, str]:
        """Who else gains and loses, and how much: users by rights and paths."""
        parts = []
        for count, people, verb in zip(way.others, way.whom, ("gain", "lose"), strict=True):
            if count:
                whom = several_words(people, self.accounts, 4, "others")
                parts.append(f"{whom} {verb if len(people) > 1 else f'{verb}s'} {counted(count, 'right')}")
        if way.cost.anyone_else:
            parts.append(f"anyone else gains {counted(way.cost.anyone_else, 'right')}")
        if not parts and way.cost.groups:
            return (
                "costs nobody of today anything; whoever joins the groups that it is about has more or less then",
                "yes",
            )
        if not parts:
            known = ", as far as was read for these ways" if way.at_least else ""
            return f"costs nobody anything{known}", "yes"
        return f"{'at least ' if way.at_least else ''}{joined(parts)}", "no"

    def _beyond(self, way: Way) -> str:
        """All that who it is about gains, or loses, where that is more than what is meant."""
        if not way.cost.own:
            return ""
        mine = [
            shift.right.name + (f" on {shift.paths:,} paths" if shift.paths > 1 else "")
            for shift in (way.gains if self.goal.gives else way.losses)
            if shift.principal.identity == self.goal.who.identity and shift.right in COUNTED
        ]
        return f"; {self.who} {'gains' if self.goal.gives else 'loses'} {joined(mine)} in all" if mine else ""


_LETTERS = {
    "owner-bits": "the owner's letters",
    "group-bits": "what the owning group may do",
    "other-bits": "what everyone may do whom no entry and no group matches",
}

"""Ways: what each does, what it costs, and the command lines."""

from collections.abc import Iterator, Sequence

from fiat.app.let import WaysToGoals
from fiat.core.change.plan import Plan
from fiat.core.model.accesslist import Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.principals import Principal
from fiat.core.model.record import PostureRecord
from fiat.core.model.right import COUNTED
from fiat.core.model.wish import Wish
from fiat.core.rules.checks import Verdict
from fiat.core.suggest.cost import Way
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.means import MEANS
from fiat.core.text import Fields, counted, joined, several, shell_word, visible
from fiat.core.words import naming
from fiat.core.words.commands import set_command
from fiat.core.words.naming import several_words
from fiat.render import words
from fiat.render.changes import effects_blocks, effects_fields
from fiat.render.findings import finding_fields, guard_fields
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Verbatim, unbroken
from fiat.render.plan import PlanView
from fiat.render.why import who_fields

_FEW_PATHS = 3
"""So many paths are named where there are more; the commands have them all."""

_MOST = 5
"""Ways that are shown where not all are asked for."""


def first_lines(steps: Sequence[tuple[str, Wish]], accounts: Accounts, about: list[tuple[str, str]]) -> list[str]:
    """The entry way as command lines, while it is being counted what this and the others cost."""
    options = "".join(f" {option} {shell_word(value)}" for option, value in about)
    commands = [f"  {set_command(path, wish, accounts)}{options}" for path, wish in steps]
    return ["by an entry it is this; what it costs, and other ways, are being counted:", *commands]


class WaysView(PlainResult):
    """The ways to what is meant, the best first.

    ``command`` is the command line that asked; ``about`` are options that command lines need for the same host.
    """

    def __init__(
        self,
        found: WaysToGoals,
        command: str,
        about: list[tuple[str, str]],
        *,
        every: bool = False,
        paths: bool = False,
    ) -> None:
        self.meant = found
        self.found = found.found
        self.goals = found.found.goals
        self.goal = found.found.goal
        self.accounts = found.host.accounts
        self.people = list(dict.fromkeys(goal.who for goal in self.goals))
        self.who = joined(_named(who) for who in self.people)
        self.every = every
        self.paths = paths
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)
        self.held = any(option == "--from" for option, _ in about)
        self.command = f"{command}{self.about}"

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """The goal, whether it is so already or can be, and each way with what it costs."""
        found, goals = self.found, self.goals
        one = {
            "who": _the_one([who_fields(goal.who) for goal in goals]),
            "right": _the_one([goal.right.name for goal in goals]),
            "path": _the_one([goal.path for goal in goals]),
        }
        yield one | {
            "gives": self.goal.gives,
            "below": self.goal.below,
            "goals": [
                {
                    "who": naming.word_for(goal.who),
                    "right": goal.right.name,
                    "path": goal.path,
                    "already": goal not in found.left,
                }
                for goal in goals
            ],
            "already": found.already,
            "possible": found.already or bool(found.ways),
            "why_not": found.why_not or None,
            "ways": [self._way_fields(rank, way) for rank, way in enumerate(found.ways, 1)],
            "notes": [finding_fields(note) for note in self.meant.notes],
        }

    def _way_fields(self, rank: int, way: Way) -> Fields:
        cost = way.cost
        membership = (
            None if way.membership is None else {"user": way.membership[0], "group": self._group(way.membership[1])}
        )
        return {
            "rank": rank,
            "means": list(way.means),
            "commands": self._commands(way) or ([] if way.plan is None else [f"{self.command} --do {rank}"]),
            "steps": [] if way.plan is None else list(self._step_fields(way.plan)),
            "membership": membership,
            **effects_fields(way.effects),
            "collateral": {
                "others": {"gains": way.others[0], "losses": way.others[1]},
                "made_later": {
                    "gain": [naming.word_for(who) for who in way.later.gaining],
                    "lose": [naming.word_for(who) for who in way.later.losing],
                },
                "anyone_else": cost.anyone_else,
                "own": cost.own,
                "root": way.root,
                "objects": cost.objects,
                "entries": cost.entries,
                "at_least": way.at_least,
            },
            "not_covered": [finding_fields(one) | {"paths": one.paths} for one in way.short],
            "guards": [] if way.plan is None else [guard_fields(guard) for guard in way.plan.guards],
            "caveats": [] if way.plan is None else [finding_fields(one) for one in way.plan.caveats],
        }

    def _step_fields(self, plan: Plan) -> Iterator[Fields]:
        """Each distinct change, with one path and how many it is for."""
        record, examples = PostureRecord(self.accounts), plan.examples()
        for number, (planned, count) in enumerate(zip(plan.changes, plan.counts(), strict=True)):
            change = planned.change
            if count and change.changes:
                yield {
                    "path": examples[number],
                    "paths": count,
                    "before": record.write(change.before),
                    "after": record.write(change.after),
                }

    def _commands(self, way: Way) -> list[str]:
        """The command lines that do the same; of a whole tree there are none but the one that asks."""
        if way.tree:
            return []
        return [f"{set_command(path, wish, self.accounts)}{self.about}" for path, wish in way.steps]

    def _group(self, gid: int) -> str:
        group = self.accounts.group_numbered(gid)
        return str(gid) if group is None else group.name

    def envelope(self) -> Fields:
        """That nothing was carried out."""
        return {"applied": None, "history": None}

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """Whether it is so, and the ways, each with what it costs others."""
        found = self.found
        may = self._how_it_is()
        if found.already:
            yield Prose([Span("Already so.", "yes"), f" {may}."], hanging="  ")
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
            if self.held:  # a host in a file cannot be changed
                yield Verbatim(f"In full: {self.command} --preview")
            else:
                yield Verbatim(f"Carried out by: {self.command} --do {first}")

    def _how_it_is(self) -> str:
        """What is so now of what is meant."""
        goals = self.found.left or self.goals
        if self.goal.below:
            tops = list(dict.fromkeys(goal.path for goal in goals))
            where = several([unbroken(visible(path)) for path in tops], "trees", 3)
            names = dict.fromkeys(goal.right.name for goal in goals)
            rights_ = joined(names) if self.found.already is self.goal.gives else " or ".join(names)
            who = joined(dict.fromkeys(_named(goal.who) for goal in goals))
            if self.found.already:
                return f"{who} may {'' if self.goal.gives else 'not '}{rights_} everything in {where}"
            if not self.found.missing:
                no = "" if self.goal.gives else "not "
                return f"{who} may {no}{rights_} everything in {where}, but what is made there later does not follow"
            paths = counted(self.found.missing, "path")
            return f"{who} may {'not ' if self.goal.gives else ''}{rights_} {paths} in {where}"
        if len(self.goals) == 1:
            return self._said(self.goal, self.found.verdicts[0])
        many = [
            self._said(goal, verdict)
            for goal, verdict in zip(self.goals, self.found.verdicts, strict=True)
            if goal in goals
        ]
        by_who, by_right, by_path = (
            list(dict.fromkeys(column))
            for column in zip(
                *((_named(goal.who), goal.right.name, unbroken(visible(goal.path))) for goal in goals), strict=True
            )
        )
        if len(by_who) * len(by_right) * len(by_path) == len(goals):
            no = "" if self.goal.gives is self.found.already else "not "
            return f"{joined(by_who)} may {no}{joined(by_right) if not no else ' or '.join(by_right)} {joined(by_path)}"
        return several(many, "wishes are not met", 3) if len(many) > 1 else many[0]

    def _said(self, goal: Goal, verdict: Verdict) -> str:
        end = verdict.deciding.object
        phrase = words.right_phrase(goal.right, None if end is None or end.path != goal.path else end.posture.kind)
        path = unbroken(visible(goal.path))
        said = f"{_named(goal.who)} may {'' if verdict.allowed else 'not '}{phrase} {path}"
        if not self.found.members:
            return said
        members = [naming.principal(who) for who in self.found.members]
        return f"{said}, but {several(members, 'members', 3)} may{'' if not verdict.allowed else ' not'}"

    def _title(self) -> str:
        ways = counted(len(self.found.ways), "way")
        turn = "to let them" if self.goal.gives else "to bar them from it"
        return f"{ways} {turn}{', the best first' if len(self.found.ways) > 1 else ''}:"

    def _way(self, number: int, way: Way) -> Iterator[Block]:
        yield Prose([Span(f"{number}. ", "strong"), f"{' and '.join(way.means)}: {self._does(way)}"], 1, hanging="   ")
        costs, style = self._costs(way)
        yield Prose([Span(costs, style), self._beyond(way)], 2, hanging="  ")
        if self.paths:
            yield from effects_blocks(way.effects, self.accounts, paths=True, indent=2)
        if way.plan is not None and way.plan.guards:
            names = joined(dict.fromkeys(guard.code for guard in way.plan.guards))
            yield Prose(f"refused without --accept: {names}", 2, hanging="  ")
        for short in way.short:
            yield Prose([Span("! ", "no"), f" {short.text}"], 2, hanging="   ")
        for command in self._commands(way):
            yield Verbatim(command, 3)
        if way.tree and way.plan is not None:
            by = "".join(f" --by {one}" for one in way.means) if self.held else f" --do {number}"
            yield Verbatim(f"{self.command}{by}{' --preview' if self.held else ''}", 3)

    def _does(self, way: Way) -> str:
        """What a way does, in words."""
        if way.membership is not None:
            name, group = visible(way.membership[0]), visible(self._group(way.membership[1]))
            joining = f"making {name} a member of {group}" if self.goal.gives else f"taking {name} out of {group}"
            return f"{joining}, from the next login on; whoever keeps the accounts does that"
        does = f"{joined(self._in_words(name, way) for name in way.means)}, at {self._places(way)}"
        members = [naming.user(uid, self.accounts) for uid in way.members]
        if members:
            whom, verb = several(members, "members", 3), "is" if len(members) == 1 else "are"
            does += f"; {whom}, for whom another class decides, {verb} changed too"
        return f"{does}; and default lists, so that what is made there later follows" if way.for_new else does

    def _places(self, way: Way) -> str:
        """Where it is done: path by path, or how many there are in trees."""
        paths = list(dict.fromkeys(path for path, _ in way.steps))
        named = [unbroken(visible(path)) for path in paths]
        if not way.tree or way.plan is None:
            return joined(named) if len(named) <= _FEW_PATHS else several(named, "paths", _FEW_PATHS)
        counts = {True: 0, False: 0}
        for planned, count in zip(way.plan.changes, way.plan.counts(), strict=True):
            counts[planned.change.after.directory] += count if planned.change.changes else 0
        counts[True] -= len(paths)
        whole = [
            *([counted(counts[True], "directory", "directories")] if counts[True] else []),
            *([counted(counts[False], "file")] if counts[False] else []),
        ]
        tops = dict.fromkeys(goal.path for goal in self.found.left)
        if not whole:
            return joined(named) if len(named) <= _FEW_PATHS else several(named, "paths", _FEW_PATHS)
        below = f"{joined(whole)} in {several([unbroken(visible(top)) for top in tops], 'trees', 3)}"
        return f"{below}{'; and at ' if named else ''}{joined(named)}"

    def _in_words(self, means: str, way: Way) -> str:
        """One means, with whom it is about."""
        wishes = way.wishes
        if means == "entry":
            if way.members and all(who.kind == "group" for who in self.people) and not self._names_group(way):
                return f"{'an entry' if len(way.members) == 1 else 'entries'} of their own for members"
            if len(self.people) == 1:
                return f"an access entry for {naming.alone(self.people[0], self.accounts)}"
            return "access entries for them alone"
        if means == "named-group":
            named = (one.entry for wish in wishes for one in wish.access.entries if one.entry.tag is Tag.NAMED_GROUP)
            theirs = dict.fromkeys(naming.group(one.id or 0, self.accounts) for one in named if one.id in self._gids())
            if theirs:
                return f"an entry for group {joined(theirs)}"
            gone = (entry for wish in wishes for entry in wish.access.remove if entry.tag is Tag.NAMED_GROUP)
            theirs = dict.fromkeys(naming.group(one.id or 0, self.accounts) for one in gone if one.id in self._gids())
            return f"without the entry for group {joined(theirs)}" if theirs else "entries for groups"
        if means == "owning-group":
            given = dict.fromkeys(naming.group(wish.gid, self.accounts) for wish in wishes if wish.gid is not None)
            return f"the group becomes {joined(given)}" if given else "another owning group"
        if means == "owner":
            given = dict.fromkeys(naming.user(wish.uid, self.accounts) for wish in wishes if wish.uid is not None)
            return f"the owner becomes {joined(given)}" if given else f"the owner becomes {self.who}"
        kind = MEANS[means]
        return kind.about if self.goal.gives else kind.about_taking or kind.about

    def _names_group(self, way: Way) -> bool:
        """Whether the group itself gets an entry."""
        groups = {Tag.NAMED_GROUP, Tag.OWNING_GROUP}
        return any(one.entry.tag in groups for wish in way.wishes for one in wish.access.entries)

    def _gids(self) -> set[int]:
        return {gid for who in self.people for gid in who.gids}

    def _costs(self, way: Way) -> tuple[str, str]:
        """Who else gains and loses, and how much: users by rights and paths."""
        parts = []
        for count, people, verb in zip(way.others, way.whom, ("gain", "lose"), strict=True):
            if count:
                whom = several_words(people, self.accounts, 4, "others")
                parts.append(f"{whom} {verb if len(people) > 1 else f'{verb}s'} {counted(count, 'right')}")
        for people_later, verb in ((way.later.gaining, "gain"), (way.later.losing, "lose")):
            if people_later:
                words = [naming.word_for(who) for who in people_later]
                whom = several_words(words, self.accounts, 4, "others")
                parts.append(f"{whom} {verb if len(words) > 1 else f'{verb}s'} on what is made there later")
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
        about = {who.identity for who in self.people}
        mine: dict[str, int] = {}
        for shift in way.gains if self.goal.gives else way.losses:
            if shift.principal.identity in about and shift.right in COUNTED:
                mine[shift.right.name] = max(mine.get(shift.right.name, 0), shift.paths)
        rights_ = joined(name + (f" on {paths:,} paths" if paths > 1 else "") for name, paths in mine.items())
        verb = ("gain" if self.goal.gives else "lose") + ("s" if len(self.people) == 1 else "")
        if not mine:
            return ""
        behind = way.effects.paths_gained if self.goal.gives else way.effects.paths_lost
        wanted = [(naming.word_for(who), name) for who in self.people for name in mine]
        beside = behind.outside(wanted, [goal.path for goal in self.goals]) if self.goal.below else 0
        where = f", {beside:,} of these paths outside what is asked for" if beside else ""
        return f"; {self.who} {verb} {rights_} in all{where}"


class CarriedOutView(PlainResult):
    """Way ``rank`` as the plan that it is, shown or carried out; as machine output all the ways, with what was done."""

    def __init__(self, ways: WaysView, rank: int, plan: PlanView) -> None:
        self.ways = ways
        self.rank = rank
        self.plan = plan

    def records(self) -> Iterator[Fields]:
        """What was meant, and every way to it."""
        return self.ways.records()

    def envelope(self) -> Fields:
        """What the plan says, and which way was carried out."""
        said = self.plan.envelope()
        return said | {"applied": self.rank if said["applied"] else None}

    def blocks(self) -> Iterator[Block]:
        """The plan, as ``set`` shows it."""
        return self.plan.blocks()


def _named(who: Principal) -> str:
    return f"group {naming.group_of(who)}" if who.kind == "group" else naming.principal(who)


def _the_one(values: list[object]) -> object:
    """The value that all share; None where they differ."""
    return values[0] if all(value == values[0] for value in values) else None

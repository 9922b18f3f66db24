"""The answer of ``who`` about one path."""

import itertools
from collections.abc import Callable, Iterator, Sequence
from json import dumps

from fiat.app.who import Who
from fiat.core.model import capabilities
from fiat.core.model.accounts import Accounts
from fiat.core.model.mode import letters, octal, permission_letters
from fiat.core.model.posture import Kind, Object
from fiat.core.model.principals import Principal, set_of
from fiat.core.model.right import BASIC
from fiat.core.rules.checks import Step
from fiat.core.rules.decision import superuser
from fiat.core.text import Fields, counted, several, visible
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords, several_users
from fiat.render import words
from fiat.render.model import BLANK, Block, Part, PlainResult, Prose, Span, Spans, Table, Verbatim, unbroken

_NAMES_IN_A_ROW = 8
_CELL = {True: "yes", False: "no", None: "?"}

_EXCEPT = 4
"""So many at most are named as those whom an answer is not for; more have rows of their own to be read in."""


class WhoView(PlainResult):
    """A table of users, a table of groups, and where people stop; with ``because`` the rules that decided."""

    def __init__(self, found: Who, *, everyone: bool, because: bool) -> None:
        self.answer = found.answer
        self.shows = found.question.shows
        self.against_today = found.against_today
        self.acting = found.acting
        self.means = found.means
        self.because = because
        self.everyone = everyone
        self._known_cells: dict[int, tuple[str, ...]] = {}
        self._known_rights: dict[int, Fields] = {}
        self._known_reasons: dict[int, Fields] = {}
        self.show = 10**9 if everyone else _NAMES_IN_A_ROW
        universe = self.answer.universe
        among = set_of(place for place, one in enumerate(universe.principals) if self.shows(one))
        self.people = PeopleWords(self.answer.universe, self.answer.accounts, among)

    # --- machine output ---

    def records(self) -> Iterator[Fields]:
        """Users, groups, processes and anyone else, each with their rights."""
        answer = self.answer
        users, groups, processes, anyone_else = [], [], [], None
        for place, who in enumerate(answer.universe.principals):
            if who.kind == "anyone-else":
                anyone_else = {**self._rights(place), **self._means(place)}
            elif not self.shows(who):
                continue
            elif who.kind == "user":
                about = {"name": who.name, "uid": who.uid, **self._rights(place), **self._reasons(place)}
                about |= self._elsewhere(who)
                users.append({**about, **self._acting(place), **self._means(place)})
            elif who.kind == "process":
                about = {"pid": who.pid, "name": who.name, "uid": who.uid, "gids": sorted(who.gids)}
                processes.append({**about, **self._rights(place), **self._reasons(place)})
            else:
                groups.append(self._group_fields(place, who))
        fields = {
            "path": answer.route.asked,
            "kind": answer.end.posture.kind.value if answer.end else None,
            "users": users,
            "groups": groups,
            "processes": processes,
            "anyone_else": anyone_else,
            "short": {right.name: self.people.words(allowed) for right, allowed in answer.allowed.items()},
        }
        if self.against_today is not None:
            from fiat.render.againsttoday import against_today_fields

            fields["against_today"] = against_today_fields(self.against_today)
        yield fields

    def rows(self) -> Iterator[Fields]:
        """A flat row for each principal; ``members`` is empty for users."""
        answer = self.answer
        for place, principal in enumerate(answer.universe.principals):
            if not self.shows(principal):
                continue
            gid = next(iter(principal.gids)) if principal.kind == "group" else None
            yield {
                "path": answer.route.asked,
                "who": principal.kind,
                "name": principal.name,
                "number": principal.pid or (principal.uid if gid is None else gid),
                **self._rights(place),
                "members": None if gid is None else answer.members(gid).bit_count(),
            }

    def _rights(self, place: int) -> Fields:
        """The four rights of an object, and those asked for, of the principal at ``place``."""
        place = self.answer.alike[place]
        found = self._known_rights.get(place)
        if found is None:
            rights = dict.fromkeys((*BASIC, *self.answer.rights))
            found = {right.name: self.answer.has(place, right) for right in rights}
            if names := self._open(place):
                found["not_known"] = names
            self._known_rights[place] = found
        return found

    def _open(self, place: int) -> list[str]:
        """The rights of which it is not known whether the principal at ``place`` has them."""
        return [right.name for right in self.answer.rights if self.answer.open[right] >> place & 1]

    def _group_fields(self, place: int, who: Principal) -> Fields:
        (gid,) = who.gids
        members = self.answer.members(gid)
        return {
            "name": who.name,
            "gid": gid,
            **self._elsewhere(who),
            "members": members.bit_count(),
            "alone": self._rights(place),
            "members_who": {
                right.name: (allowed & members).bit_count() for right, allowed in self.answer.allowed.items()
            },
        }

    def _elsewhere(self, who: Principal) -> Fields:
        """What somebody of a container is there, and who has the number here."""
        if self.answer.accounts.view is None:
            return {}
        from fiat.render.view import fields_of

        return fields_of(who, self.answer.accounts)

    def _reasons(self, place: int) -> Fields:
        """The rule that decided each right, and where, if that was not the path itself."""
        place = self.answer.alike[place]
        if place not in self._known_reasons:
            self._known_reasons[place] = self._find_reasons(place)
        return self._known_reasons[place]

    def _means(self, place: int) -> Fields:
        """What they can bring about of what they have not."""
        if self.means is None:
            return {}
        from fiat.render.ownmeans import means_fields

        who = self.answer.universe.principals[place].name
        ways = self.means.ways.get(place, {})
        found = {"own_means": {right.name: means_fields(each, who) for right, each in ways.items()}}
        if self.means.chains is None:
            return found
        principals = self.answer.universe.principals
        through = {
            right.name: [
                {"file": hop.file.path, "by": hop.file.by, "account": principals[hop.place].name}
                for hop in chains[place]
            ]
            for right, chains in self.means.chains.items()
            if place in chains and not self.answer.has(place, right)
        }
        return {**found, "through_programs": through}

    def _acting(self, place: int) -> Fields:
        """As whom they may act, and each right that they have so or as themselves."""
        if self.acting is None:
            return {}
        from fiat.render.acting import acting_fields

        ways = self.acting.acting.get(place, ())
        return {
            "acting_as": [acting_fields(one, self.answer.accounts) for one in ways],
            "elevated": {right.name: self.acting.elevated(place, right) for right in self.answer.rights},
        }

    def _find_reasons(self, place: int) -> Fields:
        rules, blockers = {}, {}
        for right in self.answer.rights:
            if self.answer.open[right] >> place & 1:
                rules[right.name] = "not-known"
                continue
            deciding = self.answer.verdict(place, right).deciding
            rules[right.name] = deciding.rule
            if not deciding.allowed and (self.answer.end is None or deciding.path != self.answer.end.path):
                blockers[right.name] = deciding.path
        return {"because": rules, "blocker": blockers}

    def parts(self, *, text: bool) -> Iterator[Part]:
        """The whole answer; where more than sets of people is told, all that is told of everybody counts."""
        if not text:
            yield from super().parts(text=False)
            return
        exactly: list[object] = [
            self.people.exactly(bits) for bits in (*self.answer.allowed.values(), *self.answer.open.values())
        ]
        if self.because or self.acting or self.means or self.against_today:
            exactly += map(dumps, self.records())
        yield Part(None, tuple(self.blocks()), exactly=tuple(exactly))

    # --- text ---

    def blocks(self) -> Iterator[Block]:
        """The path, the tables, where people stop, and what is different from today."""
        answer = self.answer
        yield Verbatim(Span(visible(answer.route.asked), "strong"))
        if answer.end is None:
            yield Verbatim("there is nothing of this name", 1)
        else:
            if answer.route.links:
                yield Verbatim(f"leads to {visible(answer.end.path)}", 1)
            yield Prose(_headline(answer.end, answer.accounts), 1)
        kind = answer.end.posture.kind if answer.end else Kind.FILE
        header = [words.right_heading(right, kind) for right in answer.rights]
        if self.because:
            yield BLANK
            yield Table(["users", "right", "because"], self._because_rows(header), flexible=(0,))
        else:
            rows = self._user_rows()
            if rows:
                yield BLANK
                yield Table([*header, "users"], rows)
        rows = self._group_rows()
        if rows:
            yield BLANK
            yield Table([*header, "by this group alone (of its members)"], rows)
        yield from self._what_stops_superusers()
        yield from self._stops()
        if answer.accounts.view is not None:
            from fiat.render.view import blocks_of

            shown = (who for who in answer.universe.principals if self.shows(who))
            yield from blocks_of(shown, answer.accounts)
        if self.acting is not None:
            from fiat.render.acting import acting_blocks

            yield from acting_blocks(self.acting, answer.accounts, self.show)
        if self.means is not None:
            from fiat.render.ownmeans import means_blocks

            yield from means_blocks(self.means, answer.accounts, self.show)
        if self.against_today is not None:
            from fiat.render.againsttoday import against_today_blocks

            yield from against_today_blocks(self.against_today, self.answer.accounts)

    def _cells(self, place: int) -> tuple[str, ...]:
        place = self.answer.alike[place]
        found = self._known_cells.get(place)
        if found is None:
            found = tuple(_CELL[self.answer.has(place, right)] for right in self.answer.rights)
            self._known_cells[place] = found
        return found

    def _reason(self, step: Step) -> str:
        """The rule and its entry, or what else decided; where, if that was on the way."""
        answer = self.answer
        if step.reason is None:
            from fiat.core.ask import why

            text = why.RULE_WORDS.get(step.rule, step.rule)
        else:
            text = naming.entry(step.reason.share.entry, answer.accounts)
            if step.reason.share.permissions != step.reason.share.entry.permissions:
                text += f" masked {permission_letters(step.reason.share.permissions)}"
            if step.reason.capability:
                (power,) = capabilities.names(step.reason.capability)
                text = f"CAP_{power.upper()}"
            text = f"{step.rule.replace('-', ' ')}, {text}"
        away = not step.allowed and answer.end is not None and step.path != answer.end.path
        return f"{text} at {visible(step.path)}" if away else text

    def _kinds(self) -> Iterator[tuple[int, str]]:
        """Place and kind of row of everyone but groups: superusers first, then users, then those apart."""
        found: dict[str, list[tuple[int, str]]] = {"superuser": [], "users": [], "apart": []}
        for place, who in enumerate(self.answer.universe.principals):
            if who.kind == "group" or not self.shows(who):
                continue
            if who.kind == "user":
                row = "superuser" if superuser(who) else "users"
                found[row].append((place, row))
            else:
                found["apart"].append((place, f"apart {place}"))
        return itertools.chain(*found.values())

    def _alike(self, says: Callable[[int], tuple[str, ...]]) -> list[tuple[tuple[str, ...], str]]:
        """Everyone of whom ``says`` is the same, in one line: what it says, and who they are; most rights first.

        Those of whom it says the same as of anyone else are everyone but the others.
        """
        alike = self.answer.alike
        said: dict[int, tuple[str, ...]] = {}
        found: dict[tuple[str, tuple[str, ...]], list[int]] = {}
        for place, row in self._kinds():
            one = alike[place]
            if one not in said:
                said[one] = says(one)
            found.setdefault((row, said[one]), []).append(place)
        same = {key: set_of(places) for key, places in found.items()}
        crowd = 0 if self.everyone else self._crowd(same)
        lines = []
        for (row, cells), bits in same.items():
            if not bits & crowd:
                lines.append((row, cells, self._named(row, bits)))
            elif bits & self.people.anyone_else:
                lines.append(("apart", cells, self._crowd_named(crowd)))
        order = ["superuser", "users"]
        lines.sort(key=lambda line: (order.index(line[0]) if line[0] in order else 2, -_yeses(line[1])))
        return [(cells, named) for _, cells, named in lines]

    def _crowd(self, same: dict[tuple[str, tuple[str, ...]], int]) -> int:
        """The set of those of whom the same is said as of anyone else, where these are several."""
        said = next((cells for (_, cells), bits in same.items() if bits & self.people.anyone_else), None)
        crowd = 0
        for (row, cells), bits in same.items():
            if cells == said and (row in ("superuser", "users") or bits & self.people.anyone_else):
                crowd |= bits
        return crowd if crowd != self.people.anyone_else else 0

    def _crowd_named(self, crowd: int) -> str:
        """What a crowd is called: everyone but those who are left."""
        left = self.people.users & self.answer.universe.of_kind("user") & ~crowd
        if left.bit_count() > _EXCEPT:
            here = self._named("", crowd & self.people.users)
            return f"everyone else: {here}; anyone without an account"
        return f"everyone except {self._named('', left)}" if left else "everyone"

    def _named(self, row: str, bits: int) -> str:
        """The people of a row."""
        universe = self.answer.universe
        named = several_users(
            universe.members(bits), self.answer.accounts, self.show, "users" if row == "users" else ""
        )
        return f"superuser {named}" if row == "superuser" else named

    def _user_rows(self) -> list[list[Spans]]:
        """One row for each distinct answer; superusers, processes and anyone else apart."""
        return [[*_painted(cells), named] for cells, named in self._alike(self._cells)]

    def _because_rows(self, header: Sequence[str]) -> list[list[Spans]]:
        """For each distinct answer its people, and a row for the rights that have one reason."""
        answer = self.answer

        def says(place: int) -> tuple[str, ...]:
            return tuple(
                f"{_CELL[has]:<3} {self._reason(answer.verdict(place, right).deciding)}"
                if (has := answer.has(place, right)) is not None
                else f"{_CELL[has]:<3} by a group that is not known"
                for right in answer.rights
            )

        rows: list[list[Spans]] = []
        for cells, named in self._alike(says):
            reasons: dict[str, list[str]] = {}
            for heading, cell in zip(header, cells, strict=True):
                reasons.setdefault(cell, []).append(heading)
            for number, (reason, headings) in enumerate(reasons.items()):
                rows.append(["" if number else named, "; ".join(headings), *_painted([reason])])
        return rows

    def _group_rows(self) -> list[list[Spans]]:
        """Each group that matters in a row of its own, the others in one."""
        rows: list[list[Spans]] = []
        same: dict[tuple[str, ...], list[str]] = {}
        principals = self.answer.universe.principals
        anyone = next(self._cells(place) for place, who in enumerate(principals) if who.kind == "anyone-else")
        owner = self.answer.end.posture.gid if self.answer.end else None
        for place, who in enumerate(principals):
            if who.kind != "group" or not self.shows(who):
                continue
            (gid,) = who.gids
            cells = self._cells(place)
            if gid == owner or cells != anyone:
                rows.append([*self._member_cells(gid, cells), self._group_name(who, gid)])
            else:
                same.setdefault(cells, []).append(_group(who))
        for cells, names in same.items():
            every = "every other group" if rows else "every group"
            named = f"{every} ({len(names):,})" if len(names) > self.show else several(names, "groups", self.show)
            rows.append([*_painted(cells), named])
        return rows

    def _member_cells(self, gid: int, cells: tuple[str, ...]) -> list[Spans]:
        """What the group alone gives, and how many of its members have the right by whatever rule."""
        members = self.answer.members(gid)
        if not members:
            return _painted(cells)
        return _painted(
            [
                f"{cell:<3} {(allowed & members).bit_count()} of {members.bit_count()}"
                for cell, allowed in zip(cells, self.answer.allowed.values(), strict=True)
            ]
        )

    def _group_name(self, who: Principal, gid: int) -> str:
        if self.answer.members(gid):
            return _group(who)
        nobody = self.answer.accounts.has_no_members(gid)
        return f"{_group(who)}, which nobody is in" if nobody else f"{_group(who)}, of which no member is known"

    def _what_stops_superusers(self) -> Iterator[Block]:
        """What says no even to superusers: flags and mounts.

        That a file which nobody may execute is not executed by root either is no news.
        """
        lines: dict[str, None] = {}
        for place, who in enumerate(self.answer.universe.principals):
            if not superuser(who) or not self.shows(who):
                continue
            for right in self.answer.rights:
                deciding = self.answer.verdict(place, right).deciding
                if not deciding.allowed and deciding.reason is None:
                    from fiat.core.ask import why

                    phrase = words.right_phrase(right, self.answer.end.posture.kind if self.answer.end else None)
                    lines[f"Not even {naming.principal(who)} may {phrase} it: {why.rule_words(deciding)}"] = None
        if lines:
            yield BLANK
        for line in lines:
            yield Prose(line, 1, hanging="  ")

    def _stops(self) -> Iterator[Block]:
        for object_, path, stopped in self.answer.stops():
            users = stopped & self.people.users & self.answer.universe.of_kind("user")
            if users:
                mode = f" ({octal(object_.posture.mode)} {letters(object_.posture.mode)})" if object_ else ""
                named = self._named("users", users)
                if stopped & self.people.anyone_else and not self.everyone:
                    named = self._crowd_named(users | self.people.anyone_else)
                yield BLANK
                yield Prose(f"Stopped on the way, at {unbroken(visible(path))}{mode}: {named}", 1, hanging="  ")


def _headline(end: Object, accounts: Accounts) -> str:
    posture = end.posture
    lists = f", access list of {counted(len(posture.acl.entries), 'entry', 'entries')}" if posture.acl else ""
    return (
        f"{octal(posture.mode)}  {letters(posture.mode)}  {words.KIND[posture.kind]} of "
        f"{naming.user_with_number(posture.uid, accounts)}, group {naming.group_with_number(posture.gid, accounts)}"
        f"{lists}"
    )


def _painted(cells: Sequence[str]) -> list[Spans]:
    """Each cell in the colour of the yes or no that it begins with."""
    painted: list[Spans] = []
    for cell in cells:
        first, space, rest = cell.partition(" ")
        painted.append([Span(first, first), space + rest])
    return painted


def _yeses(cells: tuple[str, ...]) -> int:
    return sum(cell.startswith("yes") for cell in cells)


def _group(who: Principal) -> str:
    """``watch``, or ``gid 7299``."""
    return naming.group_of(who) if who.name is not None else f"gid {naming.group_of(who)}"

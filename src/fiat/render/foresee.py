"""What a directory makes of what is made, moved and copied into it."""

from collections.abc import Iterator

from fiat.app.foresee import Foresight
from fiat.core.ask.who import Answer
from fiat.core.model.mode import octal
from fiat.core.model.posture import Kind, Posture
from fiat.core.model.record import PostureRecord
from fiat.core.suggest.arranging import Arranged
from fiat.core.text import Fields, visible
from fiat.core.words import naming
from fiat.core.words.naming import PeopleWords, several_users
from fiat.render.arrangements import arranged_words
from fiat.render.findings import finding_fields
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Spans, Table, Verbatim, spans, unbroken
from fiat.render.people import PeopleFields, ShownPeople
from fiat.render.sheet import coloured_letters, more
from fiat.render.why import who_fields


class ForeseenView(PlainResult):
    """What becomes of a file and a directory, who could reach them, and whom that surprises."""

    def __init__(self, found: Foresight) -> None:
        self.found = found
        self.forecast = found.forecast
        self.accounts = found.host.accounts

    def records(self) -> Iterator[Fields]:
        """The forecast for one maker; ``also`` are those for whom it is the same but for the owner."""
        found, record = self.forecast, PostureRecord(self.accounts)

        def posture(one: Posture | None) -> Fields | None:
            return None if one is None else record.write(one)

        yield {
            "directory": self.found.route.asked,
            "by": who_fields(found.asked.by),
            "also": [naming.word_for(who) for who in self.found.also],
            "anyone_else": self.found.anyone_else,
            "umask": octal(found.asked.umask),
            "asking": None if found.asked.asking is None else octal(found.asked.asking),
            "may_create": found.may_create,
            "file": posture(found.file),
            "folder": posture(found.folder),
            "copied": posture(found.copied),
            "moved": posture(found.moved),
            "reach": {"file": self._reach_fields(found.reach_file), "folder": self._reach_fields(found.reach_folder)},
            "surprises": [finding_fields(one) for one in self.found.surprises],
        }

    def _reach_fields(self, answer: Answer) -> Fields:
        people = self._people(answer)
        of_kind = answer.universe.of_kind
        shown = ShownPeople(of_kind("user") | of_kind("process"), of_kind("group"), of_kind("anyone-else"))
        fields = PeopleFields(answer.universe, shown, people.words)
        return {right.name: fields.fields(bits) for right, bits in answer.allowed.items()}

    def _people(self, answer: Answer) -> PeopleWords:
        return PeopleWords(answer.universe, self.accounts, answer.universe.everyone)

    def blocks(self) -> Iterator[Block]:
        """What they look like, who reaches them, and what may surprise."""
        found, asked = self.forecast, self.forecast.asked
        yield Verbatim(Span(visible(self.found.route.asked), "strong"))
        makers = several_users([asked.by, *self.found.also], self.accounts, 8)
        makers += ", and anyone else" if self.found.anyone_else else ""
        wanted = "" if asked.asking is None else f", asking for {octal(asked.asking)}"
        yield Prose(f"made by {makers}  (umask {octal(asked.umask)}{wanted})", 1, hanging="  ")
        if not found.may_create:
            text = f"{naming.principal(asked.by)} may not add names here; this is what it would be all the same"
            yield Prose([Span("No.", "no"), f" {text}."], 1, hanging="  ")
        yield BLANK
        rows = [self._row("a new file", found.file), self._row("a new directory", found.folder)]
        if found.moved is not None:
            rows.append(self._row("moved here", found.moved))
        if found.copied is not None:
            rows.append(self._row("copied here", found.copied))
        yield Table(["", "mode", "letters", "owner", "group", "lists"], rows)
        for what, posture, answer in (
            ("a file", found.file, found.reach_file),
            ("a directory", found.folder, found.reach_folder),
        ):
            yield BLANK
            yield from self._reach(what, posture, answer)
        if self.found.arranged is not None:
            yield BLANK
            yield Prose(f"arrangement {arranged_words(Arranged(self.found.arranged), self.accounts)}", 1, hanging="  ")
        elif self.found.surprises:
            yield BLANK
        for one in self.found.surprises:
            mark = {"danger": "!!", "odd": "! "}.get(one.weight, "- ")
            yield Prose([Span(mark, "no" if mark.startswith("!") else "faint"), f" {one.text}"], 1, hanging="   ")

    def _row(self, what: str, posture: Posture) -> list[Spans]:
        several = bool(self.found.also) and posture.uid == self.forecast.asked.by.uid
        theirs = several and self.found.own_group and posture.gid == self.forecast.asked.gid
        return [
            what,
            octal(posture.mode),
            list(spans(coloured_letters(posture.mode, posture.kind))),
            "its maker" if several else naming.user_with_number(posture.uid, self.accounts),
            "its maker's" if theirs else naming.group_with_number(posture.gid, self.accounts),
            self._lists(posture),
        ]

    def _lists(self, posture: Posture) -> str:
        acl = posture.acl
        if acl is None:
            return more(posture)
        return ", ".join(unbroken(naming.entry(entry, self.accounts)) for entry in acl.entries if entry.id is not None)

    def _reach(self, what: str, posture: Posture, answer: Answer) -> Iterator[Block]:
        """Who has which right on it, equal ones together."""
        people = self._people(answer)
        same: dict[str, list[str]] = {}
        for right, bits in answer.allowed.items():
            if bits is not None and not (posture.kind is Kind.FILE and right.name == "execute" and not bits):
                same.setdefault(people.words(bits), []).append(right.name)
        width = max((len(", ".join(names)) for names in same.values()), default=0)
        yield Verbatim(f"{what} that {naming.principal(self.forecast.asked.by)} makes", 1)
        for words, names in same.items():
            yield Prose(f"{', '.join(names):<{width}}  {words}", 2, hanging=" " * (width + 2))

"""Arrangements explained, and which one a directory is."""

import re
from collections.abc import Iterator

from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import Arrangement, ArrangementChoice, Pattern
from fiat.core.suggest.arranging import Arranged
from fiat.core.text import Fields, counted, joined, of_all, visible
from fiat.render.model import Block, PlainResult, Prose, Span


class ArrangementView(PlainResult):
    """What one arrangement is for, and what it makes of things."""

    def __init__(self, arrangement: Arrangement) -> None:
        self.one = arrangement

    def records(self) -> Iterator[Fields]:
        """Its name, what it takes, and what is said of it."""
        one = self.one
        yield {
            "name": one.name,
            "takes": list(one.takes),
            "about": one.about,
            "when": one.when or None,
            "prevents": one.prevents or None,
            "short": one.short or None,
            "without_lists": one.without_lists or None,
            "source": one.source,
        }

    def blocks(self) -> Iterator[Block]:
        """In words, then what becomes of directories and of files."""
        one = self.one
        yield Prose([Span(one.usage, "strong"), f"  {visible(one.about)}"], hanging="  ")
        needs = "it needs access lists"
        without = f"without access lists: {one.without_lists}" if one.without_lists else needs
        lists = bool(one.directory.entries or one.file.entries or one.directory.default or one.without_lists)
        for label, text in (("right when", one.when), ("prevents", one.prevents), ("falls short", one.short)):
            if text:
                yield Prose(f"{label}: {visible(text)}", 1, hanging="  ")
        if lists:
            yield Prose(visible(without), 1, hanging="  ")
        for label, pattern in (("directories", one.directory), ("files", one.file)):
            said = ", ".join(_said(pattern))
            for number, word in enumerate(one.words, 1):
                said = said.replace("{each}", "WHO").replace(f"{{{number}}}", word)
            if said:
                yield Prose(f"{label}: {visible(said)}", 1, hanging="  ")


def _said(pattern: Pattern) -> Iterator[str]:
    if pattern.owner is not None:
        yield f"owner {_placed(pattern.owner)}"
    if pattern.group is not None:
        yield f"group {_placed(pattern.group)}"
    if pattern.mode is not None:
        yield f"mode {pattern.mode}"
    for entry in pattern.entries:
        yield f"entry {_placed(entry)}"
    for entry in pattern.no_entries:
        yield f"no entry for {_placed(entry)}"
    if pattern.default:
        yield f"default list {' '.join(map(_placed, pattern.default))}"


def _placed(text: str) -> str:
    """The places for who it is about, in words."""
    return text.replace("{top}", "its owner")


def name_of(chosen: ArrangementChoice, accounts: Accounts) -> str:
    """``team:survey``, as it is typed; names not made harmless."""
    words = []
    for whom, kind in zip(chosen.whom, chosen.arrangement.takes + chosen.arrangement.takes[-1:] * 999, strict=False):
        group = accounts.group_numbered(whom.number) if whom.group else None
        user = None if whom.group else accounts.user_numbered(whom.number)
        name = group.name if group is not None else user.name if user is not None else str(whom.number)
        words.append(f"group:{name}" if whom.group and kind != "group" else name)
    return chosen.arrangement.name + (f":{','.join(words)}" if words else "")


def arranged_fields(found: Arranged | None, accounts: Accounts) -> Fields | None:
    """The machine output of which arrangement a directory is."""
    if found is None:
        return None
    return {
        "name": name_of(found.chosen, accounts),
        "looked_at": found.looked_at,
        "more": found.more,
        "but_for": found.but or None,
        "differing": list(found.differing),
    }


def _about(chosen: ArrangementChoice, accounts: Accounts) -> str:
    """What it is, with who it is for in place of ``OWNER`` or ``WHO``."""
    one, names = chosen.arrangement, name_of(chosen, accounts).partition(":")[2].split(",")
    about = one.about
    for number, word in enumerate(one.words):
        word = word.rstrip(",…")
        whom = joined(names[number:] if one.takes[number].endswith("...") else names[number : number + 1])
        about = re.sub(rf"\b{re.escape(word)}\b", whom.replace("\\", r"\\"), about)
    return about


def arranged_words(found: Arranged, accounts: Accounts) -> str:
    """``team:survey: the group reads and writes …; 2 of 41 names in it deviate, such as a, b``."""
    name = visible(name_of(found.chosen, accounts))
    said = f"{name}: {visible(_about(found.chosen, accounts))}"
    if found.but:
        return f"nearly {said}; but for its {found.but}"
    looked = f"the first {found.looked_at:,} names" if found.more else counted(found.looked_at, "name")
    if not found.looked_at:
        return said
    if not found.differing:
        return f"{said}; so {'is' if found.looked_at == 1 else 'are'} the {looked} in it"
    such = ", ".join(visible(path.rpartition("/")[2]) for path in found.differing[:3])
    deviate = of_all(len(found.differing), found.looked_at, "name")
    return f"{said}; but {deviate} in it deviate{'s' if len(found.differing) == 1 else ''}, such as {such}"

"""What an arrangement makes of an object, and which arrangement a directory already is."""

from collections.abc import Iterable, Iterator
from itertools import product
from typing import NamedTuple

from fiat.core.change.steps import wanted
from fiat.core.errors import FiatError
from fiat.core.model.accounts import Accounts
from fiat.core.model.arrangement import Arrangement, ArrangementChoice, ArrangementParty, Pattern
from fiat.core.model.posture import Kind, Object, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.suggest.entrywishes import wish_between
from fiat.core.words.arrangements import entries_in, number_in
from fiat.core.words.entries import parse_entries, parse_whom
from fiat.core.words.modes import parse_mode


class Arranger:
    """One arrangement at work on a directory that user ``top`` owns; ``actor`` carries it out."""

    def __init__(self, chosen: ArrangementChoice, top: int, accounts: Accounts, actor: Principal, umask: int) -> None:
        self.chosen = chosen
        self.accounts = accounts
        self.actor = actor
        self.umask = umask
        arrangement = chosen.arrangement
        self.top = top
        if arrangement.directory.owner is not None and arrangement.owned_by is None:
            self.top = self._user(arrangement.directory.owner)
        self._owned_by = None if arrangement.owned_by is None else self._user(arrangement.owned_by)

    def _user(self, word: str) -> int:
        return number_in(word, self.chosen, self.top) if "{" in word else self.accounts.user_id(word)

    def _group(self, word: str) -> int:
        return number_in(word, self.chosen, self.top) if "{" in word else self.accounts.group_id(word)

    def needs_lists(self, posture: Posture) -> bool:
        """Whether an object of this kind cannot be arranged so where no lists are kept."""
        return bool(self._pattern(posture).entries) and not self.chosen.arrangement.without_lists

    def _pattern(self, posture: Posture) -> Pattern:
        arrangement = self.chosen.arrangement
        return arrangement.directory if posture.directory else arrangement.file

    def wish(self, found: Object) -> Wish:
        """What is to become of an object; nothing where it is so, or is not meant."""
        wishes = self._wishes(found)
        after = self._after(found.posture, wishes)
        return Wish() if after == found.posture else wish_between(found.posture, after, wishes)

    def fits(self, found: Object) -> bool:
        """Whether it is so already."""
        return self._after(found.posture, self._wishes(found)) == found.posture

    def lacks_default(self, found: Object) -> bool:
        """Whether nothing but its default list keeps it from being so."""
        after = self._after(found.posture, self._wishes(found))
        return after._replace(default=found.posture.default) == found.posture

    def _after(self, posture: Posture, wishes: Iterable[Wish]) -> Posture:
        for wish in wishes:
            posture = wanted(posture, wish, self.actor, self.umask)
        return posture

    def _wishes(self, found: Object) -> list[Wish]:
        posture, pattern = found.posture, self._pattern(found.posture)
        if posture.kind is Kind.SYMLINK or (self._owned_by is not None and posture.uid != self._owned_by):
            return []
        lists = found.keeps_lists is not False
        uid = None if pattern.owner is None else self._user(pattern.owner)
        gid = None if pattern.group is None else self._group(pattern.group)
        wishes = [Wish(uid=uid, gid=gid)] if uid is not None or gid is not None else []
        if pattern.mode is not None:
            wishes.append(Wish(access=ListWish(drop=True), default=ListWish(drop=True)))
            wishes.append(Wish(mode=parse_mode(pattern.mode).change))
        if not lists:
            return wishes
        owner = posture.uid if uid is None else uid
        entries = entries_in(pattern.entries, self.chosen, self.top)
        entries = [entry for entry in entries if not entry.startswith(f"user:{owner}:")]
        if entries:
            wishes.append(Wish(access=ListWish(self._parsed(entries))))
        if pattern.no_entries:
            words = entries_in(pattern.no_entries, self.chosen, self.top)
            there = posture.acl.entries if posture.acl is not None else ()
            gone = [parse_whom(word, int, int) for word in words]
            gone = [one for one in gone if any((one.tag, one.id) == (other.tag, other.id) for other in there)]
            wishes += [Wish(access=ListWish((), tuple(gone)))] if gone else []
        if pattern.default and posture.directory:
            default = entries_in(pattern.default, self.chosen, self.top)
            wishes.append(Wish(default=ListWish(self._parsed(default))))
        return wishes

    def _parsed(self, words: list[str]) -> tuple[EntryWish, ...]:
        return parse_entries(words, self.accounts.user_id, self.accounts.group_id)


class Arranged(NamedTuple):
    """Which arrangement a directory is, or is ``but`` for one thing.

    ``differing`` are the names in it that are not so, out of ``looked_at``; ``more`` tells that there are others.
    """

    chosen: ArrangementChoice
    differing: tuple[str, ...] = ()
    looked_at: int = 0
    more: bool = False
    but: str = ""


def arrangements_of(
    found: Object, known: Iterable[Arrangement], accounts: Accounts, actor: Principal, umask: int
) -> Iterator[tuple[ArrangementChoice, str]]:
    """The arrangements that a directory is, with whom, as its owner, its group and its lists say; then those that it is
    but for one thing, which is told."""
    posture = found.posture
    nearly = []
    for arrangement in known:
        if arrangement.owned_by is not None or arrangement.only == "file" or arrangement.directory == Pattern():
            continue
        for whom in _candidates(posture, arrangement):
            chosen = ArrangementChoice(arrangement, whom)
            try:
                arranging = Arranger(chosen, posture.uid, accounts, actor, umask)
                if arranging.fits(found):
                    yield chosen, ""
                    break
                if arrangement.takes and arranging.lacks_default(found):
                    nearly.append((chosen, "default list"))
            except FiatError:
                continue  # it speaks of accounts that are not here
    yield from nearly


def _candidates(posture: Posture, arrangement: Arrangement) -> Iterator[tuple[ArrangementParty, ...]]:
    uids, gids = (set[int](), set[int]())
    for acl in (posture.acl, posture.default):
        if acl is not None:
            uids |= acl.named()[0]
            gids |= acl.named()[1]
    named = [
        *(ArrangementParty(False, uid) for uid in sorted(uids)),
        *(ArrangementParty(True, gid) for gid in sorted(gids)),
    ]
    users = [one for one in named if not one.group]
    if arrangement.directory.owner is not None:
        users.append(ArrangementParty(False, posture.uid))
    groups = [ArrangementParty(True, posture.gid), *(one for one in named if one.group)]
    if arrangement.takes == ("who...",):
        if named:
            yield tuple(named)
        return
    kinds = {"user": users, "group": groups, "who": named, "who...": named}
    yield from product(*(kinds[kind] for kind in arrangement.takes))

"""Which hosts are not as most are: what they have at which paths, and what most have there."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby

from fiat.app.betweenhosts import POSTURE, BetweenHosts, Deviation
from fiat.core.state.fleet import SamePeople
from fiat.core.text import Fields, counted, joined, several, visible
from fiat.core.words.naming import from_word
from fiat.render.model import BLANK, Block, PlainResult, Prose, Span, Verbatim, unbroken
from fiat.render.wordsofhosts import WordsOfHosts

_LISTED = 1000
"""Paths of one deviation that machine output lists."""

_NAMED = 3
"""Paths of one deviation that text names."""

_SHOWN = 40
"""Deviations of the same hosts that text shows."""


class BetweenHostsView(PlainResult):
    """The deviations, the rarest first."""

    def __init__(self, found: BetweenHosts, hosts: WordsOfHosts, same_people: SamePeople) -> None:
        self.found = found
        self.hosts = hosts
        self.same_people = same_people

    def records(self) -> Iterator[Fields]:
        """One for each deviation: the hosts, the paths, what is there, and what most have."""
        for one in self.found.deviations:
            kind = one.there.kind
            yield {
                **self.hosts.fields(one.hosts),
                "path": one.paths[0],
                "paths": len(one.paths),
                "listed": one.paths[:_LISTED],
                "kind": kind if one.there.what is not None else "missing",
                kind: one.there.what,
                "most": {kind: one.most, **self.hosts.fields(one.most_hosts)},
            }

    def rows(self) -> Iterator[Fields]:
        """One flat row for each."""
        for one in self.found.deviations:
            yield {
                "hosts": [self.hosts.names[place] for place in self.hosts.places(one.hosts)],
                "path": one.paths[0],
                "paths": len(one.paths),
                "there": _in_a_cell(one.there.kind, one.there.what),
                "most": _in_a_cell(one.there.kind, one.most),
            }

    def envelope(self) -> Fields:
        """How many paths were only found on few hosts."""
        people = self.hosts.clash_fields(self.found.people.clashes(self.same_people), self.same_people)
        return {"on_few": self.found.few, "same_people": self.same_people, "people": people}

    def blocks(self) -> Iterator[Block]:
        """Host by host, the rarest first."""
        if not self.found.deviations:
            yield Verbatim("No host deviates from the others.")
        for number, (hosts, some) in enumerate(groupby(self.found.deviations, key=lambda one: one.hosts)):
            if number:
                yield BLANK
            yield Prose([Span(f"on {self.hosts.words(hosts)}", "strong")], hanging="  ")
            deviations = list(some)
            named: list[str] = []
            for one in deviations[:_SHOWN]:
                if one.paths != named:
                    yield _names_of(one.paths)
                    named = one.paths
                yield from _both(one)
            if len(deviations) > _SHOWN:
                paths = counted(sum(len(one.paths) for one in deviations[_SHOWN:]), "path")
                yield Verbatim(f"and {len(deviations) - _SHOWN:,} more, of {paths}, which --json has", 1)
        if self.found.few:
            are = "is" if self.found.few == 1 else "are"
            yield BLANK
            yield Verbatim(f"{counted(self.found.few, 'path')} {are} on few hosts only, and not compared.")

        clashes = list(self.hosts.clash_blocks(self.found.people.clashes(self.same_people), self.same_people))
        if clashes:
            yield from (BLANK, *clashes)


def _in_a_cell(kind: str, what: Fields | None) -> str:
    if what is None or kind == POSTURE:
        return _whole(_said(what))
    return "; ".join(f"{right}: {_short(people)}" for right, people in what.items())


def _both(one: Deviation) -> Iterator[Block]:
    """What is there, and what most have."""
    count = one.most_hosts.bit_count()
    if one.there.what is None or one.there.kind == POSTURE:
        pairs = [_different(_said(one.there.what), _said(one.most))]
    else:
        pairs = _rights_pairs(one.there.what, one.most)
    for there, most in pairs:
        yield Prose(["there  ", Span(there, "changed")], 2, hanging="       ")
        yield Prose(f"most   {most} (on {count:,})", 2, hanging="       ")


def _different(there: dict[str, str], most: dict[str, str]) -> tuple[str, str]:
    """Both without what they have in common."""
    if not there or not most:
        return _whole(there), _whole(most)
    differ = [name for name in most if there[name] != most[name]]
    one, other = (", ".join(some[name] or f"no {name}" for name in differ) for some in (there, most))
    return one, other


def _whole(said: dict[str, str]) -> str:
    return ", ".join(filter(None, said.values())) or "not there"


def _said(posture: Fields | None) -> dict[str, str]:
    """What is at a path, in words by what they are about; nothing where nothing is there."""
    if posture is None:
        return {}
    owner, group = (visible(posture[name]["name"] or str(posture[name][number])) for name, number in _NUMBERS)
    lists = {name: " ".join(entries) for name, entries in posture["entries"].items()}
    capabilities = posture["capabilities"]
    return {
        "kind": posture["kind"],
        "mode": f"{posture['mode']} {posture['letters']}",
        "owner": f"owner {owner}",
        "group": f"group {group}",
        "list": f"list {lists['acl']}" if "acl" in lists else "",
        "default list": f"default list {lists['default']}" if "default" in lists else "",
        "flags": f"flags {' '.join(posture['flags'])}" if posture["flags"] else "",
        "capabilities": f"capabilities {' '.join(capabilities['permitted'])}" if capabilities is not None else "",
    }


_NUMBERS = (("owner", "uid"), ("group", "gid"))


def _rights_pairs(there: Fields, most: Fields) -> list[tuple[str, str]]:
    """For the rights that differ alike, who has them there beside those of most, or without them; and who most are."""
    alike: dict[tuple[str, str], list[str]] = {}
    for right in dict.fromkeys((*there, *most)):
        one, other = there.get(right), most.get(right)
        if one != other:
            alike.setdefault((_beside(one, other), _short(other)), []).append(right)
    return [(f"{joined(rights)}: {one}", f"{joined(rights)}: {other}") for (one, other), rights in alike.items()]


def _short(people: Fields | None) -> str:
    return "it does not apply" if people is None else str(people["short"])


def _beside(people: Fields | None, most: Fields | None) -> str:
    """Who has a right there and not with most, and the other way round; or simply who, where that is another kind."""
    if people is None or most is None or people["all_but"] != most["all_but"]:
        return _short(people)
    own, others = ({*one["people"]} for one in (people, most))
    more, fewer = (own - others, others - own) if not people["all_but"] else (others - own, own - others)
    parts = [f"also {_named(more)}" if more else "", f"not {_named(fewer)}" if fewer else ""]
    return "; ".join(filter(None, parts))


def _named(words: Iterable[str]) -> str:
    return several(map(from_word, sorted(words)), show=8)


def _names_of(paths: Sequence[str]) -> Block:
    names = ", ".join(unbroken(visible(path)) for path in paths[:_NAMED])
    more = f" and {len(paths) - _NAMED:,} more" if len(paths) > _NAMED else ""
    return Prose(f"{names}{more}", 1, hanging="  ")

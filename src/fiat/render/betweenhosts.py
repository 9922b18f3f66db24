"""Which hosts are not as most are: what they have at which paths, and what most have there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from fiat.app.betweenhosts import POSTURE, BetweenHosts, Deviation
from fiat.core.state.fleet import SamePeople
from fiat.core.text import Fields, counted, joined, visible
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
                "there": " ".join(_said(one.there.kind, one.there.what)),
                "most": " ".join(_said(one.there.kind, one.most)),
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


def _names_of(paths: Sequence[str]) -> Block:
    names = ", ".join(unbroken(visible(path)) for path in paths[:_NAMED])
    more = f" and {len(paths) - _NAMED:,} more" if len(paths) > _NAMED else ""
    return Prose(f"{names}{more}", 1, hanging="  ")


def _both(one: Deviation) -> Iterator[Block]:
    """What is there, and what most have."""
    there, most = _different(_said(one.there.kind, one.there.what), _said(one.there.kind, one.most))
    lead = "" if one.there.kind == POSTURE else "may "
    yield Prose(["there  ", Span(f"{lead}{there}", "changed")], 2, hanging="       ")
    yield Prose(f"most   {lead}{most} (on {one.most_hosts.bit_count():,})", 2, hanging="       ")


def _different(there: Sequence[str], most: Sequence[str]) -> tuple[str, str]:
    """Both without what they have in common, where each has something of its own."""
    common = set(there) & set(most)
    told = ["; ".join(word for word in words if word not in common) for words in (there, most)]
    return told[0] or "nothing of that", told[1] or "nothing of that"


def _said(kind: str, what: Fields | None) -> list[str]:
    """What is at a path, in a few words each."""
    if what is None:
        return ["not there"]
    if kind != POSTURE:
        alike: dict[str, list[str]] = {}
        for right, people in what.items():
            alike.setdefault(people, []).append(right)
        return [f"{joined(rights)}: {people}" for people, rights in alike.items()]
    found = [what["kind"], f"{what['mode']} {what['letters']}"]
    for name in ("owner", "group"):
        number = what[name]["uid" if name == "owner" else "gid"]
        found.append(f"{name} {visible(what[name]['name'] or str(number))}")
    for name, called in (("acl", "list"), ("default", "default list")):
        if what[name] is not None:
            found.append(f"{called} {' '.join(what[name])}")
    if what["flags"]:
        found.append(f"flags {' '.join(what['flags'])}")
    if what["capabilities"] is not None:
        found.append(f"capabilities {' '.join(what['capabilities']['permitted'])}")
    return found

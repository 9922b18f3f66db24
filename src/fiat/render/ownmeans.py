"""What people can bring about by their own means, in words, commands and fields."""

from collections.abc import Iterator, Sequence

from fiat.app.ownmeans import Chain, OwnMeansAnswer
from fiat.core.ask.ownmeans import OwnMeans, OwnStep
from fiat.core.ask.throughprograms import Hop
from fiat.core.model.accounts import Accounts
from fiat.core.model.posture import Kind
from fiat.core.model.principals import Principal
from fiat.core.model.right import Right
from fiat.core.text import Fields, counted, joined, shell_word, visible
from fiat.core.words import naming
from fiat.core.words.naming import several_users
from fiat.render import words
from fiat.render.model import BLANK, Block, Prose, Spans, Table, Verbatim, unbroken

_OF = {"object": "this very {}", "name": "what is found under this name"}


def command(step: OwnStep) -> str:
    """A step as a command line."""
    path = shell_word(step.path)
    if step.call == "chmod":
        return f"chmod {step.whom}+{step.letters} -- {path}"
    if step.call == "rename":
        return f"mv -T -- {path} {shell_word(step.target)}"
    return f"{'mkdir' if step.call == 'mkdir' else 'touch'} -- {path}"


def means_fields(ways: Sequence[OwnMeans], who: str | None) -> list[Fields]:
    """The ways in machine output; ``who`` is whom the steps are taken as."""
    return [
        {
            "of": way.of,
            "steps": [
                {"call": step.call, "path": step.path, "command": command(step), "as": who} for step in way.steps
            ],
        }
        for way in ways
    ]


def _of(way: OwnMeans, kind: Kind | None) -> str:
    return _OF[way.of].format("name" if kind is None else words.KIND[kind])


def way_blocks(
    ways: Sequence[OwnMeans], name: str, phrase: str, kind: Kind | None, *, unsure: bool = False
) -> Iterator[Block]:
    """The ways of one person, each step as a command; of who is ``unsure`` not every group is known."""
    yield BLANK
    if not ways and unsure:
        text = f"Whether {name} can bring about by their own means that they may {phrase} it is not known"
        yield Prose(f"{text}: with the groups that are known they cannot.", hanging="  ")
        return
    if not ways:
        yield Prose(f"By their own means {name} cannot bring about that they may {phrase} it.", hanging="  ")
        return
    for way in ways:
        text = f"By their own means {name} can bring about that they may {phrase} {_of(way, kind)}"
        yield Prose(f"{text}, in {counted(len(way.steps), 'step')}:", hanging="  ")
        for step in way.steps:
            yield Verbatim(command(step), 2)


def chain_fields(chain: Chain) -> list[Fields]:
    """A chain of programs in machine output: for each hop the steps, what is run then, and as whom."""
    return [
        {
            "steps": [{"call": one.call, "path": one.path, "command": command(one), "as": as_whom} for one in steps],
            "file": hop.file.path,
            "by": hop.file.by,
            "account": after,
        }
        for hop, as_whom, steps, after in chain.hops
    ]


def chain_blocks(chain: Chain, name: str, phrase: str) -> Iterator[Block]:
    """A chain of programs: whom they become by what, and the steps."""
    yield BLANK
    way = " → ".join(f"{visible(hop.file.by)} of {visible(after or '')}" for hop, _, _, after in chain.hops)
    yield Prose(f"Through programs {name} can bring about that they may {phrase} it: {name} → {way}", hanging="  ")
    for hop, as_whom, steps, after in chain.hops:
        for step in steps:
            yield Verbatim(f"as {visible(as_whom or name)}: {command(step)}", 2)
        path = unbroken(visible(hop.file.path))
        yield Prose(
            f"as {visible(as_whom or name)}: what {visible(after or '')} shall do, put into {path}", 2, hanging="  "
        )
    last = visible(chain.hops[-1][3] or "")
    for step in chain.steps:
        yield Verbatim(f"as {last}: {command(step)}", 2)


def _in_short(way: OwnMeans) -> str:
    """What the steps come to, in words."""
    made = {step.path for step in way.steps if step.call in ("mkdir", "create")}
    parts = []
    opened = [unbroken(visible(step.path)) for step in way.steps if step.call == "chmod" and step.path not in made]
    if opened:
        parts.append(f"opening {joined(opened)}, which {'is' if len(opened) == 1 else 'are'} theirs")
    renamed = [step.path for step in way.steps if step.call == "rename"]
    if renamed:
        parts.append(f"putting another in the place of {unbroken(visible(renamed[0]))}")
    elif made:
        parts.append("making it")
    return ", and ".join(parts)


def means_blocks(found: OwnMeansAnswer, accounts: Accounts, show: int) -> Iterator[Block]:
    """Who can bring about what, equal ways in one row: of the object itself where that can be, else of the name."""
    answer = found.answer
    kind = answer.end.posture.kind if answer.end else None
    alike: dict[tuple[str, str], dict[int, list[Right]]] = {}
    for place, by_right in found.ways.items():
        for right, ways in by_right.items():
            way = next((one for one in ways if one.of == "object"), ways[0])
            alike.setdefault((_of(way, kind), _in_short(way)), {}).setdefault(place, []).append(right)
    yield BLANK
    if not alike:
        yield Prose("By their own means nobody can bring about more.", hanging="  ")
        yield from _through(found, accounts, show)
        return
    yield Verbatim("By their own means, with calls that they may make:")
    rows: list[Sequence[Spans]] = []
    for (of, how), people in alike.items():
        together: dict[tuple[Right, ...], list[Principal]] = {}
        for place, rights in people.items():
            together.setdefault(tuple(rights), []).append(answer.universe.principals[place])
        for rights_of, some in together.items():
            names = several_users((one for one in some if one.kind == "user"), accounts, show, "users")
            anyone = ["anyone else"] if any(one.kind == "anyone-else" for one in some) else []
            who = joined([*([names] if names else []), *anyone])
            headings = joined(words.right_heading(right, kind or Kind.FILE) for right in rights_of)
            rows.append([who, headings, of, how])
    yield Table(["who", "can have", "of", "by"], rows, flexible=(3, 2, 0))
    yield Prose("fiat why WHO RIGHT PATH --by-own-means has each call.", 1, hanging="  ")
    yield from _through(found, accounts, show)


def _through(found: OwnMeansAnswer, accounts: Accounts, show: int) -> Iterator[Block]:
    """Whom programs lead there."""
    if found.chains is None:
        return
    answer = found.answer
    kind = answer.end.posture.kind if answer.end else Kind.FILE
    principals = answer.universe.principals
    alike: dict[tuple[str, tuple[Right, ...]], list[Principal]] = {}
    by_place: dict[int, dict[tuple[Hop, ...], list[Right]]] = {}
    for right, chains in found.chains.items():
        for place, hops in chains.items():
            if not answer.has(place, right):
                by_place.setdefault(place, {}).setdefault(hops, []).append(right)
    for place, by_hops in by_place.items():
        for hops, rights in by_hops.items():
            way = " → ".join(f"{visible(hop.file.by)} of {naming.principal(principals[hop.place])}" for hop in hops)
            alike.setdefault((way, tuple(rights)), []).append(principals[place])
    yield BLANK
    if not alike:
        yield Prose("Through programs that others run nobody can bring about more.", hanging="  ")
        return
    yield Verbatim("Through programs that others run:")
    rows: list[Sequence[Spans]] = []
    for (way, rights_of), people in alike.items():
        names = several_users((one for one in people if one.kind == "user"), accounts, show, "users")
        anyone = ["anyone else"] if any(one.kind == "anyone-else" for one in people) else []
        headings = joined(words.right_heading(right, kind) for right in rights_of)
        rows.append([joined([*([names] if names else []), *anyone]), headings, way])
    yield Table(["who", "can have", "by what they put into"], rows, flexible=(2, 0))

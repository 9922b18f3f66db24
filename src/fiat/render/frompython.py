"""Results as a Python program prints them: the same words that the commands have for them."""

from collections.abc import Iterable

from fiat.app.change import Planned
from fiat.app.let import WaysToGoals
from fiat.core.ask.effects import Effects
from fiat.core.change.plan import Plan
from fiat.core.model.accounts import Accounts
from fiat.core.model.shown import looks
from fiat.core.suggest.cost import Way
from fiat.core.text import joined, visible
from fiat.render.changes import Changed, change_blocks, effects_blocks
from fiat.render.model import Block, Prose
from fiat.render.plan import PlanView
from fiat.render.text import Screen, lines
from fiat.render.ways import WaysView

_NOBODY = Accounts((), (), "no accounts")


def _text(blocks: Iterable[Block]) -> str:
    return "\n".join(line for block in blocks for line in lines(block, Screen()))


def _accounts(effects: Effects | None) -> Accounts:
    return _NOBODY if effects is None or effects.accounts is None else effects.accounts


def effects_text(effects: Effects) -> str:
    """Who gains and who loses."""
    return _text(effects_blocks(effects, _accounts(effects), paths=False))


def plan_text(plan: Plan) -> str:
    """What changes, before and after; who gains and who loses."""
    examples, few = plan.examples(), plan.paths_of_few()
    changes = [
        Changed(planned.change.before, planned.change.after, examples[number], count, every=tuple(few.get(number, ())))
        for number, (planned, count) in enumerate(zip(plan.changes, plan.counts(), strict=True))
        if count and planned.change.changes
    ]
    if not changes:
        return "nothing changes"
    told = _text(change_blocks(changes, _accounts(plan.effects)))
    return told if plan.effects is None else f"{told}\n\n{effects_text(plan.effects)}"


def way_text(way: Way) -> str:
    """By what means, where, what changes, and who gains and who loses."""
    if way.plan is None:
        user, gid = way.membership or ("", 0)
        named = _accounts(way.effects).group_numbered(gid)
        group = str(gid) if named is None else named.name
        return f"membership of {visible(user)} in {visible(group)}\n\n{effects_text(way.effects)}"
    where = joined(visible(path) for path, _ in way.steps)
    title = Prose(f"{' and '.join(way.means)}{f', at {where}' if where else ''}")
    return f"{_text([title])}\n\n{plan_text(way.plan)}"


def planned_text(planned: Planned) -> str:
    """As ``fiat set --preview`` shows it."""
    guards = list(planned.plan.guards)
    return _text(PlanView(planned, preview=True, guards=guards, result=None, failed=False, history=None).blocks())


def ways_text(found: WaysToGoals) -> str:
    """As ``fiat let`` and ``fiat bar`` show them."""
    return _text(WaysView(found, f"fiat {'let' if found.found.goal.gives else 'bar'} …", []).blocks())


def say_how_results_look() -> None:
    """Have these kinds of results printed so."""
    looks(Effects, effects_text)
    looks(Plan, plan_text)
    looks(Way, way_text)
    looks(Planned, planned_text)
    looks(WaysToGoals, ways_text)

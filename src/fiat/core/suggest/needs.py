"""Needs: what a goal asks of each object on its way, or why nothing of a posture can bring it about."""

from collections.abc import Iterator

from fiat.core.ask.why import RULE_WORDS
from fiat.core.model import principals
from fiat.core.model.accesslist import NO_ID
from fiat.core.model.host import Host
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.rules.access import Access
from fiat.core.rules.checks import Step, Verdict
from fiat.core.rules.decision import superuser
from fiat.core.suggest.goal import Goal
from fiat.core.suggest.means import Need
from fiat.core.text import visible
from fiat.core.tree.walk import route_for
from fiat.core.words import naming

ROOT = principals.unlisted_user(0, (0,))
"""Who carries a way out, as far as its cost is concerned: whether the one who asks may do it is another question."""


BY_OWNER = {"owner-only", "owner-in-other-group", "sticky"}
"""The rules that let an owner do what is asked for; nobody asks the last one where the sticky bit is taken off."""


def ask(host: Host, goal: Goal, who: Principal | None = None) -> Verdict:
    """Whether who the goal is about, or ``who``, has its right."""
    route = route_for(host, goal.path, goal.right)
    return Access(Universe([who or goal.who]), host.settings).verdict(route, goal.right, 0)


def impossible(goal: Goal, verdict: Verdict) -> str:
    """Why nothing of a posture can change the answer; empty where something might."""
    if goal.gives:
        for step in refused_steps(verdict):
            if step.reason is None and step.rule != "sticky" and not (step.rule in BY_OWNER and can_own(goal.who)):
                return _flat(step)
            if step.runs_for and step.path != step.runs_for:  # which others are run with as well
                who = naming.principal(goal.who)
                return f"{visible(step.runs_for)} is run with {visible(step.path)}, which {who} may not {step.needs}"
        return ""
    if superuser(goal.who):
        return f"{naming.principal(goal.who)} is a superuser: no mode and no list keeps out who may change them"
    if not goal.right.permission and not goal.right.by_owner:
        return f"{goal.right} goes with a capability, and with no posture"
    return ""


def _flat(step: Step) -> str:
    return f"not modes and lists refuse it at {visible(step.path)}, but this: {RULE_WORDS.get(step.rule, step.rule)}"


def can_own(who: Principal) -> bool:
    """Whether an object can be given to them."""
    return who.kind not in ("group", "anyone-else") and who.uid not in (None, NO_ID)


def refused_steps(verdict: Verdict) -> list[Step]:
    """The checks that refuse, the blocker and those that would come after it."""
    return [step for step in (*verdict.steps, *verdict.beyond) if not step.allowed]


def needs_of(goal: Goal, verdict: Verdict) -> Iterator[Need]:
    """What is needed of each object; of those that refuse, or of the one that decides what is to be taken."""
    if not goal.gives:
        if goal.right.by_owner:
            return
        part = goal.right.permission
        deciding = [
            step
            for step in verdict.steps
            if step.reason is not None and step.want & part and step.object and not step.runs_for
        ]
        step = deciding[-1]  # what comes before is the way there, what comes after is what runs it
        assert step.object is not None
        same = [one.want for one in deciding if one.path == step.path]
        yield Need(step.object, goal.who, max(same), False, part)
        return
    wants: dict[str, tuple[Object, int]] = {}
    for step in refused_steps(verdict):
        if step.object is not None and step.reason is not None:
            known = wants.get(step.path, (step.object, 0))
            wants[step.path] = step.object, known[1] | step.want
    for found, want in wants.values():
        yield Need(found, goal.who, want, True)

"""What becomes of each object on the way to a path: by what costs others least there, or by the means preferred."""

from collections.abc import Iterable

from fiat.core.ask.why import RULE_WORDS
from fiat.core.model.host import Host
from fiat.core.model.modechange import parse_change
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import TRAVERSE
from fiat.core.model.wish import Wish
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.checks import Verdict
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.goal import Goal, Terms
from fiat.core.suggest.means import MEANS, Means, Need, means_for, outcome
from fiat.core.suggest.memberships import members_of, not_more
from fiat.core.suggest.needs import BY_OWNER, ROOT, ask, can_own, impossible, needs_of, refused_steps
from fiat.core.tree.walk import walk

_FEW_GROUPS = 16
"""With so many groups, an object is thought of as given to each of them; else to those that have to do with it."""


class PathEdits:
    """Finds means for what stands in the way of goals for paths, and adds them to drafts.

    ``fixed`` is the path that not even root can change, and why, once one was met.
    """

    def __init__(self, host: Host, terms: Terms, everyone: Universe) -> None:
        self.terms = terms
        self.everyone = everyone
        self.accounts = host.accounts
        self.umask = host.settings.umask
        self.fixed: tuple[str, str] | None = None

    def noted(self, needs: Iterable[Need]) -> list[Need]:
        """The needs; it is noted where one is of something that cannot be changed."""
        found = list(needs)
        for need in found:
            _, rule = refused_to_everyone(need.object.posture, need.object.mount)
            if rule:
                self.fixed = need.object.path, RULE_WORDS[rule]
        return found

    def choices(self, need: Need) -> list[Means]:
        """Every means that meets ``need`` and may be used, the least costly first."""
        found = means_for(need, self.everyone, self._groups(need), ROOT, self.umask)
        return [means for means in found if {*means.names} <= {*self.terms.by}]

    def _groups(self, need: Need) -> set[int]:
        """The groups that an object may be given: those of who it is about and of its owner; or all, if few."""
        accounts = self.accounts
        if len(accounts.groups) <= _FEW_GROUPS:
            return {group.gid for group in accounts.groups}
        owner = accounts.user_numbered(need.object.posture.uid)
        return {*need.who.gids, *(accounts.gids_of(owner) if owner is not None else ())}

    def add(self, drafting: Drafting, need: Need, means: Means) -> bool:
        """Have ``need`` met by these means; with entries for members who would have more, where that is not meant."""
        posture = outcome(need.object, means.wish, ROOT, self.umask)
        if posture is None:
            return False
        drafting.add(need.object, means.wish, posture)
        if need.who.kind == "group" and self.terms.exact and need.gives:
            changed = need.object._replace(posture=posture)
            members = members_of(need.who, self.accounts)
            for wish, after in not_more(need.object.posture, changed, need.want, members, ROOT, self.umask):
                drafting.add(changed, wish, after)
        return True

    def lead_to(self, drafting: Drafting, goal: Goal, prefer: str = "") -> list[Means] | None:
        """Add what leads to one goal, by the means ``prefer`` if it can be; what it took, None if nothing does."""
        verdict = ask(drafting.then, goal)
        if verdict.allowed is goal.gives:
            return []
        if impossible(goal, verdict):
            return None
        chosen: list[Means] = []
        by_owners = self.by_owners(drafting.then, goal, verdict)
        if goal.right.by_name_alone and not goal.gives:
            by_owners = [one for one in by_owners if one[1].names == (prefer,)]
        by_owners.sort(key=lambda one: one[1].names != (prefer,))
        for found, means in by_owners[:1]:
            chosen += [means] if self.apply(drafting, found, means) else []
        if chosen and ask(drafting.then, goal).allowed is goal.gives:
            return chosen
        for need in self.noted(needs_of(goal, verdict)):
            best = self._meet(drafting, need, prefer)
            if best is None:
                return None
            chosen.append(best)
        return chosen if ask(drafting.then, goal).allowed is goal.gives else None

    def open_route(self, drafting: Drafting, who: Principal, path: str, prefer: str) -> list[str] | None:
        """Have ``who`` get as far as ``path``; the means that it took, None where that cannot be."""
        names: list[str] = []
        for step in refused_steps(ask(drafting.then, Goal(who, TRAVERSE, path, True))):
            if step.object is None or step.path == path:
                break
            if step.reason is None:
                return None
            (need,) = self.noted([Need(step.object, who, step.want, True)])
            best = self._meet(drafting, need, prefer)
            if best is None:
                return None
            names += best.names
        return names

    def _meet(self, drafting: Drafting, need: Need, prefer: str) -> Means | None:
        """Have ``need`` met by the means ``prefer``, or else by what costs least."""
        choices = self.choices(need)
        best = next((one for one in choices if one.names == (prefer,)), choices[0] if choices else None)
        return best if best is not None and self.add(drafting, need, best) else None

    def for_members(self, drafting: Drafting, goal: Goal) -> tuple[str, ...] | None:
        """Do the same for members of the group whom another class decides, each by an entry of their own; the means
        that it took, None where that cannot be."""
        own = [kind.name for kind in MEANS.values() if kind.own]
        terms = self.terms._replace(by=(*own, *(["owner"] if goal.right.by_owner else [])), exact=False)
        edits = PathEdits(drafting.then, terms, self.everyone)
        names: dict[str, None] = {}
        for member in members_of(goal.who, self.accounts).principals:
            chosen = edits.lead_to(drafting, goal._replace(who=member))
            if chosen is None:
                return None
            names |= dict.fromkeys(name for means in chosen for name in means.names)
        return tuple(names)

    # --- what goes by owners ---

    def by_owners(self, host: Host, goal: Goal, verdict: Verdict) -> list[tuple[Object, Means]]:
        """Changes of which one is needed where it is owners who have the right: another owner, or no sticky bit.

        Of a name that is not to be removed the sticky bit of its directory does it alone, where it does.
        """
        found: list[tuple[Object, Means]] = []
        if goal.gives:
            for step in refused_steps(verdict):
                if step.rule not in BY_OWNER or step.object is None:
                    continue
                named = None
                if step.rule == "sticky":
                    found.append((step.object, _STICKY_OFF))
                    named = walk(host, goal.path, follow=False).end
                if can_own(goal.who):
                    found += [(one, _owned_by(goal.who.uid)) for one in (named, step.object) if one is not None]
        elif goal.right.by_name_alone:
            found += [(need.object, _STICKY_ON) for need in needs_of(goal, verdict)]
        elif goal.right.by_owner:
            end = walk(host, goal.path).end
            found += [(end, _owned_by(0))] if end is not None else []
        return [(one, means) for one, means in found if {*means.names} <= {*self.terms.by}]

    def apply(self, drafting: Drafting, found: Object, means: Means) -> bool:
        """Have an object changed by these means; False if that is how it is, or cannot be."""
        posture = outcome(found, means.wish, ROOT, self.umask)
        if posture is None or posture == found.posture:
            return False
        drafting.add(found, means.wish, posture)
        return True


def _owned_by(uid: int | None) -> Means:
    return Means(("owner",), Wish(uid=uid), (1, 0, 1))


_STICKY_OFF = Means(("sticky",), Wish(mode=parse_change("a-t")))
_STICKY_ON = Means(("sticky",), Wish(mode=parse_change("a+t")))

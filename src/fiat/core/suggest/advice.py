"""What would have to change for a refusal to become a yes, the narrowest change first.

Each piece of advice is a wish for one path, or a membership, or something
that is not Fiat's to do. Wishes are evaluated before they are given: asked of
the host as if they came true, the step that refused lets through, and whoever
else would gain by it is counted.
"""

from collections.abc import Callable, Iterator

from fiat.core.ask.effects import effects_at
from fiat.core.change.steps import change, steps_towards, wanted
from fiat.core.errors import FiatError
from fiat.core.model import accesslist
from fiat.core.model.accesslist import Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.mode import permission_letters
from fiat.core.model.modechange import ModeChange, parse_change
from fiat.core.model.posture import FLAGS, Object
from fiat.core.model.principals import Principal, Universe, others_of_number
from fiat.core.model.right import BASIC
from fiat.core.model.wish import Advice, Wish
from fiat.core.rules import decision as rules
from fiat.core.rules.attributes import refused_to_everyone
from fiat.core.rules.checks import Step, Verdict
from fiat.core.rules.decision import Decision
from fiat.core.rules.effective import deciding_list
from fiat.core.suggest.entrywishes import entry_for, had, raised
from fiat.core.text import visible
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.words import naming

Asking = Callable[[Principal], Verdict]
"""Asks the same of somebody else."""


def advice_on(host: Host, who: Principal, verdict: Verdict, ask: Asking | None = None) -> list[Advice]:
    """What would have to change, for each step that says no, in their order.

    With ``ask``, of each membership it is told whether it suffices alone.
    """
    refused = [step for step in (*verdict.steps, *verdict.beyond) if not step.allowed]
    if any(step.rule == "missing" for step in refused):
        return []  # what is not there is not got at by opening the way to it
    actor = host.actor()
    found: list[Advice] = []
    for step in refused:
        if step.object is None:
            break
        if step.reason is None:
            found += _on_conditions(step, step.object, host.accounts)
            continue
        # what is needed of one object is given to it by one change
        want = 0
        for other in refused:
            want |= other.want if other.path == step.path and other.reason else 0
        for one in _on_entries(who, step, step.object, want, host.accounts):
            evaluated = one if one.wish is None else _evaluated(host, actor, who, step.object, want, one, one.wish)
            if evaluated is not None:
                found.append(evaluated)
    distinct: dict[object, Advice] = {}
    for advice in found:
        distinct.setdefault((advice.path, advice.wish or advice.effect), advice)
    return [_asked_of_member(who, advice, ask) for advice in distinct.values()]


def _asked_of_member(who: Principal, advice: Advice, ask: Asking | None) -> Advice:
    if advice.group is None or ask is None:
        return advice
    return advice._replace(suffices=ask(who._replace(gids=who.gids | {advice.group})).allowed)


def _evaluated(
    host: Host, actor: Principal, who: Principal, found: Object, want: int, advice: Advice, wish: Wish
) -> Advice | None:
    """The advice with what it would do for others; None where it does not do what it is for, or somebody would lose."""
    try:
        goal = wanted(found.posture, wish, actor, host.settings.umask)
    except FiatError:
        return None
    after = change(found.posture, steps_towards(found.posture, goal, actor), actor, found.mount, found.keeps_lists)
    posture = goal if after.errno else after.after  # somebody else may do it
    if not Decision(posture, Universe([who])).allowed(want):
        return None
    then = HostAsIf(host, Supposition(FewPostures({found.status.identity: posture})))
    effects = effects_at(host, then, found.path, BASIC, [who])
    if effects.losses:
        return None
    gaining = {gain.principal for gain in effects.gains if gain.principal.kind == "user"}
    others = {
        one for one in gaining if one.identity != who.identity and not (who.kind == "group" and one.gids & who.gids)
    }
    _, rule = refused_to_everyone(found.posture, found.mount)
    effect = advice.effect + (f", once {_FIRST[rule]}" if rule else "")
    return advice._replace(effect=effect, others=len(others))


_FIRST = {
    **{flag: f"its {flag} flag is cleared" for flag in FLAGS},
    "read-only": "it is mounted with rw",
}
"""What has to be done before anything there can be changed."""


def _on_entries(who: Principal, step: Step, found: Object, want: int, accounts: Accounts) -> Iterator[Advice]:
    """Changes of mode, list or membership, where an entry refused the permissions in ``want``."""
    assert step.reason is not None
    posture, share = found.posture, step.reason.share
    missing = permission_letters(want & ~share.permissions).replace("-", "")

    def mode(user_class: str, effect: str) -> Advice:
        return Advice(effect, step.path, Wish(mode=_mode(f"{user_class}+{missing}")))

    if step.rule == rules.OWNER:
        yield mode("u", "for the owner")
        return
    if rules.superuser(who):  # only running it is refused, for lack of any x: the first one will do
        yield mode("u", "for the owner, and so for root")
        return
    their_own = who.kind == "group" and posture.gid in who.gids and posture.acl is None
    if found.keeps_lists is not False and _can_be_named(who) and not their_own:
        keeps = want
        for other in others_of_number(who, accounts):
            keeps |= had(posture, other)
        yield Advice(f"for {naming.alone(who, accounts)}", step.path, Wish(access=entry_for(posture, who, keeps)))
    yield from _memberships(who, found, want, accounts)
    if step.rule in (rules.OWNING_GROUP, rules.NAMED_GROUP):
        yield _group_entry(step, found, share, want, accounts)
    if share.entry.permissions & want == want:
        yield mode("g", "raising the mask, which the group letters are, for every entry that it cuts")
    elif step.rule == rules.OTHER:
        yield mode("o", "for everyone")


def _group_entry(step: Step, found: Object, share: rules.Share, want: int, accounts: Accounts) -> Advice:
    """The entry of a group that said no, holding what was asked as well."""
    posture = found.posture
    gid = posture.gid if share.entry.id is None else share.entry.id
    effect = f"for everyone in group {naming.group(gid, accounts)}"
    if posture.acl is None:
        letters = permission_letters(want & ~share.permissions).replace("-", "")
        return Advice(effect, step.path, Wish(mode=_mode(f"g+{letters}")))
    wish = raised(posture, share.entry.tag, share.entry.id, share.permissions | want)
    return Advice(effect, step.path, Wish(access=wish))


def _memberships(who: Principal, found: Object, want: int, accounts: Accounts) -> Iterator[Advice]:
    """The groups that are allowed it here, and whose members keep what ``who`` has."""
    if who.kind != "user" or who.name is None:
        return
    posture = found.posture
    entries = deciding_list(posture).entries
    gids = [posture.gid if entry.id is None else entry.id for entry in entries if entry.tag in _OF_GROUPS]
    has = had(posture, who)
    for gid in dict.fromkeys(gids):
        member = who._replace(gids=who.gids | {gid})
        if gid in who.gids or had(posture, member) & has != has:
            continue
        if Decision(posture, Universe([member])).allowed(want):
            group = naming.group(gid, accounts)
            joining = f"making {visible(who.name)} a member of group {group}"
            effect = f"{joining}, which is allowed it here, with all else that it may do"
            yield Advice(effect, found.path, group=gid)


_OF_GROUPS = (Tag.OWNING_GROUP, Tag.NAMED_GROUP)


def _mode(word: str) -> ModeChange:
    return parse_change(word)


def _can_be_named(who: Principal) -> bool:
    """Whether an access entry can name ``who``."""
    return who.kind == "group" or (who.uid is not None and who.uid != accesslist.NO_ID)


def _on_conditions(step: Step, found: Object, accounts: Accounts) -> Iterator[Advice]:
    """Changes beyond mode and list, where something else refused."""
    owner = naming.user(found.posture.uid, accounts)
    mount = visible(found.mount.point) if found.mount else "it"
    effects = {
        **{flag: f"clearing the {flag} flag of {visible(found.path)}, which root can" for flag in FLAGS},
        "read-only": f"mounting {mount} again with rw",
        "noexec": f"mounting {mount} again with exec",
        "nodev": f"mounting {mount} again with dev",
        "nosymfollow": f"mounting {mount} again without nosymfollow",
        "protected-symlinks": f"the link's owner {owner} doing it, or following no link in that directory",
        "protected-regular": f"the file's owner {owner} doing it, or opening it without creating it",
        "protected-fifos": f"the pipe's owner {owner} doing it, or opening it without creating it",
        "owner-only": f"the owner {owner}, or root, doing it",
        "owner-in-other-group": f"the owner {owner}, where in another group, or root, doing it",
        "superuser-only": "root doing it",
        "clears-special": "root doing it",
    }
    if step.rule == "sticky":
        yield Advice(f"the owner of what is named, the directory's owner {owner}, or root doing it", step.path)
        yield Advice("letting everyone who may write there do it", step.path, Wish(mode=_mode("a-t")))
    elif step.rule in effects:
        yield Advice(effects[step.rule], step.path)

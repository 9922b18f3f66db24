"""What would have to change for a refusal to become a yes, the narrowest change first.

Each piece of advice is a wish for one path, or a membership, or something
that is not Fiat's to do. Wishes are evaluated before they are given: asked of
the host as if they came true, the step that refused lets through, and whoever
else would gain by it is counted.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fiat.core.ask.effects import effects_at
from fiat.core.change.steps import change, steps_towards
from fiat.core.change.wanted import wanted
from fiat.core.errors import FiatError
from fiat.core.model import accesslist
from fiat.core.model.accesslist import Entry, Tag
from fiat.core.model.accounts import Accounts
from fiat.core.model.host import Host
from fiat.core.model.mode import ModeChange, parse_change, permission_letters
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import BASIC
from fiat.core.model.wish import EntryWish, ListWish, Wish
from fiat.core.rules import decision as rules
from fiat.core.rules.check import Step, Verdict
from fiat.core.rules.decision import Decision
from fiat.core.text import counted, visible
from fiat.core.tree.asif import FewPostures, HostAsIf, Supposition
from fiat.core.words import naming


class Advice(NamedTuple):
    """Something that would have to change.

    ``effect`` says in words whom it is for. ``wish`` is what to ask of ``path``,
    None where it is not Fiat's to do. ``others`` counts users, beside whom it
    is for, who would gain something there.
    """

    effect: str
    path: str = ""
    wish: Wish | None = None
    others: int = 0


def advice_on(host: Host, who: Principal, verdict: Verdict) -> list[Advice]:
    """What would have to change, for each step that says no, in their order."""
    refused = [step for step in (*verdict.steps, *verdict.beyond) if not step.allowed]
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
            evaluated = one if one.wish is None else _evaluated(host, who, step.object, want, one, one.wish)
            if evaluated is not None:
                found.append(evaluated)
    return list(dict.fromkeys(found))


def _evaluated(host: Host, who: Principal, found: Object, want: int, advice: Advice, wish: Wish) -> Advice | None:
    """The advice with what it would do for others; None where it would not do what it is for."""
    actor = host.actor()
    try:
        goal = wanted(found.posture, wish, actor, host.settings.umask)
    except FiatError:
        return None
    after = change(found.posture, steps_towards(found.posture, goal, actor), actor, found.mount, found.keeps_lists)
    posture = goal if after.errno else after.after  # somebody else may do it
    if not Decision(posture, Universe([who])).allowed(want):
        return None
    then = HostAsIf(host, Supposition(FewPostures({found.status.identity: posture})))
    gains = effects_at(host, then, found.path, BASIC).gains
    others = {gain.principal.uid for gain in gains if gain.principal.kind == "user" and gain.principal.uid != who.uid}
    return advice._replace(others=len(others))


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
    if share.entry.permissions & want == want:
        yield mode("g", "raising the mask, which the group letters are, for every entry that it cuts")
        return
    entry = _entry_for(who, share.permissions | want)
    if entry is not None and found.keeps_lists is not False:
        # their own entry decides alone from then on, so it holds what they have already as well
        wish = Wish(access=ListWish((EntryWish(entry),)))
        name = naming.group_of(who) if who.kind == "group" else visible(who.name or str(who.uid))
        yield Advice(f"for {name} alone", step.path, wish)
    group = naming.group(posture.gid, accounts)
    if step.rule == rules.OWNING_GROUP:
        if posture.acl is None:
            yield mode("g", f"for everyone in group {group}")
    elif step.rule == rules.OTHER:
        if who.kind == "user" and posture.acl is None and posture.mode >> 3 & want == want:
            name = visible(who.name or str(who.uid))
            yield Advice(f"making {name} a member of group {group}, which is allowed it here")
        yield mode("o", "for everyone")


def _mode(word: str) -> ModeChange:
    return parse_change(word)


def _entry_for(who: Principal, permissions: int) -> Entry | None:
    """An access entry that names ``who``; None for those that no entry can name, or need none."""
    if who.kind == "group":
        (gid,) = who.gids
        return Entry(Tag.NAMED_GROUP, permissions, gid)
    if who.uid is None or who.uid == accesslist.NO_ID:
        return None
    return Entry(Tag.NAMED_USER, permissions, who.uid)


def _on_conditions(step: Step, found: Object, accounts: Accounts) -> Iterator[Advice]:
    """Changes beyond mode and list, where something else refused."""
    owner = naming.user(found.posture.uid, accounts)
    mount = visible(found.mount.point) if found.mount else "it"
    effects = {
        "immutable": f"clearing the immutable flag of {visible(found.path)}, which root can",
        "append-only": f"clearing the append-only flag of {visible(found.path)}, which root can",
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
        yield Advice(f"the owner of what is named, the directory's owner {owner}, or root doing it")
        yield Advice("letting everyone who may write there do it", step.path, Wish(mode=_mode("a-t")))
    elif step.rule in effects:
        yield Advice(effects[step.rule])


def with_others(advice: Advice) -> str:
    """The effect in words, with how many others would gain by it."""
    if not advice.others or not advice.effect.endswith(" alone"):
        return advice.effect
    return f"{advice.effect.removesuffix(' alone')}, and {counted(advice.others, 'other')} gain by it"

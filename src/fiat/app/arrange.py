"""Arrangements: the known ones, which one a directory is already, and a plan that carries one out."""

import errno
import os
from collections.abc import Callable, Iterable, Iterator

from fiat.app.change import ChangeOptions, Planned, planned_for, targets_of
from fiat.app.problems import Problem, raise_problem
from fiat.app.trust import FREE, Trust
from fiat.core.change.target import Target
from fiat.core.errors import ArrangementError, FiatError, NotationError, PathError
from fiat.core.model import principals
from fiat.core.model.arrangement import Arrangement, ArrangementChoice
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host, Progress, no_progress
from fiat.core.model.posture import Object
from fiat.core.model.principals import Principal, Universe
from fiat.core.model.right import TRAVERSE
from fiat.core.model.wish import Wish
from fiat.core.rules.access import Access
from fiat.core.rules.inheritance import may_be_made_so
from fiat.core.suggest.arranging import Arranged, Arranger, arrangements_of
from fiat.core.suggest.drafting import Drafting
from fiat.core.suggest.goal import Terms
from fiat.core.suggest.needs import ROOT
from fiat.core.suggest.pathedits import PathEdits
from fiat.core.text import quoted, shell_word, visible
from fiat.core.tree.profile import Profile
from fiat.core.tree.reading import Walked
from fiat.core.tree.walk import inside, names_in, open_end
from fiat.core.words.arrangements import Known, parse_arrangements
from fiat.core.words.toml import LARGEST
from fiat.host.arrangements import builtin, usual_places

_MOST = 1_000
"""So many names of a directory are looked at to say whether they are as its arrangement has them."""


def known_arrangements(file: str | None = None, trust: Trust = FREE) -> dict[str, Arrangement]:
    """Those that come with Fiat, those in the usual places, and those in ``file``, in this order.

    What is in the usual places was named by nobody: it counts only where nobody else can have written it. Raises
    :class:`ArrangementError`, :class:`fiat.core.errors.UntrustedFile` and :class:`PathError`.
    """
    found = parse_arrangements(builtin(), "built in")
    for place in (*usual_places(), *([file] if file is not None else [])):
        if place != file and not _is_there(place):
            continue
        data = (trust if place == file else Trust(needed=True)).read(place, "the file of arrangements", LARGEST)
        for name, one in parse_arrangements(data, place).items():
            if name in found:
                raise ArrangementError(
                    f"{quoted(place)}: [{name}] is there already, from {found[name].source}; call it otherwise"
                )
            found[name] = one
    return found


def _is_there(place: str) -> bool:
    """Whether there is such a file; none counts where it may not be looked for, as in the home of who one was."""
    try:
        os.stat(place)
    except PermissionError:
        return False
    except OSError:
        return os.path.lexists(place)
    return os.access(place, os.R_OK)


def arranged(host: Host, found: Object, known: Known) -> Arranged | None:
    """Which arrangement a directory is, and what is in it that deviates; of many names only the first are looked at."""
    actor, umask = host.actor(), host.settings.umask
    chosen, but = next(arrangements_of(found, known.values(), host.accounts, actor, umask), (None, ""))
    if chosen is None:
        return None
    if but:
        return Arranged(chosen, but=but)
    arranging = Arranger(chosen, found.posture.uid, host.accounts, actor, umask)
    node = open_end(host, found.path)[1]
    if node is None:
        return Arranged(chosen)
    try:
        names = sorted(names_in(node, []))
        differing, looked_at = [], 0
        for child, one in inside(node, names[:_MOST], []):
            child.close()
            looked_at += 1
            try:
                if not (arranging.fits(one) or may_be_made_so(found.posture, found.mount, one.posture)):
                    differing.append(one.path)
            except FiatError:
                differing.append(one.path)
    finally:
        node.close()
    return Arranged(chosen, tuple(differing), looked_at, len(names) > _MOST)


def plan_arranged(
    host: Host,
    paths: Iterable[str],
    chosen: ArrangementChoice,
    how: ChangeOptions = ChangeOptions(),  # noqa: B008
    *,
    problem: Problem = raise_problem,
    progress: Progress = no_progress,
) -> Planned:
    """What the arrangement would do to ``paths`` and all below them; nothing is written."""
    targets: list[Target] = []
    notes: list[Finding] = []
    walked = Walked()
    drafting = Drafting(host, ROOT, walked)
    edits = PathEdits(host, Terms(), principals.of_accounts(host.accounts))
    arrangement = chosen.arrangement
    for target in targets_of(host, paths, how._replace(below=True), problem, progress):
        top = target.survey.top
        walked.add(target.route)
        kind = "directory" if top.posture.directory else "file"
        if arrangement.only not in (None, kind):
            raise NotationError(
                top.path, f"{quoted(top.path)} is a {kind}, and {arrangement.name} is for a {arrangement.only}"
            )
        arranging = Arranger(chosen, top.posture.uid, host.accounts, host.actor(), host.settings.umask)
        without = any(one.keeps_lists is False and arranging.needs_lists(one.posture) for one in target.survey.profiles)
        if without:
            hint = f"{arrangement.usage} needs access lists, and this file system keeps none"
            problem(PathError(target.asked, errno.EOPNOTSUPP, "arrange", hint))
            continue
        if top.keeps_lists is False and arrangement.directory.default:
            notes.append(
                Finding("without-lists", "odd", f"no lists are kept here: {arrangement.without_lists}", top.path)
            )
        targets.append(target._replace(wish=_wish_of(arranging), owner_asked=True))
        for who in _people(chosen, host):
            if arrangement.opens_the_way:
                if edits.open_route(drafting, who, top.path, "entry") is None:
                    raise NotationError(
                        top.path, f"no change lets {visible(who.name or '')} as far as {quoted(top.path)}"
                    )
            elif not Access(Universe([who]), host.settings).reach(target.route):
                word = shell_word(f"{'group:' if who.kind == 'group' else ''}{who.name}")
                command = f"fiat let {word} {TRAVERSE.name} {shell_word(top.path)}"
                text = f"{visible(who.name or '')} does not get as far as {visible(top.path)}; {command} opens the way"
                notes.append(Finding("not-reached", "odd", text, top.path))
    made = planned_for(host, [*drafting.targets(), *targets], problem, progress)
    made.plan.notes += notes
    if arrangement.short:
        made.plan.notes.append(Finding("falls-short", "plain", arrangement.short))
    return made


def _people(chosen: ArrangementChoice, host: Host) -> Iterator[Principal]:
    accounts = host.accounts
    for whom in chosen.whom:
        if whom.group:
            group = accounts.group_numbered(whom.number)
            yield principals.bare_group(whom.number, group.name if group else str(whom.number))
            continue
        account = accounts.user_numbered(whom.number)
        if account is not None:
            yield principals.of_account(account, accounts)
        else:
            yield principals.unlisted_user(whom.number)._replace(name=str(whom.number))


def _wish_of(arranging: Arranger) -> Callable[[Profile], Wish]:
    return lambda profile: arranging.wish(profile.at())

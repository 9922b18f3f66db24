"""The arrangements that there are, and which one a directory is."""

import os

from fiat.app.trust import FREE, Trust
from fiat.core.errors import ArrangementError, FiatError
from fiat.core.model.arrangement import Arrangement, Chosen
from fiat.core.model.host import Host
from fiat.core.model.posture import Object
from fiat.core.suggest.arranging import Arranged, Arranging, arrangements_of
from fiat.core.text import quoted
from fiat.core.tree.inside import inside, names_in
from fiat.core.tree.walk import open_end
from fiat.core.words.arrangements import Known, parse_arrangements, parse_chosen
from fiat.core.words.toml import LARGEST
from fiat.host.arrangements import builtin, usual_places

__all__ = ["Arranged", "Arrangement", "Chosen", "Known", "arranged", "known_arrangements", "parse_chosen"]

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
    arranging = Arranging(chosen, found.posture.uid, host.accounts, actor, umask)
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
                if not arranging.fits(one):
                    differing.append(one.path)
            except FiatError:
                differing.append(one.path)
    finally:
        node.close()
    return Arranged(chosen, tuple(differing), looked_at, len(names) > _MOST)

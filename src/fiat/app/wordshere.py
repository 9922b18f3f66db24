"""Words of this host that a command line may want, for completion: found at once, or not at all.

Accounts are those of its own files (passwd(5), group(5)), or of the folder that FIAT_ACCOUNTS names: a directory server
would be waited for at each press of a key.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress

from fiat.app.configuration import LARGEST, configured
from fiat.core.errors import FiatError


def _names(file: str) -> list[str]:
    folder = os.environ.get("FIAT_ACCOUNTS") or "/etc"
    with open(os.path.join(folder, file), encoding="utf-8", errors="replace") as lines:
        return [line.partition(":")[0] for line in lines]


def _users() -> list[str]:
    return _names("passwd")


def _who() -> list[str]:
    return [*_names("passwd"), "self", "anyone-else"]


def _groups() -> list[str]:
    return _names("group")


def _rights() -> list[str]:
    from fiat.core.model.right import ALL

    return [right.name for right in ALL]


def _guards() -> list[str]:
    from fiat.core.change.guards import GUARDS

    return list(GUARDS)


def _rules() -> list[str]:
    from fiat.core.audit.registry import RULES

    return list(RULES)


def _runs() -> list[str]:
    from fiat.host.history.place import usual_place
    from fiat.host.history.sqlite import SqliteHistory

    return [str(run.number) for run in SqliteHistory(configured().settings.history or usual_place()).runs()]


def _arrangements() -> list[str]:
    import tomllib

    from fiat.host import arrangements

    texts = [arrangements.builtin()]
    for place in arrangements.usual_places():
        with suppress(OSError), open(place, "rb") as file:
            texts.append(file.read(LARGEST))
    tables = [tomllib.loads(text.decode()) for text in texts]
    return ["list", *(name for table in tables for name in table)]


def _snapshots() -> list[str]:
    from fiat.demo.sample import FLEETS, SNAPSHOTS

    folder = configured().settings.snapshots
    kept = [os.path.join(folder, name) for name in sorted(os.listdir(folder))] if folder else []
    return [*kept, *SNAPSHOTS, *FLEETS]


def _states() -> list[str]:
    return ["live", *_snapshots()]


KINDS: Mapping[str, Callable[[], Iterable[str]]] = {
    "users": _users,
    "who": _who,
    "groups": _groups,
    "rights": _rights,
    "guards": _guards,
    "rules": _rules,
    "runs": _runs,
    "arrangements": _arrangements,
    "snapshots": _snapshots,
    "states": _states,
}


FIXED = frozenset(("rights", "guards", "rules"))
"""Those that are the same on every host: a script can hold them."""


def words_here(kind: str) -> list[str]:
    """The words of a kind, one of :data:`KINDS`, that a shell takes as they are; none where they cannot be had."""
    try:
        found = KINDS[kind]()
    except (OSError, FiatError, KeyError, ValueError):
        return []
    return [word for word in dict.fromkeys(found) if word.isprintable() and _PLAIN.issuperset(word)]


_PLAIN = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.,:@%+=/-")
"""What is in words that need no quotation marks in any shell."""

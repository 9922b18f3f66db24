"""Fiat: what every path allows, and who can therefore really get at it.

What the commands do can be imported::

    import fiat

    host = fiat.open_host()
    fiat.why(host, "keeper", "read", "/srv/skerry/gauge/raw/0412.csv").verdict.allowed
    planned = fiat.plan(host, ["/srv/skerry/charts"], mode="o=", below=True)
    fiat.apply(planned, fiat.open_history())

Each name is explained where it is defined, in :mod:`fiat.app.interface`. They are
loaded when they are first used.
"""

__version__ = "0.1.0"

TYPE_CHECKING = False
if TYPE_CHECKING:  # for type checkers and editors; nothing is loaded by it
    from fiat.app.interface import (
        FiatError,
        HistoryError,
        Host,
        NotationError,
        PathError,
        SnapshotError,
        UnknownAccount,
        apply,
        arrange,
        audit,
        bar,
        check,
        compare,
        foresee,
        let,
        look,
        open_history,
        open_host,
        plan,
        restore,
        save,
        survey,
        undo,
        way_as_plan,
        who,
        who_below,
        why,
    )

__all__ = [
    "FiatError",
    "HistoryError",
    "Host",
    "NotationError",
    "PathError",
    "SnapshotError",
    "UnknownAccount",
    "apply",
    "arrange",
    "audit",
    "bar",
    "check",
    "compare",
    "foresee",
    "let",
    "look",
    "open_history",
    "open_host",
    "plan",
    "restore",
    "save",
    "survey",
    "undo",
    "way_as_plan",
    "who",
    "who_below",
    "why",
]


if not TYPE_CHECKING:

    def __getattr__(name: str) -> object:
        """Load what is asked for by ``name``."""
        if name not in __all__:
            raise AttributeError(f"module 'fiat' has no attribute {name!r}")
        from fiat.app import interface

        return getattr(interface, name)

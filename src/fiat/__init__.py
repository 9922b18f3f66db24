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

__version__ = "0.2.0"

TYPE_CHECKING = False
if TYPE_CHECKING:  # for type checkers and editors; nothing is loaded by it
    from fiat.app.interface import *  # noqa: F403 - the names are listed there, and nowhere else
    from fiat.app.interface import __all__ as __all__
else:

    def __getattr__(name: str) -> object:
        """Load what is asked for by ``name``: one of the public names, or ``__all__``, which has them."""
        from fiat.app import interface

        if name == "__all__":
            return interface.__all__
        if name in interface.__all__:
            from fiat.render.frompython import say_how_results_look

            say_how_results_look()
            return getattr(interface, name)
        raise AttributeError(f"module 'fiat' has no attribute {name!r}")

    def __dir__() -> list[str]:
        """The public names, and the version."""
        from fiat.app import interface

        return ["__version__", *interface.__all__]

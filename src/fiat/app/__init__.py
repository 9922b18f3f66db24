"""The use cases, whole and without printing: what a command does, and what a Python script can import.

The doors of this room: :mod:`~fiat.app.hosts` opens a host, :mod:`~fiat.app.look`
shows and lists; :mod:`~fiat.app.who`, :mod:`~fiat.app.whobelow` and
:mod:`~fiat.app.why` answer what a :mod:`~fiat.app.question` asks;
:mod:`~fiat.app.change` plans and applies, :mod:`~fiat.app.past` has the history,
:mod:`~fiat.app.undo` puts back, :mod:`~fiat.app.decode` translates notations. :mod:`~fiat.app.interface` puts
them together for ``import fiat``.

What goes wrong at one path among several is handed to a ``problem`` function
as a :class:`fiat.core.errors.PathError`; everything else is raised.
"""

__all__ = (
    "account",
    "arrange",
    "audit",
    "betweenhosts",
    "byname",
    "change",
    "check",
    "compare",
    "configuration",
    "decode",
    "elevation",
    "fleet",
    "fleetwork",
    "foresee",
    "gone",
    "hosts",
    "howmany",
    "interface",
    "let",
    "liketree",
    "look",
    "overtime",
    "ownmeans",
    "past",
    "peoplebypaths",
    "question",
    "restore",
    "running",
    "sample",
    "save",
    "selections",
    "status",
    "treelisting",
    "trust",
    "umask",
    "undo",
    "unevaluated",
    "version",
    "whichruns",
    "who",
    "whobelow",
    "why",
    "wishes",
    "wordshere",
    "writing",
)

"""Pictures: what is asked for, laid out as marks on a page of 1280 x 800, and drawn from nothing but these.

The doors of this room: ``who``, ``below``, ``change``, ``why`` and ``overtime`` lay out a picture each; ``picture`` is
what all of them make; ``drawing`` draws it (``pip install 'fiat[charts]'``), ``view`` is its JSON.
"""

__all__ = (
    "below",
    "change",
    "drawing",
    "overtime",
    "picture",
    "view",
    "who",
    "why",
)

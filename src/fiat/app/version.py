"""Which Fiat this is, and what reads and changes trees in it."""

import os

import fiat
from fiat.engine.compiled import compiled


def version_told() -> str:
    """The version, and on a second line which reader is in use."""
    if compiled() is not None:
        reader = "trees are read and changed by its compiled part"
    elif os.environ.get("FIAT_NATIVE") == "0":
        reader = "trees are read and changed in Python: FIAT_NATIVE=0 leaves the compiled part out"
    else:
        reader = "trees are read and changed in Python: there is no compiled part for it here"
    return f"fiat {fiat.__version__}\n{reader}"

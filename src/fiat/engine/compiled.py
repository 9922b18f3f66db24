"""The compiled part, ``fiat._native``, where there is one: it reads trees and changes objects by the same calls in
several threads, and lays out rows.

It is left out with ``FIAT_NATIVE=0`` in the environment, and where Fiat was installed without a compiler. Everything
works without it, and answers the same; it decides nothing.
"""

import os
from importlib import import_module
from types import ModuleType


def compiled() -> ModuleType | None:
    """The module; None where there is none, or it is not to be used."""
    if os.environ.get("FIAT_NATIVE") == "0":
        return None
    try:
        return import_module("fiat._native")
    except ImportError:
        return None

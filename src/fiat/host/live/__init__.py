"""The real host, through the kernel's interfaces.

``host`` is its door. ``postures`` is the one reader of postures, fed by ``facts`` and
``statx`` for one object, and by ``treereader`` for thousands at a time; ``compiled`` tells of
``fiat._native``, which reads trees (``compiledreader``) and changes objects (``compiledchanger``)
by the same calls, without Python between them.
"""

__all__ = (
    "behind",
    "compiled",
    "host",
    "running",
    "umaskfiles",
)

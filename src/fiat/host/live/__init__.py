"""The real host, through the kernel's interfaces.

``host`` is its door. ``postures`` is the one reader of postures, fed by ``facts`` and
``statx`` for one object, and by ``treereader`` for thousands at a time. The compiled part reads trees
(``compiledreader``) and changes objects (``compiledchanger``) by the same calls, without Python between them.
"""

__all__ = (
    "behind",
    "host",
    "running",
    "umaskfiles",
)

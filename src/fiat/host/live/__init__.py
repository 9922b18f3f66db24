"""The real host, through the kernel's interfaces.

``host`` is its door. ``postures`` is the one reader of postures, fed by ``facts`` and
``statx`` for one object, and by ``treereader`` for thousands at a time.
"""

__all__ = (
    "behind",
    "host",
    "running",
    "umaskfiles",
)

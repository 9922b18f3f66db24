"""The sample host: skerry, a lighthouse and tide-gauge station.

The doors of this room: ``sample`` (where its files are), ``tour`` (its story),
``build`` (its tree, made for real).
"""

__all__ = (
    "build",
    "sample",
    "tour",
)

"""Many pieces of work with results that can be put together, done by processes of this machine or by workers elsewhere.

The doors of this room: ``pieces`` (the one interface, and this machine behind it), ``cluster`` (a Dask scheduler and
its workers behind it, loaded where one is named), ``processes`` (the processes of this machine, one by one) ,
``changing`` (applying a plan with them), ``compiled`` (the compiled part, where there is one) and ``laying`` (rows of
text made by it).
"""

__all__ = (
    "changing",
    "cluster",
    "compiled",
    "laying",
    "pieces",
    "processes",
)

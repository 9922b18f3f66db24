"""A page for somebody without a shell: one file of HTML that asks nothing of any network.

The doors of this room: ``page`` puts sections together; ``blocks`` makes HTML of what a result says as text;
``treetable`` holds the rows of a whole tree, which the page shows in pieces.
"""

__all__ = (
    "blocks",
    "page",
    "treetable",
)

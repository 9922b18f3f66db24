"""Many pieces of work, done by several processes of this machine.

The doors of this room: ``processes`` (who does the work) and ``changing`` (applying
a plan with them).
"""

__all__ = (
    "changing",
    "processes",
)

"""What would have to change for a wish to come true.

The first doors of this room: ``advice`` (what helps against a refusal), ``search`` (every way to a ``goal``, by its
``cost``), ``forecast`` (what a directory makes of what is made in it), ``arranging``.
"""

__all__ = (
    "advice",
    "arranging",
    "cost",
    "drafting",
    "forecast",
    "goal",
    "means",
    "needs",
    "pathedits",
    "search",
)

"""Values, and the interfaces of hosts.

The doors of this room: ``posture`` (what one path says about access), ``right``,
``principals`` (sets of people), ``finding``, ``wish``, ``host`` (what stands for a
machine), ``record`` (all of these as JSON, both ways, declared with ``schema``).
"""

__all__ = (
    "accesslist",
    "accounts",
    "arrangement",
    "capabilities",
    "columns",
    "elevation",
    "finding",
    "glance",
    "host",
    "idmap",
    "listbytes",
    "login",
    "mode",
    "modechange",
    "posture",
    "principals",
    "process",
    "record",
    "right",
    "route",
    "schema",
    "seenaccounts",
    "sets",
    "shown",
    "umask",
    "view",
    "wish",
)

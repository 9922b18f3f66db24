"""Audit: what is dangerous in a tree, or probably not meant, who can really use it, and what mends it.

The doors of this room: :data:`fiat.core.audit.registry.RULES`, every rule by
its name; :func:`fiat.core.audit.examine.examine`, what they find in a
:class:`fiat.core.audit.auditedtree.AuditedTree`; and
:func:`fiat.core.audit.mending.mended`, which works out what mends that.
"""

__all__ = (
    "auditedtree",
    "evidence",
    "examine",
    "known",
    "mending",
    "registry",
    "replacing",
)

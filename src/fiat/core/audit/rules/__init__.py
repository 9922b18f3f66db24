"""The rules of an audit: one module for each family, which holds its entries of the registry.

Each entry says what it looks for and why that matters, and finds it in a
:class:`fiat.core.audit.auditedtree.AuditedTree`.
"""

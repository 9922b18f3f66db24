"""Every rule of an audit, by its name."""

from fiat.core.audit.auditedtree import Rule
from fiat.core.audit.rules import deviating, homes, lists, newfiles, nobody, opentoall, privilege, secrets, started

RULES: dict[str, Rule] = {
    rule.code: rule
    for family in (opentoall, started, privilege, secrets, homes, nobody, newfiles, deviating, lists)
    for rule in family.RULES
}
"""In the order in which findings of the same weight are told."""

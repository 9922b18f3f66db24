"""Findings as machine output has them."""

from fiat.core.model.fields import Fields
from fiat.core.model.finding import Finding


def finding_fields(finding: Finding) -> Fields:
    """A remark, a note or a caveat."""
    return {"code": finding.code, "weight": finding.weight, "text": finding.text}


def guard_fields(finding: Finding) -> Fields:
    """A guard that objects."""
    return {"name": finding.code, "path": finding.path, "text": finding.text, "paths": finding.paths}

"""Findings in the form that code scanners exchange: SARIF 2.1.0, the OASIS standard (section numbers are its)."""

import hashlib
import json
import os
from collections.abc import Sequence
from urllib.parse import quote

import fiat
from fiat.core.audit.auditedtree import Rule
from fiat.core.audit.mending import Mended
from fiat.core.model.finding import Finding
from fiat.core.text import Fields, visible

LEVELS = {"danger": "error", "odd": "warning", "plain": "note"}
"""Section 3.27.10."""

_LOCATIONS = 100
"""Paths of one finding that are listed; how many there are stands in its properties."""


def log(found: Sequence[Mended], rules: Sequence[Rule], caveats: Sequence[Finding]) -> str:
    """One run (section 3.14) with a result for each finding; its properties say what was not looked at."""
    numbers = {rule.code: number for number, rule in enumerate(rules)}
    driver = {
        "name": "fiat",
        "version": fiat.__version__,
        "rules": [
            {
                "id": rule.code,
                "shortDescription": {"text": rule.about},
                "fullDescription": {"text": rule.why},
            }
            for rule in rules
        ],
    }
    results = [_result(one, numbers[one.told.rule.code]) for one in found]
    beside = {"notCounted": [caveat.text for caveat in caveats]}
    whole = {"version": "2.1.0", "runs": [{"tool": {"driver": driver}, "results": results, "properties": beside}]}
    return json.dumps(whole, indent=1) + "\n"


def _result(one: Mended, number: int) -> Fields:
    """Section 3.27; paths are URIs with every byte that is not a letter of theirs percent-encoded."""
    told = one.told
    paths = told.audited.paths(told.found.places[:_LOCATIONS])
    mark = "\0".join((told.rule.code, told.first, told.found.text)).encode("utf-8", "surrogateescape")
    return {
        "ruleId": told.rule.code,
        "ruleIndex": number,
        "level": LEVELS[told.found.weight],
        "message": {"text": f"{visible(told.first)}: {told.found.text}"},
        "locations": [
            {"physicalLocation": {"artifactLocation": {"uri": f"file://{quote(os.fsencode(path))}"}}} for path in paths
        ],
        "partialFingerprints": {"ruleAndPath/v1": hashlib.sha256(mark).hexdigest()},
        "properties": {"paths": told.paths, "mend": [visible(command) for command in one.commands]},
    }

"""The forms that other programs read: SARIF against its schema, JUnit XML, OpenMetrics as a client library reads it."""

import json
import os
from pathlib import Path
from urllib.parse import unquote_to_bytes
from xml.etree import ElementTree as Xml

import jsonschema
import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from support.files import make
from support.program import fiat, machine

MESSAGE = {
    "type": "object",
    "additionalProperties": False,
    "required": ["text"],
    "properties": {"text": {"type": "string"}},
}
LOCATION = {
    "type": "object",
    "additionalProperties": False,
    "properties": {
        "physicalLocation": {
            "type": "object",
            "additionalProperties": False,
            "required": ["artifactLocation"],
            "properties": {
                "artifactLocation": {
                    "type": "object",
                    "additionalProperties": False,
                    "properties": {"uri": {"type": "string", "format": "uri-reference"}},
                }
            },
        }
    },
}
RULE = {
    "type": "object",
    "additionalProperties": False,
    "required": ["id"],
    "properties": {"id": {"type": "string"}, "shortDescription": MESSAGE, "fullDescription": MESSAGE},
}
RESULT = {
    "type": "object",
    "additionalProperties": False,
    "required": ["message"],
    "properties": {
        "ruleId": {"type": "string"},
        "ruleIndex": {"type": "integer", "minimum": -1},
        "level": {"enum": ["none", "note", "warning", "error"]},
        "message": MESSAGE,
        "locations": {"type": "array", "items": LOCATION},
        "partialFingerprints": {"type": "object", "additionalProperties": {"type": "string"}},
        "properties": {"type": "object"},
    },
}
DRIVER = {
    "type": "object",
    "additionalProperties": False,
    "required": ["name"],
    "properties": {
        "name": {"type": "string"},
        "version": {"type": "string"},
        "rules": {"type": "array", "uniqueItems": True, "items": RULE},
    },
}
RUN = {
    "type": "object",
    "additionalProperties": False,
    "required": ["tool"],
    "properties": {
        "tool": {
            "type": "object",
            "additionalProperties": False,
            "required": ["driver"],
            "properties": {"driver": DRIVER},
        },
        "results": {"type": "array", "items": RESULT},
        "properties": {"type": "object"},
    },
}
SARIF = {
    "type": "object",
    "additionalProperties": False,
    "required": ["version", "runs"],
    "properties": {"version": {"enum": ["2.1.0"]}, "runs": {"type": "array", "items": RUN}},
}
"""What the schema of SARIF 2.1.0 says of the properties that Fiat writes, and that there are no others."""


def test_sarif_is_as_its_schema_says() -> None:
    done = fiat("audit", "/", "--weight", "plain", "--format", "sarif", "--from", "skerry")
    assert done.returncode == 1
    log = json.loads(done.stdout)
    jsonschema.validate(log, SARIF)
    (run,) = log["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    same = machine("audit", "/", "--weight", "plain", "--from", "skerry", status=1)["results"]
    assert [one["ruleId"] for one in run["results"]] == [one["rule"] for one in same]
    assert all(rules[one["ruleIndex"]] == one["ruleId"] for one in run["results"])
    levels = {"danger": "error", "odd": "warning", "plain": "note"}
    assert [one["level"] for one in run["results"]] == [levels[one["weight"]] for one in same]
    assert len({one["partialFingerprints"]["ruleAndPath/v1"] for one in run["results"]}) == len(same)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**log, "runs": [{**run, "results": [{"level": "bad"}]}]}, SARIF)


@pytest.mark.root
def test_names_of_any_bytes_in_sarif(folder: str) -> None:
    path = make(os.path.join(folder, os.fsdecode(b"a b%\n\xff#?")), 0o666)
    log = json.loads(fiat("audit", folder, "--format", "sarif").stdout)
    jsonschema.validate(log, SARIF)
    (result,) = log["runs"][0]["results"]
    (location,) = result["locations"]
    uri = location["physicalLocation"]["artifactLocation"]["uri"]
    assert uri.isascii()
    assert unquote_to_bytes(uri.removeprefix("file://")) == os.fsencode(path)


HOSTILE = """
[[expect]]
name = "a <name> & \\"more\\" \\\\ \\u0007 \\n"
paths = ["/srv/skerry/keys/gate.key"]
read = { never = ["keeper"] }
because = "]]> & <it>"
"""


def test_junit_and_openmetrics(tmp_path: Path) -> None:
    file = tmp_path / "expected.toml"
    file.write_text(HOSTILE)
    words = ("check", "skerry", str(file), "--from", "skerry")
    same = machine(*words, status=1)["results"]
    done = fiat(*words, "--format", "junit")
    assert done.returncode == 1
    root = Xml.fromstring(done.stdout)
    (suite,) = root.findall("testsuite")
    assert (suite.get("tests"), suite.get("failures")) == ("7", "3")
    held = [case.find("failure") is None for case in suite.findall("testcase")]
    assert held == [one["held"] for one in same]
    names = [case.get("name") for case in suite.findall("testcase")]
    assert names[-1] == 'a <name> & "more" \\\\ \\x07 \\n'
    failure = suite.findall("testcase")[-1].find("failure")
    assert failure is not None
    assert (failure.text or "").endswith("because ]]> & <it>")

    done = fiat(*words, "--format", "openmetrics")
    families = {family.name: family for family in text_string_to_metric_families(done.stdout)}  # type: ignore[no-untyped-call]
    assert {family.type for family in families.values()} == {"gauge"}
    samples = {one.labels["expectation"]: one.value for one in families["fiat_expectation_held"].samples}
    assert list(samples) == names
    assert [bool(value) for value in samples.values()] == held
    assert sum(one.value for one in families["fiat_expectation_broken_paths"].samples) == 3


@pytest.mark.parametrize(
    "words",
    [
        ("audit", "--rules", "--format", "sarif"),
        ("check", "skerry", "--mend", "--format", "junit", "--from", "skerry"),
        ("check", "skerry", "--mend", "--format", "openmetrics", "--from", "skerry"),
    ],
)
def test_what_has_no_such_form_is_refused(words: tuple[str, ...]) -> None:
    done = fiat(*words)
    assert (done.returncode, done.stdout, "does not go with" in done.stderr) == (2, "", True), done.stderr

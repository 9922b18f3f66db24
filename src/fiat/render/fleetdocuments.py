"""Documents of many hosts in one: SARIF with a run for each, JUnit with a suite for each, OpenMetrics with a label."""

import json
from collections.abc import Callable, Mapping, Sequence
from xml.etree import ElementTree as Xml

from fiat.core.text import visible

Documents = Sequence[tuple[str, str]]
"""The documents of hosts, each with its host's name."""


def sarif(documents: Documents) -> str:
    """One log with the run of each host, whose properties name it; and so do those of each result (SARIF 2.1.0,
    sections 3.13.4, 3.14.3 and 3.8)."""
    runs = []
    for host, text in documents:
        for run in json.loads(text)["runs"]:
            run["automationDetails"] = {"id": f"{visible(host)}/"}
            run["properties"]["host"] = host
            for result in run["results"]:
                result["properties"]["host"] = host
            runs.append(run)
    return json.dumps({"version": "2.1.0", "runs": runs}, indent=1) + "\n"


def junit(documents: Documents) -> str:
    """The suite of each host, called after it; the counts of all."""
    root = Xml.Element("testsuites")
    totals = {"tests": 0, "failures": 0, "errors": 0}
    for host, text in documents:
        for suite in Xml.fromstring(text):
            suite.set("name", f"{suite.get('name')} {visible(host)}")
            suite.set("hostname", visible(host))
            root.append(suite)
            for name in totals:
                totals[name] += int(suite.get(name, "0"))
    root.attrib.update({name: str(count) for name, count in totals.items()})
    Xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(root, encoding="unicode") + "\n"


def openmetrics(documents: Documents) -> str:
    """Each family of metrics once (OpenMetrics 1.0, "MetricFamily"), its samples with the label ``host``."""
    families: dict[str, tuple[list[str], list[str]]] = {}
    for host, text in documents:
        about: list[str] = []
        samples: list[str] = []
        for line in text.splitlines():
            if line.startswith("# TYPE "):
                about, samples = families.setdefault(line.split(" ")[2], ([], []))
            if line == "# EOF":
                continue
            if line.startswith("#"):
                about += [] if line in about else [line]
            else:
                name, rest = line.split("{", 1)
                samples.append(f'{name}{{host="{_label(host)}",{rest}')
    lines = [line for about, samples in families.values() for line in (*about, *samples)]
    return "".join(f"{line}\n" for line in (*lines, "# EOF"))


def _label(text: str) -> str:
    return visible(text).replace("\\", "\\\\").replace('"', '\\"')


TOGETHER: Mapping[str, Callable[[Documents], str]] = {"sarif": sarif, "junit": junit, "openmetrics": openmetrics}
"""What makes one document of many, by the form."""

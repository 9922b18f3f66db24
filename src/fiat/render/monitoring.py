"""Expectations for build servers and for monitoring: JUnit XML, and OpenMetrics text."""

from collections.abc import Iterator, Sequence
from xml.etree import ElementTree as Xml

from fiat.app.check import sentence
from fiat.core.expect.holding import Holding
from fiat.core.text import visible


def junit(found: Sequence[Holding]) -> str:
    """One suite with a case for each expectation, in the dialect of the Ant task that the format is named for:
    ``testsuites``, ``testsuite``, ``testcase``, ``failure``, and ``error`` for what is not known.
    """
    broken, unknown = (sum(one.state == state for one in found) for state in ("broken", "unknown"))
    counts = {"tests": str(len(found)), "failures": str(broken), "errors": str(unknown)}
    root = Xml.Element("testsuites", counts)
    suite = Xml.SubElement(root, "testsuite", {"name": "fiat check", **counts, "skipped": "0"})
    for one in found:
        expectation = one.expectation
        name = {"classname": visible(expectation.paths[0]), "name": visible(expectation.name), "time": "0"}
        case = Xml.SubElement(suite, "testcase", name)
        if one.unknown:
            unread = [str(error) for error in one.unread]
            error = Xml.SubElement(case, "error", {"type": "unknown", "message": unread[0]})
            error.text = "\n".join(unread)
        elif not one.held:
            told = [f"{visible(each.first)}: {visible(sentence(each))}" for each in one.broken]
            failure = Xml.SubElement(case, "failure", {"type": expectation.weight, "message": told[0]})
            because = [f"because {visible(expectation.because)}"] if expectation.because else []
            failure.text = "\n".join([*told, *because])
    Xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(root, encoding="unicode") + "\n"


def openmetrics(found: Sequence[Holding]) -> str:
    """A gauge for whether each expectation holds, and one for on how many paths it does not; NaN where nobody knows."""
    return "".join(f"{line}\n" for line in _metrics(found))


def _metrics(found: Sequence[Holding]) -> Iterator[str]:
    values: dict[str, tuple[str, Sequence[int | str]]] = {
        "fiat_expectation_held": (
            "Whether an expectation holds.",
            ["NaN" if one.unknown else int(one.held) for one in found],
        ),
        "fiat_expectation_paths": ("How many paths an expectation is about.", [one.paths for one in found]),
        "fiat_expectation_broken_paths": (
            "On how many paths something is not as it was expected; a path counts for each thing.",
            ["NaN" if one.unknown else sum(len(each.places) for each in one.broken) for one in found],
        ),
    }
    for name, (about, numbers) in values.items():
        yield f"# TYPE {name} gauge"
        yield f"# HELP {name} {about}"
        for one, number in zip(found, numbers, strict=True):
            labels = f'expectation="{_label(one.expectation.name)}",weight="{one.expectation.weight}"'
            yield f"{name}{{{labels}}} {number}"
    yield "# EOF"


def _label(text: str) -> str:
    """A label's value: backslash, quotation mark and newline are escaped."""
    return visible(text).replace("\\", "\\\\").replace('"', '\\"')

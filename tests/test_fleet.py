"""A fleet answers as each of its hosts does, asked alone; what is equal stands there once."""

import csv
import io
import json
import os
import random
import re
import shutil
import xml.etree.ElementTree as Xml
from collections import Counter
from collections.abc import Sequence
from typing import Any

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

import fiat as library
from support.fleets import hosts_of, objects_in, renamed, renumbered, sample_lines, varied, write
from support.program import fiat

Record = dict[str, Any]

SEEDS = int(os.environ.get("FIAT_JUDGE_FLEETS", "4"))
HOSTS = [f"gauge{number:02}" for number in range(9)]

QUESTIONS = {
    "who": ("who", "/srv/skerry/gauge/raw/0412.csv", "/srv/skerry/keys"),
    "who below": ("who", "/srv/skerry", "--below"),
    "who can": ("who", "/srv/skerry", "--below", "--can", "write", "--user", "tidefeed"),
    "topmost": ("who", "/srv/skerry", "--below", "--can", "read", "--user", "auditor", "--topmost"),
    "why": ("why", "surveyor", "read,write", "/srv/skerry/series/reduced-2026.csv", "/srv/skerry/gauge/raw"),
    "show": ("show", "/srv/skerry/gauge/raw", "/srv/skerry/keys/lamp.key"),
    "show below": ("show", "/srv/skerry", "--below"),
    "show inside": ("show", "/srv/skerry/tools", "--inside"),
    "audit": ("audit", "/srv/skerry", "--weight", "plain"),
    "check": ("check", "skerry"),
}

NOT_COMPARED = frozenset(
    """hosts answer rows first size changed modified inode birth links filesystem device
    listed paths takes gives directories others places""".split()
)
"""What differs from host to host and makes no other answer of it, or is counted."""

COUNTED = {
    "who below": ("directories", "others", "places"),
    "who can": ("directories", "others"),
    "topmost": ("paths",),
}


@pytest.fixture(params=range(SEEDS), ids=lambda seed: f"seed {seed}")
def fleet(request: pytest.FixtureRequest, folder: str) -> str:
    """Most hosts alike, three of them with something of their own, one with much."""
    dice = random.Random(request.param)
    for place, host in enumerate(HOSTS):
        write(varied(dice, (0, 0, 0, 0, 0, 0, 1, 3, 12)[place]), folder, host)
    return folder


def reduced(value: Any) -> Any:
    """A record without what is not compared, and without the numbers of those who have names."""
    if isinstance(value, dict):
        named = value.get("name") is not None
        return {
            key: reduced(one)
            for key, one in value.items()
            if key not in NOT_COMPARED and not (named and key in ("uid", "gid"))
        }
    return [reduced(one) for one in value] if isinstance(value, list) else value


def text_of(record: Record) -> str:
    return json.dumps(reduced(record), sort_keys=True)


@pytest.mark.parametrize("question", QUESTIONS)
def test_a_fleet_answers_as_each_host_alone(fleet: str, question: str) -> None:
    words = QUESTIONS[question]
    done = fiat(*words, "--json", "--from", fleet)
    together = json.loads(done.stdout)
    said: dict[str, Counter[str]] = {host: Counter() for host in HOSTS}
    counts: Counter[tuple[str, str]] = Counter()
    keys = [text_of(record) for record in together["results"]]
    assert len(set(keys)) == len(keys), "equal results stand there twice"
    for record, key in zip(together["results"], keys, strict=True):
        for host in hosts_of(record):
            said[host][key] += 1
        for name in COUNTED.get(question, ()):
            counts[key, name] += record[name]
    statuses = set()
    for host in HOSTS:
        alone = fiat(*words, "--json", "--from", f"{fleet}/{host}/2026-11-30T020000Z.jsonl")
        statuses.add(alone.returncode)
        own = json.loads(alone.stdout)
        assert set(said[host]) == {text_of(record) for record in without_own_words(own["results"], fleet, host)}
        for record in own["results"]:
            for name in COUNTED.get(question, ()):
                counts[text_of(*without_own_words([record], fleet, host)), name] -= record[name]
        missing = {(one["path"], one["errno"]) for one in own["problems"]}
        assert missing == {(one["path"], one["errno"]) for one in together["problems"] if host in one["hosts"]}
    assert not any(counts.values()), "what is counted is not the sum"
    assert done.returncode == (3 if 3 in statuses or 2 in statuses else max(statuses)), statuses


def without_own_words(records: list[Record], fleet: str, host: str) -> list[Record]:
    """Commands name the snapshot where one is asked; for a fleet they are typed on the host."""
    own = f" --from {fleet}/{host}/2026-11-30T020000Z.jsonl"
    found: list[Record] = json.loads(json.dumps(records).replace(own, ""))
    return found


@pytest.mark.parametrize(
    ("question", "join"),
    [
        (question, join)
        for question in (*QUESTIONS, "between")
        for join in ("name", "uid")
        if (question, join) != ("check", "uid")  # expectations name people, who are others there
    ],
)
def test_who_is_joined_is_told_once(folder: str, question: str, join: str) -> None:
    """A host on which all have other numbers, or other names, says the same."""
    lines = sample_lines()
    write(lines, folder, "cliff")
    write(lines, folder, "crag")
    other = renumbered(lines, 500) if join == "name" else renamed(lines, lambda name: f"{name}2")
    write(other, folder, "skua")
    words = (
        ("compare", folder, "--between-hosts") if question == "between" else (*QUESTIONS[question], "--from", folder)
    )
    for form in ("json", "text"):
        done = fiat(*words, "--same-people", join, "--format", form)
        if form == "json":
            together = json.loads(done.stdout)
            assert all(len(record["hosts"]) == 3 for record in together["results"])
            assert bool(together["results"]) is (question != "between")
            assert together["people"], "that they differ is said"
        else:
            assert done.stdout.count("\non ") == (question != "between"), done.stdout
            assert "Note: the same" in done.stdout
    others = fiat(*words, "--same-people", "uid" if join == "name" else "name", "--json")
    if question not in ("who can", "topmost", "why", "check"):
        hosts = [record["hosts"] for record in json.loads(others.stdout)["results"]]
        assert ["skua"] in hosts, "joined the other way it is another answer"


@pytest.mark.parametrize("words", [(), ("--can", "read", "--user", "steward"), ("--can", "write", "--user", "keeper")])
def test_text_counts_what_is_on_all_hosts(folder: str, words: tuple[str, ...]) -> None:
    """On three hosts that are alike there is three times as much of everything, and what stands alone stays alone."""
    for host in HOSTS[:3]:
        write(sample_lines(), folder, host)

    def counts(where: str) -> Counter[tuple[str, int]]:
        found: Counter[tuple[str, int]] = Counter()
        for line in fiat("who", "/srv/skerry", "--below", *words, "--from", where).stdout.splitlines():
            counted = re.findall(r"(\d+) (paths?\)|director(?:y|ies)\b|files?\b)", line) if "/srv" in line else []
            found.update((kind[:4], int(number)) for number, kind in counted)
            found[line.strip(), 0] += line.strip().startswith("/srv/") and not counted
        return +found

    alone = counts(f"{folder}/{HOSTS[0]}/2026-11-30T020000Z.jsonl")
    one_by_name = {key: count for key, count in alone.items() if key[0] in ("dire", "file", "path")}
    together = counts(folder)
    if words:
        assert together == Counter({(kind, number * 3): count for (kind, number), count in alone.items()})
        assert alone
    else:  # an answer of one object is told by its name where one host is asked, and counted for several
        assert all(together[kind, number * 3] >= count for (kind, number), count in one_by_name.items())
        assert not any(number % 3 for _, number in together)


def many_people(members: Sequence[int]) -> list[Record]:
    """The sample host with thirty more people, some of whom are in watch: more than text names."""
    lines = sample_lines()
    place = next(number for number, line in enumerate(lines) if "group" in line and "path" not in line)
    lines[place:place] = [
        {"user": {"name": f"hand{number:02}", "uid": 7500 + number, "gid": 7399, "home": "/"}} for number in range(30)
    ]
    watch = next(line["group"] for line in lines if "path" not in line and line.get("group", {}).get("name") == "watch")
    watch["members"] = [*watch["members"], *(f"hand{number:02}" for number in members)]
    return lines


@pytest.mark.parametrize(
    "words",
    [
        ("who", "/srv/skerry/gauge/raw"),
        ("who", "/srv/skerry/gauge", "--below"),
        ("who", "/srv/skerry/gauge", "--below", "--all"),
        ("show", "/srv/skerry/gauge/raw"),
        ("audit", "/srv/skerry/tools", "--weight", "plain"),
        ("check", "skerry"),
    ],
)
def test_what_only_reads_alike_is_not_the_same(folder: str, words: tuple[str, ...]) -> None:
    """Two hosts differ in somebody whom text has no room to name: they are not told as one."""
    write(many_people(range(20)), folder, "cliff")
    write(many_people([*range(19), 25]), folder, "crag")
    write(many_people(range(20)), folder, "skua")
    text = fiat(*words, "--from", folder).stdout
    assert "\non crag\n" in text
    assert "\non 2 hosts: cliff, skua\n" in text
    found = json.loads(fiat("compare", folder, "--between-hosts", "/srv/skerry/gauge", "--json").stdout)["results"]
    read = next(one["rights"]["read"] for one in found if one["path"] == "/srv/skerry/gauge/raw")
    assert {"hand25"} == {*read["people"]} & {"hand19", "hand25"}
    assert "also hand25; not hand19" in fiat("compare", folder, "--between-hosts", "/srv/skerry/gauge").stdout


def test_the_sample_fleet() -> None:
    done = fiat("compare", "skerry-fleet", "--between-hosts", "/srv/skerry/keys")
    assert done.returncode == 1
    assert done.stdout.startswith("on ness\n")
    assert "read and traverse: everyone" in done.stdout


def test_python_asks_each_host(fleet: str) -> None:
    found = json.loads(fiat("why", "surveyor", "read", "/srv/skerry/gauge/raw", "--json", "--from", fleet).stdout)
    told = {host: one["allowed"] for one in found["results"] for host in hosts_of(one)}
    hosts = dict(library.open_fleet(fleet))
    assert list(hosts) == HOSTS
    paths = {name: library.why(host, "surveyor", "read", "/srv/skerry/gauge/raw") for name, host in hosts.items()}
    assert {name: one.verdict.allowed for name, one in paths.items()} == told
    assert [name for name, _ in library.open_fleet(fleet, hosts=["*1", "*2"])] == HOSTS[1:3]


def test_lists_name_the_host_in_each_row(fleet: str) -> None:
    words = QUESTIONS["who below"]
    rows = list(csv.reader(io.StringIO(fiat(*words, "--format", "csv", "--from", fleet).stdout)))
    lines = [json.loads(line) for line in fiat(*words, "--format", "jsonl", "--from", fleet).stdout.splitlines()]
    assert "problems" in lines[-1]
    for host in HOSTS:
        alone = ("--from", f"{fleet}/{host}/2026-11-30T020000Z.jsonl")
        own = list(csv.reader(io.StringIO(fiat(*words, "--format", "csv", *alone).stdout)))
        assert [row[1:] for row in rows if row[0] in ("host", host)] == own
        own_lines = [json.loads(line) for line in fiat(*words, "--format", "jsonl", *alone).stdout.splitlines()][1:-1]
        assert [line for line in lines if line.get("host") == host] == [{"host": host, **line} for line in own_lines]


def test_documents_have_the_host_as_a_label(fleet: str) -> None:
    metrics = fiat("check", "skerry", "--format", "openmetrics", "--from", fleet).stdout
    held = {}
    for family in text_string_to_metric_families(metrics):  # type: ignore[no-untyped-call]  # monitoring reads it so
        for sample in family.samples:
            held[family.name, sample.labels["host"], sample.labels["expectation"]] = sample.value
    suites = Xml.fromstring(fiat("check", "skerry", "--format", "junit", "--from", fleet).stdout)
    assert [suite.get("hostname") for suite in suites] == HOSTS
    runs = json.loads(fiat("audit", "/srv/skerry", "--format", "sarif", "--from", fleet).stdout)["runs"]
    assert [run["properties"]["host"] for run in runs] == HOSTS
    for host, suite, run in zip(HOSTS, suites, runs, strict=True):
        alone = ("--from", f"{fleet}/{host}/2026-11-30T020000Z.jsonl")
        for one in json.loads(fiat("check", "skerry", "--json", *alone).stdout)["results"]:
            assert held["fiat_expectation_held", host, one["expectation"]] == one["held"] or one["held"] is None
        assert int(suite.get("failures", "")) == len(suite.findall("testcase/failure"))
        own = json.loads(fiat("audit", "/srv/skerry", "--format", "sarif", *alone).stdout)["runs"][0]
        assert [one["message"] for one in run["results"]] == [one["message"] for one in own["results"]]
        assert all(one["properties"]["host"] == host for one in run["results"])


def test_hosts_are_chosen_and_what_is_wrong_with_them_is_said(folder: str) -> None:
    lines = sample_lines()
    for host in ("cliff", "crag", "skua"):
        write(lines, folder, host, "2026-11-28T020000Z")
        write(varied(random.Random(7), 9), folder, host, "2026-11-29T020000Z")
    write(lines, folder, "skua", "2026-11-30T020000Z")
    os.mkdir(f"{folder}/heron")
    shutil.copy(f"{folder}/cliff/2026-11-28T020000Z.jsonl", f"{folder}/loose.jsonl")

    def hosts(*words: str, status: int = 0) -> list[str]:
        done = fiat("show", "/srv/skerry/keys", "--json", "--from", folder, *words)
        assert done.returncode == status, done
        found = json.loads(done.stdout)
        return sorted(host for record in found["results"] for host in hosts_of(record))

    assert hosts(status=3) == ["cliff", "crag", "skua"], "one without a snapshot is missing"
    assert hosts("--host", "c*") == ["cliff", "crag"]
    assert hosts("--host", "skua", "--host", "crag") == ["crag", "skua"]
    assert hosts("--host", "*a", "--at", "2026-11-27T00:00+00:00", status=3) == []
    assert hosts("--host", "c*", "--not-older", "2026-11-29T01:00+00:00") == ["cliff", "crag"]
    assert hosts("--not-older", "2026-11-30T01:00+00:00", status=3) == ["skua"]
    then = fiat("show", "/srv/skerry", "--below", "--host", "cliff", "--at", "2026-11-28T12:00+00:00", "--from", folder)
    now = fiat("show", "/srv/skerry", "--below", "--host", "cliff", "--from", folder)
    assert then.stdout != now.stdout
    wrong = fiat("show", "/srv/skerry", "--host", "clif", "--from", folder)
    assert wrong.returncode == 2
    assert "near is 'cliff'" in wrong.stderr

    with open(f"{folder}/crag/2026-11-30T020000Z.jsonl", "w", encoding="utf-8") as file:
        file.write(open(f"{folder}/skua/2026-11-30T020000Z.jsonl", encoding="utf-8").read()[:5000])  # noqa: SIM115
    cut = fiat("who", "/srv/skerry/keys", "--from", folder, "--host", "c*")
    assert cut.returncode == 3
    assert "(on crag)" in cut.stderr
    assert "on cliff" in cut.stdout
    with open(f"{folder}/crag/2026-11-30T030000Z.jsonl", "w", encoding="utf-8") as file:
        file.write('{"schema": "fiat-snapshot/9"}\n')
    other = fiat("who", "/srv/skerry/keys", "--from", folder, "--host", "c*")
    assert other.returncode == 3
    assert "fiat-snapshot/2" in other.stderr


@pytest.mark.parametrize(
    ("words", "word"),
    [
        (("set", "/srv/skerry/keys", "--mode", "0700", "--preview"), "asks one host"),
        (("let", "keeper", "read", "/srv/skerry/keys"), "asks one host"),
        (("who", "/srv/skerry", "--below", "--can", "read", "--user", "keeper", "--null"), "--null"),
        (("check", "skerry", "--mend"), "--mend"),
        (("who", "/srv/skerry", "--elevated", "--same-people", "uid"), "--elevated"),
        (("who", "/srv/skerry", "--engine", ""), "--engine"),
        (("who", "/srv/skerry", "--at", "sometime"), "sometime"),
        (("who", "/srv/skerry", "--host", "heron"), "no host is called 'heron'"),
    ],
)
def test_what_fleets_are_not_asked_is_refused(folder: str, words: tuple[str, ...], word: str) -> None:
    write(sample_lines(), folder, "cliff")
    write(sample_lines(), folder, "crag")
    done = fiat(*words, "--from", folder)
    assert done.returncode == 2
    assert word in done.stderr
    assert not done.stdout


def test_options_of_fleets_need_one(folder: str) -> None:
    write(sample_lines(), folder, "cliff")
    alone = fiat("compare", folder, "--between-hosts")
    assert (alone.returncode, alone.stdout) == (2, "")
    assert "nothing to compare it with" in alone.stderr
    none = fiat("who", "/srv/skerry", "--from", f"{folder}/cliff/none")
    assert none.returncode == 2
    done = fiat("who", "/srv/skerry", "--from", "skerry", "--host", "x")
    assert done.returncode == 2
    assert "--from FOLDER" in done.stderr


# --- compared ---------------------------------------------------------------------------


def test_the_hosts_that_deviate_are_found(folder: str) -> None:
    """Against a plain count of what each host's snapshot has."""
    for seed in range(SEEDS):
        dice = random.Random(seed)
        shutil.rmtree(folder)
        fleet = [varied(dice, (0, 0, 0, 0, 0, 0, 1, 3, 12)[place]) for place in range(len(HOSTS))]
        files = [one["path"] for one in objects_in(sample_lines()) if one["kind"] == "file"]
        for path, most in zip(dice.sample(files, 8), range(1, 9), strict=True):  # on some hosts they are missing
            for lines in dice.sample(fleet, most):
                lines[:] = [line for line in lines if line.get("path") != path]
        for host, lines in zip(HOSTS, fleet, strict=True):
            write(lines, folder, host)
        done = fiat("compare", folder, "--between-hosts", "/srv/skerry", "--json")
        found = json.loads(done.stdout)["results"]
        told = {
            (host, path) for one in found if one["kind"] != "rights" for path in one["listed"] for host in one["hosts"]
        }
        assert told == deviating(fleet), done.stdout
        assert done.returncode == bool(found)
        rights = [one for one in found if one["kind"] == "rights"]
        for one in rights[:: max(len(rights) // 6, 1)]:  # what is said there is what who says of that host
            for host in one["hosts"]:
                alone = fiat("who", one["path"], "--json", "--from", f"{folder}/{host}/2026-11-30T020000Z.jsonl")
                short = json.loads(alone.stdout)["results"][0]["short"]
                assert {name: people["short"] for name, people in one["rights"].items()} == {
                    right: short[right] for right in one["rights"]
                }
        numbers = [len(one["hosts"]) for one in found]
        assert numbers == sorted(numbers), "the rarest come first"


def deviating(fleet: list[list[Record]]) -> set[tuple[str, str]]:
    """The host and the path, where a posture is not that of most of the hosts; the first of them where it is even."""
    known: dict[str, dict[str, str]] = {}
    for host, lines in zip(HOSTS, fleet, strict=True):
        for one in objects_in(lines):
            facts = [one[name] for name in ("kind", "mode", "owner", "group")]
            facts += [one.get(name) for name in ("acl", "default", "flags", "capabilities")]
            known.setdefault(one["path"], {})[host] = json.dumps(facts, sort_keys=True)
    found = set()
    for path, said in known.items():
        most, _ = Counter(said.values()).most_common(1)[0]
        found |= {(host, path) for host in said if said[host] != most}
        if len(said) * 2 > len(HOSTS):
            found |= {(host, path) for host in HOSTS if host not in said}
    return found


def test_two_fleets_are_compared_host_by_host(folder: str) -> None:
    dice = random.Random(3)
    for host in HOSTS:
        write(sample_lines(), f"{folder}/then", host)
        write(varied(dice, 4 if host == HOSTS[2] else 0), f"{folder}/now", host)
    write(sample_lines(), f"{folder}/now", "newcomer")
    done = fiat("compare", f"{folder}/then", f"{folder}/now", "--json")
    together = json.loads(done.stdout)
    assert done.returncode == 3, "one is on one side alone"
    assert [one["hosts"] for one in together["problems"]] == [["newcomer"]]
    pair = (f"{folder}/{when}/{HOSTS[2]}/2026-11-30T020000Z.jsonl" for when in ("then", "now"))
    alone = json.loads(fiat("compare", *pair, "--json").stdout)
    assert [reduced(one) for one in together["results"]] == [reduced(one) for one in alone["results"]]
    assert {host for one in together["results"] for host in one["hosts"]} == {HOSTS[2]}
    text = fiat("compare", f"{folder}/then", f"{folder}/now", "--host", "gauge*")
    assert text.returncode == 1
    assert f"on {HOSTS[2]}\n" in text.stdout
    assert "Nothing differs" in text.stdout

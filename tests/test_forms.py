"""The forms of an answer for a tree, which are written many entries at a time: the same as entry by entry."""

import csv
import io
import json
import os
import random
import signal
from collections.abc import Callable
from contextlib import redirect_stdout
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fiat
from fiat.app import look
from fiat.app.hosts import arrive
from fiat.cli.main import main
from fiat.core.ask.remarks import remarks_on
from fiat.core.model import listbytes
from fiat.core.model.accesslist import AccessList, Entry, Tag
from fiat.core.model.posture import Identity, Kind, Object, Posture, Status
from fiat.core.text import natural_order, visible
from fiat.core.tree.assembly import Assembly, Batch
from fiat.core.tree.natural import natural_places
from fiat.core.words import naming
from fiat.engine.laying import sorter_of
from fiat.engine.processes import in_order
from fiat.host.live.host import LiveHost
from fiat.render import several
from fiat.render.lines import csv_cell
from fiat.render.objects import ObjectFields, flat_row

NAMES = (
    b"plain", b"a,b", b'quo"te', b"new\nline", b"bad\xff\xfe", "été".encode(), "\u202eevil".encode(), b"back\\slash",
    b"sp ace ", b" lead", b"f10", b"f9", b"F2", b"esc\x1b[31m", "漢字".encode(), b"\xc3", b"\xa9", b"x" * 120, b"007",
    b"7", b"10%s", b"{0}", b"\r", b"-dash", b"7 ", b"a1b", b"a12",
)  # fmt: skip
"""Names that some form could stumble over."""


@pytest.fixture
def tree(tmp_path: Path) -> str:
    """A tree of such names, with everything that has a column of its own; accounts for some of its owners."""
    dice = random.Random(11)
    top = os.fsencode(tmp_path / "tree")
    os.mkdir(top)
    folders = [top]
    for _ in range(140):
        place = dice.choice(folders) + b"/" + dice.choice(NAMES)
        if os.path.lexists(place):
            continue
        kind = dice.randrange(8)
        if kind < 2:
            os.mkdir(place)
            folders.append(place)
        elif kind == 2:
            os.symlink(dice.choice(NAMES), place)
            continue
        elif kind == 3:
            os.mkfifo(place)
        elif kind == 4 and len(folders) > 3 and os.path.exists(top + b"/linked"):
            os.link(top + b"/linked", place)
            continue
        else:
            Path(os.fsdecode(place)).write_bytes(
                dice.choice((b"", b"#!/bin/sh\n", b"#!/7000000000000000001/%s\n", b"some text"))
            )
        os.chmod(place, dice.choice((0o644, 0o755, 0o600, 0o4755, 0o2640, 0o666)) | (0o700 if kind < 2 else 0))
        if dice.random() < 0.3:
            acl = AccessList(
                (
                    Entry(Tag.OWNER, 7),
                    Entry(Tag.NAMED_USER, dice.randrange(8), 7000 + dice.randrange(3)),
                    Entry(Tag.OWNING_GROUP, 5),
                    Entry(Tag.MASK, dice.randrange(1, 8)),
                    Entry(Tag.OTHER, 0),
                )
            )
            os.setxattr(place, listbytes.ACCESS_XATTR, listbytes.pack(acl))
        if os.geteuid() == 0:
            os.chown(place, 7000 + dice.randrange(4), 7200 + dice.randrange(3))
        if not os.path.exists(top + b"/linked"):
            Path(os.fsdecode(top + b"/linked")).write_bytes(b"of several names")
    people = ("root:x:0:0", "keeper:x:7000:7200", "7000000000000000012:x:7001:7201", "/put:x:7002:7201")
    (tmp_path / "passwd").write_text("".join(f"{one}::/:/bin/sh\n" for one in people))
    (tmp_path / "group").write_text("root:x:0:\nwatch:x:7200:keeper\nsurvey:x:7201:\n")
    return os.fsdecode(top)


@pytest.fixture(params=[25_000, 7], ids=["by this process", "by several"])
def pieces(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Write all of it in one piece, or in many."""
    monkeypatch.setattr(several, "_PIECE", request.param)


def printed(*words: str) -> str:
    text = io.StringIO()
    text.reconfigure = lambda **options: None  # type: ignore[attr-defined]
    with redirect_stdout(text):
        assert main(list(words)) == 0
    return text.getvalue()


def listed(tree: str) -> list[Any]:
    """Each entry of the tree as a record, made one by one."""
    host = LiveHost(fiat.open_host(accounts=os.path.dirname(tree)).accounts)
    (route,) = arrive(host, [tree])
    found = look.tree_listing(host, route)
    assert found is not None
    survey, places = found.read()
    write = ObjectFields(host.accounts)
    objects = [survey.object(place) for place in places.tolist()]
    return [write.of(one, remarks_on(one, host.accounts)) for one in objects]


@pytest.mark.usefixtures("pieces")
def test_a_listed_tree_is_written_as_its_entries_are(tree: str) -> None:
    words = ("show", "--below", tree, "--accounts", os.path.dirname(tree), "--format")
    records = listed(tree)
    assert len(records) > 60
    assert json.loads(printed(*words, "json"))["results"] == json.loads(json.dumps(records))
    rows = list(csv.DictReader(io.StringIO(printed(*words, "csv"), newline="")))
    assert rows == [{name: csv_cell(value) for name, value in flat_row(record).items()} for record in records]


@pytest.mark.usefixtures("pieces")
def test_the_answers_for_a_tree_are_written_as_they_are(tree: str) -> None:
    folder = os.path.dirname(tree)
    told = fiat.who_below(fiat.open_host(accounts=folder), tree)
    names = {place: naming.word_for(who) for place, who in enumerate(told.universe.principals)}

    def users(bits: int | None) -> list[str] | None:
        kinds = [who.kind for who in told.universe.principals]
        return None if bits is None else [names[at] for at in names if bits >> at & 1 and kinds[at] == "user"]

    expected = {}
    for place, path in enumerate(told.survey.paths()):
        answer = told.answers.keys[told.answers.number[place]]
        expected[path] = dict(zip(map(str, told.rights), map(users, answer), strict=True))
    words = ("who", "--below", tree, "--accounts", folder, "--format")
    answers: dict[int, Any] = {}
    found = {}
    for line in map(json.loads, printed(*words, "jsonl").splitlines()[1:-1]):
        if "path" not in line:
            assert line["answer"] == len(answers) + 1  # each before the first path that has it
            answers[line["answer"]] = line["rights"]
        else:
            rights = answers[line["answer"]]
            found[line["path"]] = {right: people and people["users"] for right, people in rights.items()}
    assert found == expected
    rows = csv.DictReader(io.StringIO(printed(*words, "csv"), newline=""))
    of_rows = {row["path"]: {right: row[right] for right in map(str, told.rights)} for row in rows}
    assert of_rows == {
        visible(path): {right: csv_cell(people) for right, people in rights.items()}
        for path, rights in expected.items()
    }


# --- what they stand on -----------------------------------------------------------------


@given(st.sets(st.one_of(st.sampled_from(NAMES), st.binary(min_size=1, max_size=40)), min_size=1, max_size=40))
def test_names_stand_in_the_order_that_people_expect(names: set[bytes]) -> None:
    chosen = sorted(name for name in names if not set(name) & {0, ord("/")})
    top = Object("/", Posture(Kind.DIRECTORY, 0o755, 0, 0), Status(Identity("", 0)))
    assembly = Assembly(top)
    count = len(chosen)
    assembly.add(
        Batch(
            profile=np.zeros(count, np.int32),
            inode=np.zeros(count, np.uint64),
            links=np.ones(count, np.uint32),
            birth=np.zeros(count, np.int64),
            name_lengths=np.array([len(name) for name in chosen], np.uint16),
            names=b"".join(chosen),
            directories=np.array([-1], np.int32),
            counts=np.array([count], np.int32),
        ),
        [0],
    )
    survey = assembly.survey()
    expected = sorted(map(os.fsdecode, chosen), key=natural_order)
    for sorter in (None, sorter_of(survey)):  # Python's own, and the compiled one where there is one
        assert [survey.name(place) for place in natural_places(survey, sorter).tolist()] == expected


@pytest.fixture
def three(monkeypatch: pytest.MonkeyPatch) -> Callable[[int], int]:
    """Three processors, and work on which some processes are killed, but not this one."""
    monkeypatch.setattr(os, "sched_getaffinity", lambda process: {0, 1, 2})
    here = os.getpid()

    def work(piece: int) -> int:
        if piece % 5 == 4 and os.getpid() != here:
            os.kill(os.getpid(), signal.SIGKILL)
        return piece * piece

    return work


def test_pieces_come_in_order_even_where_processes_are_killed(three: Callable[[int], int]) -> None:
    for count in (0, 1, 2, 40):
        assert list(in_order(count, three)) == [piece * piece for piece in range(count)]

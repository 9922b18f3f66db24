"""Pictures: their data against the commands that say the same, their layout, and what is drawn against the layout."""

import io
import itertools
import json
import os
import pwd
import stat
import struct
import subprocess
import xml.etree.ElementTree as ET
import zlib
from collections import Counter
from typing import Any

import pytest

from fiat.render.charts import drawing, letters
from fiat.render.charts.picture import HEIGHT, WIDTH, Box, Line, Picture, Shape, Words
from support.program import fiat

S = "/srv/skerry"
PATHS = [
    f"{S}/{name}"
    for name in (
        "keys",
        "dropbox",
        "logbook",
        "gauge",
        "gauge/raw/0412.csv",
        "observatory",
        "charts/draft",
        "charts/print",
        "tools/reduce",
    )
]
WHY = ("why", "surveyor", "read", f"{S}/observatory/2026/november/barometer.csv", "--from", "skerry")
PICTURES: dict[str, tuple[str, ...]] = {
    "who": ("who", *PATHS, "--from", "skerry"),
    "who can": ("who", *PATHS, "--can", "delete,change-mode", "--from", "skerry"),
    "who of one": ("who", PATHS[0], "--user", "keeper", "--from", "skerry"),
    "below": ("below", S, "--from", "skerry"),
    "below of one": ("below", S, "--can", "read", "--user", "auditor", "--from", "skerry"),
    "change": ("change", "compare", "skerry", "skerry-later"),
    "change to come": ("change", "set", f"{S}/observatory", "--below", "--mode", "o+rX,g-r", "--from", "skerry"),
    "why": WHY,
    "why in steps": ("why", "auditor", "read", f"{S}/keys/lamp.key", "--from", "skerry"),
    "why allowed": ("why", "keeper", "write", f"{S}/logbook", "--from", "skerry"),
    "over-time": ("over-time", "skerry", "skerry-later", "--on", f"{S}/keys", "--expect", "skerry"),
}
HOSTILE = ["$x^2$ $", "a\nb", "\x1b[31m", os.fsdecode(b"\xff\xfe"), "‮evil", "<b>&amp;", "名前", "x" * 250, "\\frac"]


def asked(*words: str) -> dict[str, Any]:
    """What a command says as JSON, whatever the answer."""
    done = fiat(*words, "--json")
    assert done.returncode in (0, 1), done
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def picture(*words: str) -> dict[str, Any]:
    (found,) = asked("chart", *words)["results"]
    assert isinstance(found, dict)
    return found


def marks(found: dict[str, Any], kind: str, about: str = "") -> list[dict[str, Any]]:
    return [one for one in found["marks"] if one["mark"] == kind and one["about"].startswith(about)]


def laid_out(found: dict[str, Any]) -> None:
    """No text stands over another, all of it is on the page, and nothing reaches out of it."""
    words = marks(found, "words")
    for one in words:
        assert one["x"] >= 0
        assert one["y"] >= 0
        assert one["x"] + one["width"] <= WIDTH
        assert one["y"] + one["height"] <= HEIGHT
        assert one["size"] >= 9
        assert one["text"].isprintable()
    for one, other in itertools.combinations(words, 2):
        across = one["x"] < other["x"] + other["width"] - 0.5 and other["x"] < one["x"] + one["width"] - 0.5
        # letters without an end below the line leave room there
        down = one["y"] < other["y"] + 0.86 * other["height"] and other["y"] < one["y"] + 0.86 * one["height"]
        assert not (across and down), (one, other)
    for one in marks(found, "box"):
        assert min(one["x"], one["y"]) >= 0
        assert one["x"] + one["width"] <= WIDTH + 0.01
        assert one["y"] + one["height"] <= HEIGHT + 0.01


@pytest.mark.parametrize("name", PICTURES)
def test_layout_and_data(name: str) -> None:
    found = picture(*PICTURES[name])
    laid_out(found)
    {"who": of_who, "below": of_below, "change": of_change, "why": of_why, "over-time": of_over_time}[name.split()[0]](
        found, PICTURES[name]
    )


def of_who(found: dict[str, Any], words: tuple[str, ...]) -> None:
    """Each cell says what the command says of that path and that user, and its signs stand in its row and column."""
    answers = {one["path"]: one for one in asked(*(word for word in words))["results"]}
    columns = found["columns"]
    named = [name for column in columns for name in column["people"]]
    assert len(named) == len(set(named))
    for row, paths in enumerate(found["rows"]):
        for column, people in enumerate(columns):
            cell = found["cells"][row][column]
            for path in paths:
                users = {user["name"]: user for user in answers[path]["users"]}
                told = [users[name] for name in people["people"] if name in users]
                told += [answers[path]["anyone_else"]] if people["anyone_else"] else []
                assert told
                assert all(one[right] is has for one in told for right, has in cell.items())
    tops = {one["about"]: one for one in marks(found, "words", "column")}
    rows = {one["about"]: one for one in marks(found, "words", "row")}
    signs = marks(found, "shape", "cell")
    assert signs
    drawn = {}
    for sign in signs:
        _, row, column, right = sign["about"].split()
        drawn[row, column, right] = sign["form"] != "dot"
        head, side = tops[f"column {column}"], rows[f"row {row}"]
        assert abs(sign["x"] - head["x"] - head["width"] / 2) < 50
        assert abs(sign["y"] - side["y"]) < 40
    shown = [(row, column) for row in range(found["shown"]["rows"]) for column in range(len(columns))]
    expected = {
        (str(row), str(column), right): has
        for row, column in shown
        if columns[column]["shown"]
        for right, has in found["cells"][row][column].items()
    }
    assert drawn == expected
    usual = next(at for at, column in enumerate(columns) if column["usual"])
    unusual = {tuple(map(int, one["about"].split()[2:])) for one in marks(found, "box", "unusual")}
    assert unusual == {
        (row, column)
        for row, column in shown
        if found["cells"][row][column] != found["cells"][row][usual]
        and not columns[column]["superuser"]
        and columns[column]["shown"]
    }


def of_below(found: dict[str, Any], words: tuple[str, ...]) -> None:
    """The boxes fill the map and do not overlap; each is as large as it has entries, in the bands that the command
    counts."""
    boxes = found["boxes"]
    area = sum(box["width"] * box["height"] for box in boxes)
    whole = sum(box["value"] for box in boxes)
    for box in boxes:
        assert box["width"] * box["height"] == pytest.approx(area * box["value"] / whole, rel=1e-6)
        assert sum(box["entries"].values()) == box["value"]
    for one, other in itertools.combinations(boxes, 2):
        across = min(one["x"] + one["width"], other["x"] + other["width"]) - max(one["x"], other["x"])
        down = min(one["y"] + one["height"], other["y"] + other["height"]) - max(one["y"], other["y"])
        assert across < 1e-6 or down < 1e-6
    left, top = min(box["x"] for box in boxes), min(box["y"] for box in boxes)
    right = max(box["x"] + box["width"] for box in boxes)
    bottom = max(box["y"] + box["height"] for box in boxes)
    assert (right - left) * (bottom - top) == pytest.approx(area, rel=1e-6)
    expected, opened = counted_otherwise(words)
    of_boxes = Counter[str]()
    for box in boxes:
        of_boxes.update(box["entries"])
    assert of_boxes == expected
    assert {band["name"]: band["entries"] for band in found["bands"] if band["entries"]} == {
        name: count for name, count in expected.items() if name != "does not apply"
    }
    assert sum(one["paths"] for one in found["open_to_anyone"]) == opened


def counted_otherwise(words: tuple[str, ...]) -> tuple[Counter[str], int]:
    """How many entries are in each band, by each path's own answer; and how many are open to anyone."""
    right = words[words.index("--can") + 1] if "--can" in words else "write"
    user = words[words.index("--user") + 1] if "--user" in words else None
    host = words[words.index("--from") :]
    bands, opened = Counter[str](), 0
    shown = asked("show", words[1], "--below", *host)["results"]
    links = {one["path"] for one in shown if one["kind"] == "symlink"}
    for path in (words[1], *(one["path"] for one in shown)):
        (answer,) = asked("who", path, *host)["results"]
        users = [one for one in answer["users"] if one[right] and one["uid"] != 0]
        anyone = answer["anyone_else"][right]
        if path in links:
            bands["does not apply"] += 1
            continue
        if user is not None and not any(one["name"] == user for one in users):
            bands["no"] += 1
        elif anyone:
            bands["anyone"] += 1
            opened += 1
        elif user is not None:
            bands["yes"] += 1
        else:
            names = ["nobody but root", "1 user", *["2 or 3 users"] * 2, *["4 to 9 users"] * 6]
            bands[names[len(users)] if len(users) < len(names) else "10 users or more"] += 1
    return bands, opened


def of_change(found: dict[str, Any], words: tuple[str, ...]) -> None:
    """Rows hold what the command says that people gain and lose; signs stand on the side where they have the right."""
    told = asked(*words[1:], *(("--preview",) if words[1] == "set" else ()))
    for side in ("gains", "losses"):
        plain = {(one["who"], one["right"]): one["paths"] for one in told[side]}
        assert {(one["who"], one["right"]): one["paths"] for one in found[side]} == plain
        rows = {
            (who, right): paths for row in found["rows"] for who in row["people"] for right, paths in row[side].items()
        }
        assert rows
        assert rows.items() <= plain.items()
    heads = {one["text"]: one for one in marks(found, "words", "column")}
    for one in [*marks(found, "shape", "gains"), *marks(found, "shape", "loses")]:
        what, _, row, right = one["about"].split()
        after = one["x"] > heads[right]["x"] + heads[right]["width"] / 2
        assert (one["form"] != "dot") is (after is (what == "gains"))
        assert right in found["rows"][int(row)]["gains" if what == "gains" else "losses"]
    paths = {one["path"] for one in told["results"] if one["before"] and one["after"] and one["before"] != one["after"]}
    assert {path for one in found["changes"] for path in one["examples"]} <= paths


def of_why(found: dict[str, Any], words: tuple[str, ...]) -> None:
    """The steps are those that the command tells, one below the other; the stop is where it says."""
    (told,) = asked(*words)["results"]
    assert {name: found[name] for name in told} == told
    passed = marks(found, "shape", "passed")[::2]
    stopped = marks(found, "shape", "stopped")
    assert [one["about"].split()[2] for one in passed] == [step["path"] for step in told["steps"] if step["allowed"]]
    assert [one["y"] for one in passed] == sorted(one["y"] for one in passed)
    assert {one["about"].split()[2] for one in stopped} == ({told["blocker"]} if told["blocker"] else set())
    commands = [one["command"] for one in told["changes"] if one["command"]]
    assert sorted(commands) == sorted(one["text"] for one in marks(found, "words", "advice") if one["mono"])
    refusing = {step["path"] for step in (*told["steps"], *told["beyond"]) if not step["allowed"]}
    places = [one["text"].partition(" at ")[2] for one in marks(found, "words", "advice at")]
    assert set(places) == (refusing if len(refusing) > 1 else set())
    assert {one["about"].split()[3] for one in marks(found, "shape", "not reached") if one["form"] == "stop"} == {
        step["path"] for step in told["beyond"] if not step["allowed"]
    }


def of_over_time(found: dict[str, Any], words: tuple[str, ...]) -> None:
    """Each moment says what the commands say of that snapshot; marks stand the higher the more there are."""
    assert [moment["snapshot"].rpartition("/")[2].partition(".")[0] for moment in found["moments"]] == [
        "skerry",
        "skerry-later",
    ]
    for moment, host in zip(found["moments"], words[1:3], strict=True):
        (answer,) = asked("who", words[4], "--from", host)["results"]
        assert len(moment["can"]) == 2
        for one in moment["can"]:
            people = [user for user in answer["users"] if user[one["right"]] and user["uid"]]
            assert (one["users"], one["anyone_else"]) == (len(people), answer["anyone_else"][one["right"]])
        dangers = asked("audit", words[4], "--weight", "danger", "--from", host)["results"]
        assert moment["dangers"] == len(dangers)
        held = asked("check", "skerry", "--from", host)["results"]
        assert moment["broken"] == sum(one["held"] is False for one in held)
    for name in ("broken expectations", "write"):
        first, last = marks(found, "shape", f"value {name} ")
        counts = [
            moment["broken"] if name != "write" else next(o["users"] for o in moment["can"] if o["right"] == name)
            for moment in found["moments"]
        ]
        assert first["x"] < last["x"]
        assert (first["y"] - last["y"] > 0) is (counts[1] > counts[0])
        assert (first["y"] == last["y"]) is (counts[1] == counts[0])


# --- what is drawn ------------------------------------------------------------


def pixels(png: bytes) -> tuple[int, int, list[bytes]]:
    """Width, height, and rows of RGBA of a PNG with 8 bits, not interlaced (PNG, W3C, section 9)."""
    assert png[:8] == b"\x89PNG\r\n\x1a\n"
    at, data = 8, b""
    wide = high = 0
    while at < len(png):
        size, kind = struct.unpack(">I4s", png[at : at + 8])
        body = png[at + 8 : at + 8 + size]
        if kind == b"IHDR":
            wide, high, depth, colour, _, _, interlaced = struct.unpack(">IIBBBBB", body)
            assert (depth, colour, interlaced) == (8, 6, 0)
        elif kind == b"IDAT":
            data += body
        at += size + 12
    raw = zlib.decompress(data)
    rows: list[bytes] = []
    before = bytes(4 * wide)
    for number in range(high):
        kind, line = (
            raw[number * (4 * wide + 1)],
            bytearray(raw[number * (4 * wide + 1) + 1 : (number + 1) * (4 * wide + 1)]),
        )
        for x in range(4 * wide):
            left = line[x - 4] if x > 3 else 0
            above, corner = before[x], before[x - 4] if x > 3 else 0
            guess = left + above - corner
            near = min((left, above, corner), key=lambda one: abs(guess - one))
            line[x] = (line[x] + (0, left, above, (left + above) // 2, near)[kind]) & 255
        before = bytes(line)
        rows.append(before)
    return wide, high, rows


def rebuilt(found: dict[str, Any]) -> Picture:
    kinds = {"words": Words, "box": Box, "line": Line, "shape": Shape}
    every: list[Any] = [
        kinds[one["mark"]](**{name: value for name, value in one.items() if name != "mark"}) for one in found["marks"]
    ]
    return Picture(found["title"], {}, tuple(every))


def test_what_is_drawn_is_where_the_layout_says() -> None:
    """The pixel in the middle of a sign has its colour, and text takes no more room than it is said to."""
    found = picture(*PICTURES["who"])
    shown = rebuilt(found)
    wide, high, rows = pixels(drawing.drawn(shown, "png"))
    assert (wide, high) == (WIDTH, HEIGHT)
    for one in marks(found, "shape", "cell"):
        at = 4 * int(one["x"])
        colour = rows[int(one["y"])][at : at + 3].hex()
        assert colour == one["colour"][1:] or one["form"] == "dot", one
    from matplotlib.backends.backend_agg import RendererAgg

    agg: Any = RendererAgg(WIDTH, HEIGHT, 100)  # type: ignore[no-untyped-call]
    for mark in shown.marks:
        if isinstance(mark, Words):
            width, height, _ = agg.get_text_width_height_descent(
                mark.text, letters.font(mark.mono, mark.bold, mark.size), ismath=False
            )
            assert width <= mark.width * 1.04 + 2, mark
            assert height <= mark.height * 1.1 + 2, mark


@pytest.mark.parametrize("form", drawing.FORMATS)
def test_each_form_is_whole_and_the_same_again(folder: str, form: str) -> None:
    for again in ("a", "b"):
        done = fiat("chart", *WHY, "-o", f"{folder}/{again}.{form}")
        assert (done.returncode, done.stderr) == (0, "")
    assert stat.S_IMODE(os.stat(f"{folder}/a.{form}").st_mode) == 0o600
    with open(f"{folder}/a.{form}", "rb") as one, open(f"{folder}/b.{form}", "rb") as other:
        data = one.read()
        assert data == other.read()
    if form == "svg":
        root = ET.parse(io.BytesIO(data)).getroot()
        links = [value for node in root.iter() for name, value in node.attrib.items() if name.endswith("href")]
        assert all(link.startswith("#") for link in links)
        assert not [node for node in root.iter() if node.tag.endswith(("script", "image", "foreignObject"))]
    assert data.startswith({"png": b"\x89PNG", "svg": b"<?xml", "pdf": b"%PDF"}[form])


@pytest.fixture
def hostile(folder: str) -> str:
    for number, name in enumerate(HOSTILE):
        os.mkdir(f"{folder}/{name}")
        for other in range(number + 1):
            with open(f"{folder}/{name}/{HOSTILE[other]}", "w"):
                os.chmod(f"{folder}/{name}/{HOSTILE[other]}", 0o666 if other % 2 else 0o644)
        os.chmod(f"{folder}/{name}", 0o700 + number % 8)
    os.chmod(folder, 0o755)
    return folder


def test_hostile_names_are_drawn_as_text(hostile: str) -> None:
    """Nothing in a name is taken for a formula, a line's end or a colour; what the font has not is written out."""
    paths = [f"{hostile}/{name}" for name in HOSTILE]
    for words in (
        ("who", *paths),
        ("below", hostile),
        ("why", "nobody", "write", f"{paths[0]}/{HOSTILE[0]}"),
        ("change", "set", hostile, "--below", "--mode", "o-r"),
    ):
        found = picture(*words)
        laid_out(found)
        for form in drawing.FORMATS:
            assert drawing.drawn(rebuilt(found), form)
    texts = {one["text"] for one in marks(picture("who", *paths), "words", "row")}
    assert {f"{hostile}/$x^2$ $", f"{hostile}/a\\nb", f"{hostile}/\\x1b[31m", f"{hostile}/\\xff\\xfe"} <= texts
    assert f"{hostile}/\\u540d\\u524d" in texts


def test_much_of_everything_is_counted(folder: str) -> None:
    """What there is no room for is said: paths, people, directories."""
    for number in range(60):
        os.mkdir(f"{folder}/{number}", 0o700)
        os.chmod(f"{folder}/{number}", 0o700 + 5 * (number % 2))
    found = picture("who", *(f"{folder}/{number}" for number in range(60)))
    laid_out(found)
    shown = sum(map(len, found["rows"][: found["shown"]["rows"]]))
    foot = [one["text"] for one in marks(found, "words", "foot")]
    assert (shown == 60) is (not foot)
    assert sum(map(len, found["rows"])) == 60
    for number in range(3000):
        os.mkdir(f"{folder}/0/{number:04}")
    os.chmod(f"{folder}/0/0007", 0o777)
    os.chmod(f"{folder}/0", 0o755)
    os.chmod(folder, 0o755)
    found = picture("below", folder)
    laid_out(found)
    assert sum(box["value"] for box in found["boxes"]) == 3061
    assert [one["path"] for one in found["open_to_anyone"]] == [f"{folder}/0/0007"]
    assert len(found["boxes"]) < 600


# --- the command ----------------------------------------------------------------


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("who", S), "where to? -o FILE.png"),
        (("who", S, "-o", "a.gif"), "'a.gif' has no form that there is; names end in .png, .svg and .pdf"),
        (("whom", S), "no kind of chart is called 'whom'; near is 'who'"),
        (("why", "keeper", "rw", S, "-o", "a.png"), "one picture shows one right"),
        (("below", S, "--can", "read", "--can", "write", "-o", "a.png"), "one map shows one right"),
        (("change", "show", S, "-o", "a.png"), "'show' tells of no change"),
        (("change", "set", "/nowhere", "--mode", "700", "--preview", "-o", "a.png"), "'/nowhere'"),
        (("below", f"{S}/series/reduced-2026.csv", "-o", "a.png"), "Not a directory"),
        (("change", "history", "-o", "a.png"), "which run? fiat history lists them"),
        (("over-time", "skerry", "--can", "read", "-o", "a.png"), "--can goes with --on PATH"),
        (("over-time", "skerry-fleet", "-o", "a.png"), "are several hosts"),
        (("over-time", "/nowhere", "-o", "a.png"), "/nowhere"),
    ],
)
def test_a_wrong_word_is_named(folder: str, words: tuple[str, ...], says: str) -> None:
    host = ("--from", "skerry") if words[0] not in ("change", "over-time", "whom") else ()
    done = fiat("chart", *words, *host, cwd=folder)
    assert (done.returncode, says in done.stderr, done.stderr.count("\n"), done.stdout) == (2, True, 1, ""), done
    assert os.listdir(folder) == []


def test_where_it_is_written(folder: str) -> None:
    """Nothing is written through a link, or in place of what is no file; a failure is told, and nothing is left."""
    os.symlink(f"{folder}/elsewhere", f"{folder}/link.png")
    os.mkdir(f"{folder}/there.png")
    for name in ("link.png", "there.png", "missing/a.png"):
        done = fiat("chart", *WHY, "-o", f"{folder}/{name}")
        assert (done.returncode in (2, 3), done.stderr.count("\n")) == (True, 1), done
    assert sorted(os.listdir(folder)) == ["link.png", "there.png"]


def test_without_matplotlib_one_line_says_how_to_get_it(folder: str) -> None:
    os.mkdir(f"{folder}/matplotlib")
    with open(f"{folder}/matplotlib/__init__.py", "w") as file:
        file.write("raise ImportError('not here')")
    done = fiat("chart", *WHY, "-o", f"{folder}/a.png", env={**os.environ, "PYTHONPATH": folder})
    says = "pictures need Matplotlib: pip install 'fiat[charts]' gets it"
    assert (done.returncode, says in done.stderr, done.stderr.count("\n")) == (3, True, 1)


def test_nothing_of_the_current_directory_is_taken_for_settings(folder: str) -> None:
    """A file matplotlibrc there may be anybody's, and a pipe that nobody writes to."""
    os.mkfifo(f"{folder}/matplotlibrc")
    done = fiat("chart", *WHY, "-o", "a.svg", cwd=folder, stdin=subprocess.DEVNULL)
    assert (done.returncode, done.stderr) == (0, "")
    assert sorted(os.listdir(folder)) == ["a.svg", "matplotlibrc"]
    assert subprocess.run(["test", "-s", f"{folder}/a.svg"]).returncode == 0


def test_nothing_is_changed_by_drawing_it(folder: str) -> None:
    """A plan, and what an undo would put back: as the commands say beforehand, and no file or history is other then."""
    os.mkdir(f"{folder}/h", 0o700)
    os.mkdir(f"{folder}/t")
    os.chmod(f"{folder}/t", 0o750)
    history = ("--history", f"{folder}/h/history.db")
    assert fiat("set", f"{folder}/t", "--mode", "755", *history).returncode == 0
    found = {
        name: picture("change", *words, *history)
        for name, words in {
            "plan": ("set", f"{folder}/t", "--mode", "700"),
            "undo": ("undo",),
            "run": ("history", "1"),
        }.items()
    }
    assert stat.S_IMODE(os.stat(f"{folder}/t").st_mode) == 0o755
    assert len(asked("history", *history)["results"]) == 1
    run, back = asked("history", "1", *history)["run"], asked("undo", "--preview", *history)
    plan = asked("set", f"{folder}/t", "--mode", "700", "--preview")
    for name, told in (("plan", plan), ("undo", back), ("run", run)):
        laid_out(found[name])
        for side in ("gains", "losses"):
            plain = [{key: one[key] for key in ("who", "right", "paths")} for one in told[side]]
            assert found[name][side] == plain
    assert found["run"]["gains"] == found["undo"]["losses"] != []
    assert [one["examples"] for one in found["plan"]["changes"]] == [[f"{folder}/t"]]
    nothing = fiat("chart", "change", "set", "--arrange", "list", "-o", f"{folder}/a.png")
    assert (nothing.returncode, "nothing to draw" in nothing.stderr) == (2, True)


@pytest.mark.root
def test_an_owner_may_have_less_than_anyone(folder: str) -> None:
    """Where somebody is named it is they who count, and not whoever else has it."""
    nobody = pwd.getpwnam("nobody").pw_uid
    for name, mode in (("less", 0o066), ("more", 0o666), ("own", 0o600), ("none", 0o000)):
        with open(f"{folder}/{name}", "w"):
            os.chown(f"{folder}/{name}", nobody, 0)
            os.chmod(f"{folder}/{name}", mode)
    bands = {band["name"]: band["entries"] for band in picture("below", folder, "--user", "nobody")["bands"]}
    assert bands == {"no": 3, "yes": 1, "anyone": 1, "not known": 0}
    (one,) = picture("below", folder, "--user", "nobody")["open_to_anyone"]
    assert one["path"] == f"{folder}/more"

"""The page that is handed over, in a real browser: what it shows, at two widths and by keyboard; that it asks nothing
of any network, and runs nothing but its own; hostile names; a great many paths."""

import json
import os
import re
import socket
from typing import Any

import pytest
from selenium.common.exceptions import JavascriptException
from selenium.webdriver import Chrome
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select, WebDriverWait

from support.browser import browser, complaints, opened
from support.program import fiat

pytestmark = pytest.mark.slow
S = "/srv/skerry"
LATER = ("--from", "skerry-later")
HOSTILE = [
    "<script>window.taken=1</script>",
    "</script><img src=x onerror=window.taken=1>",
    "\"><b id=bold>'",
    "{{ 7*7 }}{% raw %}",
    "a\nb\x1b[31m",
    os.fsdecode(b"\xff"),
    "--><!--",
    "&lt;",
    "x" * 200,
]


def page(folder: str, *words: str) -> str:
    """A page that is asked for with these words; where it is."""
    path = f"{folder}/page.html"
    done = fiat("chart", "page", *words, "-o", path)
    assert (done.returncode, done.stderr) == (0, ""), done
    return path


def texts(found: Chrome, selector: str) -> list[str]:
    return [str(one.text) for one in found.find_elements(By.CSS_SELECTOR, selector)]


def shown_paths(found: Chrome) -> list[str]:
    script = "return [...document.querySelectorAll('.tree td.path')].map((cell) => cell.textContent)"
    rows: list[str] = found.execute_script(script)
    return rows


def said(*words: str) -> dict[str, Any]:
    answer: dict[str, Any] = json.loads(fiat(*words, "--json").stdout)
    return answer


@pytest.mark.parametrize("width", [1280, 420])
def test_what_is_shown(folder: str, width: int) -> None:
    """All parts are there with their answers, nothing is wider than the window, and nothing is logged or asked for."""
    path = page(folder, S, "--below", "--audit", "--expect", "skerry", "--since", "skerry", *LATER)
    with browser(width) as found:
        asked = opened(found, path)
        assert all(url.startswith(("file://", "data:image/svg+xml;base64,")) for url in asked)
        assert len([url for url in asked if url.startswith("file://")]) == 1
        assert complaints(found) == []
        assert found.execute_script("return document.documentElement.scrollWidth") <= width
        answers = dict(zip(texts(found, ".answers a"), texts(found, ".answers b"), strict=True))
        dangers = said("audit", S, "--weight", "danger", *LATER)["results"]
        broken = [one for one in said("check", "skerry", *LATER)["results"] if one["held"] is False]
        assert answers["What is dangerous"].startswith(f"{len(dangers)} danger")
        assert answers["What should hold"].startswith(f"{len(broken)} of")
        opened_to_all = said("who", S, "--below", "--can", "write", "--anyone-else", *LATER)["results"]
        count = sum(one["directories"] + one["others"] for one in opened_to_all)
        assert answers[f"Everything in {S}"].startswith(f"{count} of ")
        for image in found.find_elements(By.CSS_SELECTOR, "figure img"):
            assert found.execute_script("return arguments[0].naturalWidth", image) > 1000
            assert len(image.get_attribute("alt") or "") > 10
        rows = shown_paths(found)
        assert rows == [one["path"] for one in lines_of(S, *LATER)]
        body = found.find_element(By.TAG_NAME, "main").text
        assert "Gains" in body
        assert "superuser root" in body


def lines_of(top: str, *host: str) -> list[dict[str, Any]]:
    lines = map(json.loads, fiat("who", top, "--below", "--format", "jsonl", *host).stdout.splitlines())
    return [one for one in lines if "path" in one]


def test_by_keyboard(folder: str) -> None:
    """Rows are chosen and sorted without a mouse, and how many are shown is said each time."""
    path = page(folder, S, "--below", "--from", "skerry")
    every = [one["path"] for one in lines_of(S, "--from", "skerry")]
    writable = [one["path"] for one in lines_of(S, "--can", "write", "--user", "tidefeed", "--from", "skerry")]
    with browser() as found:
        opened(found, path)
        active = found.switch_to
        found.find_element(By.TAG_NAME, "body").send_keys(Keys.TAB)
        assert active.active_element.text == "To the answers"
        for _ in range(60):
            active.active_element.send_keys(Keys.TAB)
            if active.active_element.get_attribute("type") == "search":
                break
        active.active_element.send_keys("GAUGE")
        fitting = [one for one in every if "gauge" in one]
        wait_for(found, f"{len(fitting)} of {len(every)} paths fit")
        assert shown_paths(found) == fitting
        active.active_element.send_keys(Keys.CONTROL, "a")
        active.active_element.send_keys(Keys.DELETE)
        wait_for(found, f"{len(every)} paths")
        active.active_element.send_keys(Keys.TAB, "tidefeed", Keys.TAB, "write")
        wait_for(found, f"{len(writable)} of {len(every)} paths fit")
        assert shown_paths(found) == writable
        Select(found.find_element(By.CSS_SELECTOR, "select[id$=who]")).select_by_visible_text("anyone can")
        anyone = said("who", S, "--below", "--can", "write", "--anyone-else", "--from", "skerry")["results"]
        assert len(shown_paths(found)) == sum(one["directories"] + one["others"] for one in anyone)
        for name in ("who", "right"):
            Select(found.find_element(By.CSS_SELECTOR, f"select[id$={name}]")).select_by_index(0)
        head = found.find_element(By.CSS_SELECTOR, ".tree th button")
        head.send_keys(Keys.ENTER)
        head.send_keys(Keys.ENTER)
        assert found.find_element(By.CSS_SELECTOR, ".tree th").get_attribute("aria-sort") == "descending"
        assert shown_paths(found) == sorted(every, key=sort_key, reverse=True)


def sort_key(path: str) -> list[tuple[bool, int, str]]:
    """As a collator with numbers by value has these names, in which there are no marks but /, - and dots."""
    return [(part.isdigit(), int(part) if part.isdigit() else 0, part) for part in re.split(r"(\d+)", path.casefold())]


def wait_for(found: Chrome, count: str) -> None:
    WebDriverWait(found, 10).until(lambda driver: texts(driver, ".tree .count") == [count], count)


def test_hostile_names_are_text(folder: str) -> None:
    """Nothing in a name becomes an element, a script or a template's word; nor does what whoever asks writes."""
    for name in HOSTILE:
        os.makedirs(f"{folder}/t/{name.replace('/', '_')}")
    names = [name.replace("/", "_") for name in HOSTILE]
    os.chmod(f"{folder}/t/{names[0]}", 0o777)
    title = HOSTILE[1]
    words = [f"{folder}/t/{names[1]}", f"{folder}/t", "--below", "--audit", "--title", title]
    path = page(folder, *words)
    with browser() as found:
        opened(found, path)
        assert found.execute_script("return window.taken") is None
        assert found.find_element(By.TAG_NAME, "h1").text == title
        assert not found.find_elements(By.ID, "bold")
        assert not found.find_elements(By.CSS_SELECTOR, "img:not(figure img)")
        shown = shown_paths(found)
        assert {f"{folder}/t/{name}" for name in names if name.isprintable()} <= set(shown)
        assert f"{folder}/t/a\\nb\\x1b[31m" in shown
        assert f"{folder}/t/\\xff" in shown
        assert complaints(found) == []


def test_nothing_leaves_the_page(folder: str) -> None:
    """What is put into it runs nothing, and reaches no address: by the page's own policy."""
    path = page(folder, S, "--from", "skerry")
    with open(path, encoding="utf-8") as file:
        text = file.read()
    with socket.create_server(("127.0.0.1", 0)) as listening, browser() as found:
        address = f"http://127.0.0.1:{listening.getsockname()[1]}/"
        put_in = f"<script>window.taken=1</script><img src='{address}'><link rel=stylesheet href='{address}'>"
        with open(path, "w", encoding="utf-8") as file:  # as if a name had not been escaped
            file.write(text.replace("</main>", f"{put_in}</main>"))
        opened(found, path)
        assert found.execute_script("return window.taken") is None
        assert sum("Content Security Policy" in said for said in complaints(found)) == 3
        with pytest.raises(JavascriptException):
            found.execute_script(f"return fetch('{address}')")
        listening.settimeout(1)
        with pytest.raises(TimeoutError):
            listening.accept()


def test_on_paper(folder: str) -> None:
    """Printed, there is nothing to be pressed, and every row is there."""
    for number in range(700):
        os.mkdir(f"{folder}/{number:03}")
    path = page(folder, folder, "--below")
    with browser() as found:
        opened(found, path)
        assert len(shown_paths(found)) == 200
        found.execute_script("window.dispatchEvent(new Event('beforeprint'))")
        assert len(shown_paths(found)) == 701
        found.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
        for selector in ("nav", ".tools", ".more"):
            shown = found.find_element(By.CSS_SELECTOR, selector).value_of_css_property("display")
            assert shown == "none"
        assert len(found.print_page()) > 10_000


def test_a_hundred_thousand_paths(folder: str) -> None:
    """They are drawn in pieces; choosing among them is choosing among all of them."""
    for directory in range(100):
        os.mkdir(f"{folder}/{directory}")
        for number in range(1000):
            os.mknod(f"{folder}/{directory}/{number:04}", 0o600)
    os.chmod(f"{folder}/77/0777", 0o666)
    path = page(folder, folder, "--below")
    assert os.path.getsize(path) < 8_000_000
    with browser() as found:
        opened(found, path)
        assert len(shown_paths(found)) == 200
        assert texts(found, ".tree .count") == ["100,101 paths; the first 200 are shown"]
        found.find_element(By.CSS_SELECTOR, ".more").send_keys(Keys.ENTER)
        assert len(shown_paths(found)) == 400
        Select(found.find_element(By.CSS_SELECTOR, "select[id$=right]")).select_by_visible_text("write")
        Select(found.find_element(By.CSS_SELECTOR, "select[id$=who]")).select_by_visible_text("anyone can")
        assert shown_paths(found) == [f"{folder}/77/0777"]
        assert texts(found, ".tree .count") == ["1 of 100,101 paths fit"]


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ((S,), "where to? -o FILE.html writes it"),
        ((S, "-o", "a.pdf"), "'a.pdf' has no form that there is; names end in .html"),
        ((S, "--json"), "a page has no such form"),
        ((S, "--expect", "missing", "-o", "a.html"), "'missing'"),
        ((f"{S}/nothing", "-o", "a.html"), "'/srv/skerry/nothing'"),
    ],
)
def test_a_wrong_word_is_named(folder: str, words: tuple[str, ...], says: str) -> None:
    done = fiat("chart", "page", *words, "--from", "skerry", cwd=folder)
    assert (done.returncode, says in done.stderr, done.stderr.count("\n"), done.stdout) == (2, True, 1, ""), done
    assert os.listdir(folder) == []

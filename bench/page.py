"""How long a browser takes to open the page of a tree of 100,000 paths: ``python bench/page.py``.

Needs Chromium and its driver, and the packages of the tests. Prints the size of the page, how long Fiat takes to write
it, and of five openings the time from the request until everything is drawn and the page can be used.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service

DIRECTORIES, FILES, OPENINGS = 100, 1000, 5
_READY = """
const [entry] = performance.getEntriesByType("navigation");
return [entry.loadEventEnd - entry.startTime, document.querySelectorAll(".tree td.path").length];
"""


def main() -> None:
    """Make the tree and its page, and open it."""
    with tempfile.TemporaryDirectory() as folder:
        tree, page = f"{folder}/tree", f"{folder}/page.html"
        for directory in range(DIRECTORIES):
            os.makedirs(f"{tree}/{directory:03}")
            for number in range(FILES):
                os.mknod(f"{tree}/{directory:03}/{number:04}", 0o640 + number % 4)
        begun = time.monotonic()
        subprocess.run([sys.executable, "-m", "fiat", "chart", "page", tree, "--below", "-o", page], check=True)
        print(f"written in {time.monotonic() - begun:.2f} s, {os.path.getsize(page) / 1e6:.1f} MB")
        times = sorted(_opened(page) for _ in range(OPENINGS))
        least, middle, most = times[0], times[OPENINGS // 2], times[-1]
        print(f"opened in {least:.2f} s at least, {middle:.2f} s in the middle, {most:.2f} s at most")


def _opened(page: str) -> float:
    options = Options()
    for option in ("--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--disable-gpu"):
        options.add_argument(option)
    options.binary_location = shutil.which("chromium") or "chromium"
    browser = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        browser.get(f"file://{page}")
        milliseconds, rows = browser.execute_script(_READY)
        assert rows, "no row is drawn"
        return float(milliseconds) / 1000
    finally:
        browser.quit()


if __name__ == "__main__":
    main()

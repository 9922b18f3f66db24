"""A real browser without a window, for pages that are handed over."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service

_OPTIONS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-dev-shm-usage",
    "--disable-gpu",
    "--disable-background-networking",
)


@contextmanager
def browser(width: int = 1280, height: int = 900) -> Iterator[webdriver.Chrome]:
    """A browser with a window of this size, which keeps what it logs and what it asks of the network."""
    programs = [shutil.which(name) for name in ("chromium", "chromedriver")]
    if not all(programs):
        if os.environ.get("FIAT_TEST_EVERYTHING"):
            pytest.fail("chromium and its driver are not here")
        pytest.skip("chromium and its driver are not here")
    options = Options()
    for option in (*_OPTIONS, f"--window-size={width},{height}"):
        options.add_argument(option)
    options.binary_location = str(programs[0])
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as own:  # it leaves folders behind
        environment = {**os.environ, "TMPDIR": own}
        found = webdriver.Chrome(options=options, service=Service(str(programs[1]), env=environment))
        try:
            # a window has a frame, and is never narrower than 500: the page's own size is set
            size = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
            found.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
            yield found
        finally:
            found.quit()


def complaints(found: webdriver.Chrome) -> list[str]:
    """What the browser has found wrong since it was asked last."""
    return [str(entry["message"]) for entry in _log(found, "browser") if entry["level"] != "INFO"]


def _log(found: webdriver.Chrome, kind: str) -> list[dict[str, Any]]:
    entries: list[dict[str, Any]] = found.get_log(kind)  # type: ignore[no-untyped-call]
    return entries


def opened(found: webdriver.Chrome, path: str) -> list[str]:
    """Open a file; every address that was asked for by it."""
    _log(found, "performance")
    found.get(f"file://{path}")
    asked = []
    for entry in _log(found, "performance"):
        message: dict[str, Any] = json.loads(entry["message"])["message"]
        if message["method"] == "Network.requestWillBeSent":
            asked.append(message["params"]["request"]["url"])
    return asked

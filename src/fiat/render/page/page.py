"""The page: sections one after the other, in one file, with what it may do written into it.

Nothing in it asks anything of a network: its content-security policy (W3C, Content Security Policy Level 3) allows
the one style sheet and the one script in it, by their digests, and pictures that it holds itself.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Sequence
from datetime import datetime
from importlib import resources
from typing import NamedTuple

from fiat.core.errors import HostError
from fiat.core.text import Fields

try:
    import jinja2
    from markupsafe import Markup
except ImportError as error:
    raise HostError("a page needs Jinja2: pip install 'fiat[charts]' gets it") from error


class Figure(NamedTuple):
    """A picture: an SVG, what it shows in words, and its height where it is 1280 wide."""

    svg: bytes
    words: str
    height: int

    @property
    def source(self) -> str:
        """The picture as an address that holds it."""
        return f"data:image/svg+xml;base64,{base64.b64encode(self.svg).decode('ascii')}"


class Section(NamedTuple):
    """A part of the page: its heading, what is said below it, pictures, and rows of a tree, which are drawn in pieces.

    ``answer`` is said in a word or two at the top of the page; ``weight`` is "danger" where that is alarming.
    """

    anchor: str
    title: str
    body: Markup = Markup("")
    figures: tuple[Figure, ...] = ()
    table: Fields | None = None
    answer: str = ""
    weight: str = ""


class Page(NamedTuple):
    """What was asked, when, of which host, by whom; and what was found."""

    title: str
    host: str
    state: str
    asked: datetime
    by: str
    command: str
    version: str
    sections: Sequence[Section]
    notes: Sequence[str]


def written(page: Page) -> str:
    """The page as HTML."""
    folder = resources.files("fiat.render.page")
    style, script, template = (
        folder.joinpath(name).read_text(encoding="utf-8") for name in ("page.css", "page.js", "page.html")
    )
    environment = jinja2.Environment(
        autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    policy = "; ".join(
        (
            "default-src 'none'",
            f"style-src '{_digest(style)}'",
            f"script-src '{_digest(script)}'",
            "img-src data:",
            "base-uri 'none'",
            "form-action 'none'",
        )
    )
    return environment.from_string(template).render(
        page=page,
        policy=policy,
        style=Markup(style),
        script=Markup(script),
        data=_data,
    )


def _digest(text: str) -> str:
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode('ascii')}"


def _data(value: Fields) -> Markup:
    """Data for the script: nothing in it can be taken for the end of the element (HTML, section 4.12.1.3)."""
    text = json.dumps(value, separators=(",", ":"))
    return Markup(text.replace("&", "\\u0026").replace("<", "\\u003c").replace(">", "\\u003e"))

"""Where a picture goes, and in which form."""

from __future__ import annotations

import argparse
import os
import sys
from typing import TYPE_CHECKING

from fiat.cli.options.common import add_format
from fiat.core.errors import NotationError
from fiat.core.text import joined, quoted, visible
from fiat.render.output import Output

if TYPE_CHECKING:
    from fiat.render.charts.picture import Picture

PICTURES = ("png", "svg", "pdf")


def add_picture(
    parser: argparse.ArgumentParser, about: str = "the picture: FILE ends in .png, .svg or .pdf; --json is its data"
) -> None:
    """Add the file that the picture is written to; its data and its layout can be had instead."""
    parser.add_argument("-o", "--output", metavar="FILE", help=about)
    add_format(parser, ("text", "json"))


def expect_place(args: argparse.Namespace, formats: tuple[str, ...] = PICTURES) -> None:
    """Refuse a command line that says not where to, or in a form that there is not; before anything is asked."""
    if args.output is None:
        if args.format != "json":
            others = "".join(f", .{one}" for one in formats[1:])
            instead = "; --json prints its data" if formats == PICTURES else ""
            raise NotationError("-o", f"where to? -o FILE.{formats[0]}{others} writes it{instead}")
        return
    form = form_of(args.output)
    if form not in formats:
        known = joined(f".{one}" for one in formats)
        raise NotationError(args.output, f"{quoted(args.output)} has no form that there is; names end in {known}")


def form_of(path: str) -> str:
    """The form that the name of a file says."""
    return os.path.splitext(path)[1].removeprefix(".").lower()


def show(picture: Picture, args: argparse.Namespace, output: Output) -> None:
    """Print the picture's data, or write it to the file, and say so; without one nothing is drawn."""
    from fiat.render.charts.view import PictureView

    if args.format == "json":
        output.add(PictureView(picture))
    else:
        output.answered += 1
    if args.output is not None:
        from fiat.render.charts.drawing import drawn

        write(args.output, drawn(picture, form_of(args.output)), output)


def write(path: str, data: bytes, output: Output) -> None:
    """Write a file that is there whole or not at all, and say so where a person may be reading."""
    from fiat.app.writing import write_file

    size = write_file(path, data, output.problem)
    if size is not None and output.shows_progress and sys.stdout.isatty():
        sys.stdout.write(f"{visible(path)}: {size:,} bytes, for nobody but you to read\n")

"""The options that ask what people can bring about."""

import argparse

from fiat.cli.options.common import goes_with


def add_own_means(parser: argparse.ArgumentParser) -> None:
    """Add them."""
    parser.add_argument("--by-own-means", action="store_true", help="and what they can bring about, step by step")
    parser.add_argument(
        "--through-programs", action="store_true", help="with that: also by what root, services and others run"
    )


def expect_own_means(args: argparse.Namespace) -> None:
    """Refuse what does not go together; :class:`NotationError`."""
    goes_with("--through-programs", args.through_programs, "--by-own-means", args.by_own_means)

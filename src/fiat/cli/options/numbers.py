"""Numbers on the command line."""

import argparse

from fiat.app.text import bounded, shortened


def process_number(word: str) -> int:
    """The number of a process as written."""
    found = bounded(word, 2**31 - 1)
    if found is None:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no number of a process")
    return found


def count_of_users(word: str) -> int:
    """How many users, as written."""
    found = bounded(word, 2**32)
    if found is None:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no number of users")
    return found


def rank_of_way(word: str) -> int:
    """The number of a way, as written."""
    found = bounded(word, 10**6)
    if not found:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no number of a way; write one from 1 up")
    return found


def count_of_entries(word: str) -> int:
    """How many entries of trees, as written."""
    found = bounded(word, 2**32)
    if found is None:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no number of entries")
    return found


def count_of_snapshots(word: str) -> int:
    """How many snapshots, as written."""
    found = bounded(word, 10**6)
    if not found:
        raise argparse.ArgumentTypeError(f"{shortened(word)} is no number of snapshots; write one from 1 up")
    return found

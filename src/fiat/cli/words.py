"""``fiat --words KIND``: words of this host for completion, at each press of Tab; so little is loaded for it."""

from collections.abc import Sequence
from contextlib import suppress

from fiat.app.wordshere import words_here


def print_words(arguments: Sequence[str]) -> int:
    """Print the words of a kind, a line each; the exit status."""
    with suppress(OSError):  # a shell that has seen enough
        print("".join(f"{word}\n" for kind in arguments[:1] for word in words_here(kind)), end="", flush=True)
    return 0

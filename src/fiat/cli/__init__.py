"""The command line: argparse and the terminal.

A registry of commands, the options that several share, and one module for each
command. What a command does is in :mod:`fiat.app`, what it looks like in
:mod:`fiat.render`; nothing else is imported here.
"""

__all__ = ("main",)

"""Print a script with which a shell completes command lines of fiat when Tab is pressed:
commands, options, and users, groups, rights, guards, runs, arrangements and snapshots of
this host. It goes where the shell looks for such scripts:
  bash  fiat completion bash > /usr/share/bash-completion/completions/fiat
  zsh   fiat completion zsh > /usr/share/zsh/vendor-completions/_fiat
  fish  fiat completion fish > /usr/share/fish/vendor_completions.d/fiat.fish"""

import argparse
import sys

from fiat.cli.completion import SHELLS, script

EXAMPLES = (("for the shell that runs now", 'eval "$(fiat completion bash)"'),)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The arguments of ``fiat completion``."""
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=f"one of {', '.join(SHELLS)}")


def run(args: argparse.Namespace) -> int:
    """Print the script; the exit status."""
    sys.stdout.write(script(args.shell) + "\n")
    return 0

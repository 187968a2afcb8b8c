"""Print the script that completes commands, options, presets, tokens, batches and keywords in your shell."""

from __future__ import annotations

import argparse
import sys

EXAMPLES = """\
examples:
  eval "$(boxkite completion bash)"      in ~/.bashrc
  eval "$(boxkite completion zsh)"       in ~/.zshrc, after compinit
  boxkite completion fish > ~/.config/fish/completions/boxkite.fish
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The shell."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish"), metavar="SHELL", help="bash, zsh or fish")


def run(arguments: argparse.Namespace) -> int:
    """Print the script."""
    from argcomplete.shell_integration import shellcode

    sys.stdout.write(shellcode(["boxkite"], shell=arguments.shell))
    return 0

"""The way in: which command is meant, and what becomes of what it raises."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import NoReturn

from boxkite import __version__
from boxkite.core.errors import BoxkiteError

COMMANDS = {
    "demo": "made-up footage and marks, then the whole round on them",
    "inspect": "what is there: a row per source; the tokens with --tokens",
    "plan": "the table of files to come; writes nothing",
    "run": "make the files of a plan, and prove each of them",
    "presets": "the recipes, built-in and own",
}
EPILOG = """\
a first round:
  boxkite demo
  boxkite plan mill.mov --marks mill.edl --to review:out/review
  boxkite run mill.mov --marks mill.edl --to review:out/review --to stock:out/stock

exit status: 0 all well; 1 some files failed, the rest are done; 2 the request is wrong, nothing was
written; 130 stopped. "boxkite COMMAND --help" has examples for each.
"""


class Parser(argparse.ArgumentParser):
    """A parser that takes no abbreviations and suggests the word that was probably meant."""

    def __init__(self, **settings: object) -> None:
        settings.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        settings["allow_abbrev"] = False
        super().__init__(**settings)  # type: ignore[arg-type]

    def error(self, message: str) -> NoReturn:
        """Refuse the command line with one line and, where there is one, a hint."""
        from boxkite.core.suggest import did_you_mean

        hint = ""
        if message.startswith("unrecognized arguments:"):
            word = message.removeprefix("unrecognized arguments:").strip().split()[0]
            message = f"“{word}” is not understood here"
            options = [option for action in self._actions for option in action.option_strings]
            hint = did_you_mean(word.partition("=")[0], options) if word.startswith("-") else ""
        elif message.endswith("expected one argument") or message.endswith("expected at least one argument"):
            message = (
                message.replace("argument ", "", 1)
                .replace(": expected", " needs")
                .replace("one argument", "a value")
            )
            hint = 'patterns go in double quotes: --names "@marker"' if "--names" in message else ""
        elif message.startswith("the following arguments are required:"):
            message = message.replace("the following arguments are required:", "missing:")
        command = self.prog.removeprefix("boxkite").strip()
        print_error(message, hint or f"see: boxkite {command + ' ' if command else ''}--help")
        raise SystemExit(2)


def print_error(message: str, hint: str = "") -> None:
    """One line to the standard error, and a second with what to do."""
    print(f"boxkite: {message}", file=sys.stderr)  # noqa: T201
    if hint:
        print(f"  {hint}", file=sys.stderr)  # noqa: T201


def build_parser(command: str | None) -> Parser:
    """The whole parser; only the command that is meant, or all where None, brings its own arguments."""
    parser = Parser(
        prog="boxkite",
        description="Cut programs and footage into single shots, name them by rule, and prove every frame is there.",
        epilog=EPILOG,
    )
    parser.add_argument("--version", action="version", version=f"boxkite {__version__}")
    subparsers = parser.add_subparsers(dest="command", metavar="COMMAND", title="commands")
    for name, summary in COMMANDS.items():
        if command in (name, None):
            module = import_module(f"boxkite.cli.{name}_command")
            sub = subparsers.add_parser(
                name, help=summary, description=module.__doc__, epilog=module.EXAMPLES
            )
            module.add_arguments(sub)
            sub.add_argument(
                "--debug", action="store_true", help="show where in the program an error came from"
            )
        else:
            subparsers.add_parser(name, help=summary, add_help=False)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command and return its exit status."""
    words = list(sys.argv[1:] if arguments is None else arguments)
    command = next((word for word in words if not word.startswith("-")), "")
    if command and command not in COMMANDS:
        from boxkite.core.suggest import did_you_mean

        print_error(
            f"there is no command “{command}”", did_you_mean(command, COMMANDS) or "see: boxkite --help"
        )
        return 2
    parser = build_parser(command)
    if not command and not any(word in ("-h", "--help", "--version") for word in words):
        parser.print_help()
        return 2
    parsed = parser.parse_args(words)
    try:
        return int(import_module(f"boxkite.cli.{command}_command").run(parsed))
    except BoxkiteError as error:
        if parsed.debug:
            raise
        _print_boxkite_error(error)
        return error.exit_status
    except KeyboardInterrupt:
        print_error("stopped; what was finished is kept, what was not is gone")
        return 130
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 141
    except Exception as error:
        if parsed.debug:
            raise
        print_error(
            f"something went wrong inside: {type(error).__name__}: {error}", "run it again with --debug"
        )
        return 1


def _print_boxkite_error(error: BoxkiteError) -> None:
    from boxkite.core.errors import PatternError

    print_error(str(error), "")
    if isinstance(error, PatternError) and error.column is not None:
        print(f"  {error.pattern}\n  {' ' * (error.column - 1)}^ column {error.column}", file=sys.stderr)  # noqa: T201
    if error.hint:
        print(f"  {error.hint}", file=sys.stderr)  # noqa: T201


if __name__ == "__main__":
    raise SystemExit(main())

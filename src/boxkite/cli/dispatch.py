"""Running one command: its arguments, and what becomes of what it raises."""

from __future__ import annotations

import argparse
import gc
import os
import re
import signal
import sys
import threading
import time
from collections.abc import Sequence
from importlib import import_module
from typing import Any, NoReturn

from boxkite.cli.messages import print_error, printable
from boxkite.cli.other_words import meant_option
from boxkite.cli.short_help import LongHelp, ShortHelp
from boxkite.core.errors import BoxkiteError, PatternError
from boxkite.core.suggest import did_you_mean

_UNTIL_LEFT_SECONDS = 0.05
"""What a function takes at most to return once all is done in it, on a busy machine."""


class Parser(argparse.ArgumentParser):
    """A parser that takes no abbreviations and suggests the word that was probably meant."""

    def __init__(self, **settings: object) -> None:
        settings.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        settings["allow_abbrev"] = settings["add_help"] = False
        super().__init__(**settings)  # type: ignore[arg-type]
        self.add_argument("-h", "--help", action=ShortHelp, help="show the help that fits a screen")
        self.add_argument("--help-all", action=LongHelp, help="show all options")

    def error(self, message: str) -> NoReturn:
        """Refuse the command line with one line and, where there is one, a hint."""
        hint = ""
        if message.startswith("unrecognized arguments:"):
            word = message.removeprefix("unrecognized arguments:").strip().split()[0]
            message = f"“{word}” is not understood here"
            options = [option for action in self._actions for option in action.option_strings]
            named = word.partition("=")[0]
            hint = (
                meant_option(named, options) or did_you_mean(named, options) if word.startswith("-") else ""
            )
        elif message.endswith("expected one argument") or message.endswith("expected at least one argument"):
            message = (
                message.replace("argument ", "", 1)
                .replace(": expected", " needs")
                .replace("one argument", "a value")
            )
            hint = 'patterns go in double quotes: --names "@marker"' if "--names" in message else ""
        elif match := re.fullmatch(r"argument (\S+): invalid choice: '(.*)' \(choose from (.*)\)", message):
            choices = match[3].replace("'", "")
            message = f"{match[1]}: there is no “{match[2]}”, choose from {choices}"
            hint = did_you_mean(match[2], choices.split(", "))
        elif message.startswith("the following arguments are required:"):
            message = message.replace("the following arguments are required:", "missing:")
        command = self.prog.removeprefix("boxkite").strip()
        print_error(message, hint or f"see: boxkite {command + ' ' if command else ''}--help")
        raise SystemExit(2)


def module_of(command: str) -> Any:
    """The module of a command."""
    return import_module(f"boxkite.cli.{command.replace('-', '_')}_command")


def build_parser(command: str) -> Parser:
    """The parser of one command."""
    module = module_of(command)
    parser = Parser(prog=f"boxkite {command}", description=module.__doc__, epilog=module.EXAMPLES)
    add_command(parser, command)
    return parser


def add_command(parser: argparse.ArgumentParser, command: str) -> None:
    """Give a parser the arguments of a command."""
    module_of(command).add_arguments(parser)
    parser.add_argument("--debug", action="store_true", help="show where in Box Kite an error came from")


def run_command(command: str, arguments: Sequence[str]) -> int:
    """Run one command and return its exit status."""
    gc.set_threshold(
        200_000, 20, 50
    )  # plans are many small things that all live on: looking for garbage is in vain
    parsed = _parse(build_parser(command), arguments)
    for name in ("SIGTERM", "SIGHUP"):
        if number := getattr(signal, name, None):
            signal.signal(number, _end_in_order)
    sys.unraisablehook = _ask_again
    try:
        return int(module_of(command).run(parsed))
    except BoxkiteError as error:
        if parsed.debug:
            raise
        _print_boxkite_error(error)
        return error.exit_status
    except KeyboardInterrupt as stopped:
        print_error("stopped; what was finished is kept, what was not is gone", str(stopped))
        return 130
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 141
    except OSError as error:
        if parsed.debug:
            raise
        where = f"{error.filename}: " if isinstance(error.filename, str) else ""
        print_error(
            f"{where}{(error.strerror or str(error)).lower()}", "the disk, or the right to use it, is gone"
        )
        return 1
    except Exception as error:
        if parsed.debug:
            raise
        print_error(
            f"something went wrong inside: {type(error).__name__}: {error}", "run it again with --debug"
        )
        return 1


def _parse(parser: Parser, arguments: Sequence[str]) -> argparse.Namespace:
    """The words of a command; paths may stand between the options, but for commands with actions."""
    if any(isinstance(action, argparse._SubParsersAction) for action in parser._actions):
        return parser.parse_args(arguments)
    return parser.parse_intermixed_args(arguments)


def _ask_again(dropped: sys.UnraisableHookArgs) -> None:
    """Ask for the end again that was asked for while an object was being cleaned up, where Python drops exceptions."""
    if issubclass(dropped.exc_type, (KeyboardInterrupt, SystemExit)):
        code = getattr(dropped.exc_value, "code", None)
        number = code - 128 if isinstance(code, int) and code > 128 else signal.SIGINT
        left = threading.Event()

        def ask() -> None:  # from here it would be dropped as well, and while this has not been left
            left.wait()
            time.sleep(_UNTIL_LEFT_SECONDS)
            os.kill(os.getpid(), number)

        threading.Thread(target=ask, daemon=True).start()
        left.set()
    else:
        sys.__unraisablehook__(dropped)


def _end_in_order(number: int, _frame: object) -> NoReturn:
    """Leave through every open context, so that workers end and nothing half-made stays."""
    raise SystemExit(128 + number)


def _print_boxkite_error(error: BoxkiteError) -> None:
    """The error, for a pattern the place in it, and what to do."""
    if not isinstance(error, PatternError) or error.column is None:
        print_error(error.text, error.hint, error.details)
        return
    print_error(error.text)
    caret = " " * (error.column - 1) + f"^ column {error.column}"
    lines = [printable(error.pattern), caret, *([printable(error.hint)] if error.hint else [])]
    sys.stderr.writelines(f"  {line}\n" for line in lines)

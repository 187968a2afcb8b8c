"""The entry point: finds the command. Imports almost nothing, so that help is instant."""

import atexit
import os
import sys

from boxkite import __version__
from boxkite.cli.messages import print_error

COMMANDS = {
    "demo": "sample footage and an edit, a first round on them",
    "gather": "copy cards, verify the copies, run a job on them",
    "inspect": "sources, clips of timelines, values of tokens",
    "mark": "marks: add, list, change, import, export, detect",
    "plan": "every file to come, with sizes and warnings",
    "preview": "a still as it will be encoded; before and after",
    "run": "make the files of a plan, and verify each of them",
    "status": "progress of batches: all, or one with its files",
    "log": "what happened in a batch, file by file; --errors",
    "resume": "resume a batch that was stopped or killed",
    "stop": "stop a batch after its current files, or at once",
    "forget": "remove the record of a batch; the files stay",
    "watch": "make every file that arrives in a folder",
    "verify": "check finished files; --deep compares every frame",
    "manifest": "a media hash list (ASC MHL), or lists of checksums",
    "catalogue": "a table of finished files in a receiver's columns",
    "contact-sheet": "a good frame of each file on PDF or PNG pages",
    "review-page": "a folder for any browser: play, note, draw, judge",
    "send": "send finished files to folders and servers",
    "relink": "an edit that points at finished files, and back",
    "shot-folders": "a folder per shot: files, notes, work order",
    "records": "move the record of a batch to another machine",
    "presets": "presets: list, show, new, change, remove, check",
    "patterns": "save name patterns and list them",
    "rename": "rename sources by rule, with their sidecars; undo",
    "trim": "copy used parts of sources, with an edit of them",
    "schema": "the schemas of --json, of presets and of job files",
    "completion": "complete commands, options, presets, tokens",
}
HELP = """\
usage: boxkite COMMAND …   cut, name, transcode and verify single shots

{commands}

"boxkite help COMMAND" has details and examples; boxkite --help-all says more.
"""
MORE = """
Cuts programs and footage into single shots, names them by rule, transcodes them,
and verifies that every frame is there.

a first round:
  boxkite demo
  boxkite plan mill.mov --marks mill.edl --to review:out/review
  boxkite run mill.mov --marks mill.edl --to review:out/review --to stock:out/stock

--version prints the version.
exit status: 0 all is done; 1 some files failed, the rest are done; 2 the request
is wrong, nothing was written; 130 stopped.
"""


_TOGETHER = {
    ("status", "log", "records"): "progress of batches; their logs; move records",
    ("stop", "resume", "forget"): "stop a batch, resume it, remove its record",
    ("verify", "manifest"): "check finished files; lists of their checksums",
    ("contact-sheet", "review-page"): "frames on PDF pages; a page to play, note, judge",
    ("relink", "shot-folders"): "an edit of the files; folders for later work",
    ("presets", "patterns"): "presets and name patterns: list, save, change",
    ("schema", "completion"): "schemas of --json; completion in your shell",
}
"""Commands that share a line in the short list."""


def _short_list() -> str:
    """The commands on as many lines as a screen has."""
    heads = {names[0]: (", ".join(names), summary) for names, summary in _TOGETHER.items()}
    others = {name for names in _TOGETHER for name in names[1:]}
    lines = [heads.get(name, (name, summary)) for name, summary in COMMANDS.items() if name not in others]
    return "\n".join(f"  {names:<27}{summary}" for names, summary in lines)


def main() -> int:
    """Run one command and return its exit status."""
    if "_ARGCOMPLETE" in os.environ:
        from boxkite.cli.completion import complete

        complete()
    arguments = sys.argv[1:]
    first = arguments[0] if arguments else ""
    if first in COMMANDS:
        from boxkite.cli.dispatch import run_command
        from boxkite.core.machine import begin_no_threads_for_matrices

        begin_no_threads_for_matrices()
        return run_command(first, arguments[1:])
    if first == "--version":
        sys.stdout.write(f"boxkite {__version__}\n")
        return 0
    if first == "help" and len(arguments) > 1:
        return _help_on(arguments[1], arguments[2:])
    if first in ("-h", "--help", "--help-all", "help", ""):
        listed = "\n".join(f"  {name:<22}{summary}" for name, summary in COMMANDS.items())
        is_short = first != "--help-all"
        sys.stdout.write(
            HELP.format(commands=_short_list() if is_short else listed) + ("" if is_short else MORE)
        )
        return 0 if first else 2
    return _refuse(first)


def _help_on(command: str, rest: list[str]) -> int:
    """The help of a command, as boxkite COMMAND --help gives it."""
    if command not in COMMANDS:
        return _refuse(command)
    from boxkite.cli.dispatch import run_command

    return run_command(command, [*rest, "--help"])


def _refuse(word: str) -> int:
    """Say that there is no such command, and which was probably meant, by its letters or by its meaning."""
    from boxkite.cli.other_words import meant_command
    from boxkite.core.suggest import did_you_mean

    kind = "option" if word.startswith("-") else "command"
    hint = meant_command(word) or did_you_mean(word, COMMANDS) or "see: boxkite --help"
    print_error(f"there is no {kind} “{word}”", hint)
    return 2


def program() -> None:
    """Run one command and end the process with its exit status, without the tenth of a short command's time that
    Python takes to take itself apart; what is to be done at the end of it is done.
    """
    try:
        status: str | int | None = main()
    except SystemExit as end:
        status = end.code
    threading = sys.modules.get("threading")
    if isinstance(status, str) or (
        threading and threading.active_count() > 1
    ):  # to be printed, or waited for
        sys.exit(status)
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except (OSError, ValueError, AttributeError):
        sys.exit(status)
    os._exit(status or 0)


if __name__ == "__main__":
    program()

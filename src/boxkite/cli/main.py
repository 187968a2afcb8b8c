"""The entry point: finds the command. Imports almost nothing, so that help is instant."""

import os
import sys

from boxkite import __version__
from boxkite.cli.messages import print_error

COMMANDS = {
    "demo": "draw sample footage and an edit, then run a first round on them",
    "gather": "copy cards to where the originals are kept, verify them, run a job",
    "inspect": "what is there: sources, clips of timelines; --tokens",
    "mark": "marks and keywords on footage: add, list, change, import …",
    "plan": "every file that would be made, with sizes and warnings",
    "preview": "a still as it will be encoded: before and after, a sheet, guides",
    "run": "make the files of a plan, and verify each of them",
    "status": "progress of batches: all, or one with its files; --follow",
    "log": "what happened in a batch, file by file; --errors",
    "resume": "resume a batch that was stopped or killed: only what is missing",
    "stop": "stop a batch after its current files, or at once",
    "forget": "remove the record of a batch; the files stay",
    "watch": "watch a folder: make every file that arrives, once it is complete",
    "verify": "check finished files: there, the same bytes; --deep decodes them",
    "manifest": "write a media hash list (ASC MHL) or checksums beside finished files",
    "catalogue": "a table of finished files in the columns a receiver wants",
    "contact-sheet": "a good frame of each file on PDF or PNG pages",
    "review-page": "a folder for any browser: play, note, draw, judge; no network",
    "presets": "presets, built-in and own: list, show, new, change, remove, check",
    "patterns": "save name patterns and list them",
    "rename": "rename sources by rule, with their sidecars and marks; undo",
    "trim": "copy the used part of each source, with an edit pointing at it",
    "schema": "the schema of what --json prints, of presets and of job files",
    "completion": "complete commands, options, presets and tokens in your shell",
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


def main() -> int:
    """Run one command and return its exit status."""
    if "_ARGCOMPLETE" in os.environ:
        from boxkite.cli.completion import complete

        complete()
    arguments = sys.argv[1:]
    first = arguments[0] if arguments else ""
    if first in COMMANDS:
        from boxkite.cli.dispatch import run_command

        return run_command(first, arguments[1:])
    if first == "--version":
        sys.stdout.write(f"boxkite {__version__}\n")
        return 0
    if first == "help" and len(arguments) > 1:
        return _help_on(arguments[1], arguments[2:])
    if first in ("-h", "--help", "--help-all", "help", ""):
        listed = "\n".join(f"  {name:<14}{summary}" for name, summary in COMMANDS.items())
        sys.stdout.write(HELP.format(commands=listed) + (MORE if first == "--help-all" else ""))
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


if __name__ == "__main__":
    raise SystemExit(main())

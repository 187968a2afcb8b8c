"""The way in: which command is meant. Imports next to nothing, so that help comes in a blink."""

import sys

from boxkite import __version__
from boxkite.cli.messages import print_error

COMMANDS = {
    "demo": "made-up footage, marks and an edit, then the whole round on them",
    "gather": "copy cards to where the originals are kept, verify them, run a job",
    "inspect": "what is there: a row per source, what timelines hold; tokens with --tokens",
    "mark": "marks and keywords on footage and timelines: add, list, change, import …",
    "plan": "the table of files to come, with sizes and warnings; writes no media",
    "preview": "a still as it will be encoded: before and after, a sheet, guides",
    "run": "make the files of a plan, and verify each of them",
    "status": "how far batches are: all, or one with its files; --follow",
    "log": "what happened in a batch, file by file; --errors",
    "resume": "resume a batch that was stopped or killed: only what is missing",
    "stop": "stop a batch after its current files, or at once",
    "forget": "remove the record of a batch; the files stay",
    "watch": "a folder: every whole file that lands becomes part of a batch",
    "presets": "the recipes, built-in and own: list, show, new, check",
    "patterns": "name patterns saved under a name",
    "rename": "give sources names by rule, sidecars and marks with them; undo",
    "trim": "only the used part of each source, and an edit that points at it",
}
HELP = """\
usage: boxkite COMMAND …

Cut programs and footage into single shots, name them by rule, transcode them,
and verify that every frame is there.

commands:
{commands}

a first round:
  boxkite demo
  boxkite plan mill.mov --marks mill.edl --to review:out/review
  boxkite run mill.mov --marks mill.edl --to review:out/review --to stock:out/stock

"boxkite COMMAND --help" says more of each, with examples; --version says which this is.
exit status: 0 all well; 1 some files failed, the rest are done; 2 the request is wrong,
nothing was written; 130 stopped.
"""


def main() -> int:
    """Run one command and return its exit status."""
    words = sys.argv[1:]
    first = words[0] if words else ""
    if first in COMMANDS:
        from boxkite.cli.dispatch import run_command

        return run_command(first, words[1:])
    if first == "--version":
        sys.stdout.write(f"boxkite {__version__}\n")
        return 0
    if first in ("-h", "--help", "help", ""):
        listed = "\n".join(f"  {name:<10}{summary}" for name, summary in COMMANDS.items())
        sys.stdout.write(HELP.format(commands=listed))
        return 0 if first else 2
    from boxkite.core.suggest import did_you_mean

    kind = "option" if first.startswith("-") else "command"
    print_error(f"there is no {kind} “{first}”", did_you_mean(first, COMMANDS) or "see: boxkite --help")
    return 2


if __name__ == "__main__":
    raise SystemExit(main())

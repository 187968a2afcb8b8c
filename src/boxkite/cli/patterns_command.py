"""Save name patterns under a name, list them, forget them."""

from __future__ import annotations

import argparse

from boxkite.cli.screen import Screen

EXAMPLES = """\
examples:
  boxkite patterns
  boxkite patterns save delivery "@scene/@camera@shot.t@take_v@(version:00)"
  boxkite plan card/ --names saved:delivery --to review:out
  boxkite patterns forget delivery
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The action and its pattern."""
    parser.add_argument(
        "action",
        nargs="?",
        choices=["list", "save", "forget"],
        default="list",
        help="list the saved patterns, save or forget one",
    )
    parser.add_argument("name", nargs="?", metavar="NAME", help="name to save the pattern under")
    parser.add_argument("pattern", nargs="?", metavar="PATTERN", help="the pattern, in double quotes")
    parser.add_argument("--json", action="store_true", help="print JSON instead of a table")


def run(arguments: argparse.Namespace) -> int:
    """List, save or forget."""
    from boxkite.cli.tables import Column, print_json, print_table
    from boxkite.core.errors import RequestError
    from boxkite.core.naming.saved import PREFIX, forget_pattern, patterns_file, save_pattern, saved_patterns

    name, pattern = arguments.name, arguments.pattern
    wanted = {"list": 0, "save": 2, "forget": 1}[arguments.action]
    if sum(word is not None for word in (name, pattern)) != wanted:
        hint = {
            "list": f'boxkite patterns save {name} "@marker"',
            "save": 'boxkite patterns save delivery "@marker_v@version"',
            "forget": "boxkite patterns forget delivery",
        }
        raise RequestError(
            f"boxkite patterns {arguments.action} takes {wanted} arguments", hint=hint[arguments.action]
        )
    screen = Screen()
    if arguments.action == "save":
        path = save_pattern(name, pattern)
        screen.print(f"saved in {path}; use it as --names {PREFIX}{name}")
    elif arguments.action == "forget":
        screen.print(f"forgotten, in {forget_pattern(name)}")
    elif arguments.json:
        print_json({"patterns": saved_patterns(), "path": str(patterns_file())}, "patterns")
    elif found := saved_patterns():
        print_table(
            screen, [Column("name"), Column("pattern", gives_way=True)], [list(one) for one in found.items()]
        )
    else:
        screen.print('no pattern is saved yet: boxkite patterns save delivery "@marker_v@version"')
    return 0

"""Write the tables of options and tokens in the docs from their declarations: python tools/reference.py [--check]."""

from __future__ import annotations

import sys
from pathlib import Path

from boxkite.core.errors import spoken
from boxkite.core.job.job import OPTIONS
from boxkite.core.shots.tokens import TOKENS

DOCS = Path(__file__).resolve().parent.parent / "docs"


def options_table() -> list[str]:
    """Every option of a job: on the command line and in job files."""
    lines = ["| key | value | meaning |", "|---|---|---|"]
    for key, one in OPTIONS.items():
        if one.kind != "tables":
            value = one.metavar.replace("|", "\\|") if one.metavar else "yes or no"
            text = spoken(one.description, lambda name: f"`--{name}`").replace("|", "\\|")
            lines.append(f"| `{key}` | {value} | {text} |")
    return lines


def tokens_table() -> list[str]:
    """Every token of name patterns."""
    lines = ["| token | stands for |", "|---|---|"]
    return [*lines, *(f"| `@{name}` | {token.help} |" for name, token in TOKENS.items())]


TABLES = {"guide.md": ("options", options_table), "patterns.md": ("tokens", tokens_table)}


def written(name: str) -> str:
    """A page of the docs with its table as it is declared now."""
    mark, table = TABLES[name]
    text = (DOCS / name).read_text(encoding="utf-8")
    before, begins, rest = text.partition(f"<!-- {mark} -->\n")
    _, ends, after = rest.partition(f"<!-- end of {mark} -->\n")
    if not begins or not ends:
        raise SystemExit(f"docs/{name} has no place for its table of {mark}")
    return "".join([before, begins, "\n".join(table()), "\n", ends, after])


def main() -> None:
    """Write the tables, or with --check say which page is not as it would be written."""
    stale = [name for name in TABLES if (DOCS / name).read_text(encoding="utf-8") != written(name)]
    if "--check" in sys.argv and stale:
        raise SystemExit(f"not as declared: {', '.join(stale)}; make reference writes them")
    for name in stale:
        (DOCS / name).write_text(written(name), encoding="utf-8")


if __name__ == "__main__":
    main()

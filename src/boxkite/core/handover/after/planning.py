"""Steps are checked before the first file is made: their options, what they read, and where they write."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from importlib.util import find_spec
from pathlib import Path

from msgspec import Struct

from boxkite.core.errors import BoxkiteError, PlanError
from boxkite.core.files.reading import path_from, without_dots
from boxkite.core.handover.catalogue import require_form
from boxkite.core.handover.columns import mapping_path, read_mapping
from boxkite.core.handover.media_hash_lists import require_library
from boxkite.core.handover.relinking.writing import require_written_form
from boxkite.core.handover.review_file import read_review
from boxkite.core.handover.review_page import check_place
from boxkite.core.handover.sending.address import Address, read_address
from boxkite.core.handover.sheets import SECTION, SHEET_LINES, SheetRequest
from boxkite.core.handover.shot_folders.tree import read_tree, tree_path
from boxkite.core.handover.written import free_path
from boxkite.core.job.after import Step
from boxkite.core.job.manifest_forms import MANIFEST_FORMS
from boxkite.core.naming.pattern import check_tokens, plain_text, read_pattern, read_text_pattern
from boxkite.core.naming.saved import pattern_of
from boxkite.core.naming.values import Date, Text, Value
from boxkite.core.settings import read_settings

INTO_TOKENS = {"batch", "date", "user"}
"""What may stand in the path a step writes to."""
_NEEDS = {
    "contact-sheet": ("fpdf", "handover"), "review-page": ("jinja2", "handover"), "catalogue": ("pandas", "handover"),
    "send": ("fsspec", "send"),
}  # fmt: skip


class PlannedStep(Struct, frozen=True):
    """A step and what it is going to write, or where it sends to."""

    step: Step
    writes: tuple[str, ...]
    """Paths with their tokens as they stand there, addresses without secrets."""

    def __str__(self) -> str:
        """In one line."""
        where = f" → {', '.join(self.writes)}" if self.writes else ""
        return f"{self.step.kind}{where}"


def plan_steps(steps: Sequence[Step]) -> list[PlannedStep]:
    """Check steps and say what each writes. Raises PlanError that names the step."""
    planned = []
    for number, step in enumerate(steps, start=1):
        try:
            planned.append(PlannedStep(step, _checked(step)))
        except BoxkiteError as error:
            raise PlanError(
                error.message, path=error.path, line=error.line, hint=error.hint,
                key=f"after, step {number} ({step.kind})" + (f": {error.key}" if error.key else ""),
            ) from None  # fmt: skip
    return planned


def _checked(step: Step) -> tuple[str, ...]:
    _require_extra(step)
    kind = step.kind
    if kind == "manifest":
        if step.get("form", MANIFEST_FORMS[0]) == "mhl":
            require_library()
        return ()
    if kind == "verify":
        return ()
    if kind == "send":
        for text in (step.get("names") and [pattern_of(step.get("names"))]) or []:
            read_pattern(text or "")
        return tuple(address.label for address in addresses_of(step))
    into = Path(step.get("into"))
    check_tokens(read_text_pattern(str(into)), INTO_TOKENS)
    for text in step.get("line", []):
        read_text_pattern(text)
    _CHECKS[kind](step, into)
    if kind not in ("shot-folders", "review-page") and "@" not in str(into):
        free_path(into, step.get("existing", "stop"))
    return (str(into),)


def _check_catalogue(step: Step, into: Path) -> None:
    require_form(into)
    read_mapping(mapping_path(step.get("columns", "delivery")))


def _check_edit(step: Step, into: Path) -> None:
    require_written_form(into)
    if step.get("edit") and not Path(step.get("edit")).exists():
        raise PlanError("there is no such edit", path=step.get("edit"))


def _check_folders(step: Step, into: Path) -> None:
    read_tree(tree_path(step.get("tree", "shots")))
    for path in step.get("review", []):
        read_review(Path(path))


def _check_page(step: Step, into: Path) -> None:
    read_text_pattern(step.get("section", SECTION))
    if "@" not in str(into):
        check_place(into, step.get("existing", "stop"))


def _check_sheet(step: Step, into: Path) -> None:
    sheet_request(step, into).require_form()


_CHECKS: dict[str, Callable[[Step, Path], None]] = {
    "catalogue": _check_catalogue, "relink": _check_edit, "shot-folders": _check_folders,
    "review-page": _check_page, "contact-sheet": _check_sheet,
}  # fmt: skip


def sheet_request(step: Step, into: Path) -> SheetRequest:
    """The sheet a step asks for."""
    return SheetRequest(
        into, step.get("title", None), step.get("line", None) or SHEET_LINES, step.get("preset"),
        step.get("page", "a4"), not step.get("portrait", False), step.get("frames", 1), step.get("columns", None),
        step.get("existing", "stop"),
    )  # fmt: skip


def addresses_of(step: Step) -> list[Address]:
    """Where a step sends to. Raises RequestError."""
    named = read_settings().destinations
    return [read_address(text, named) for text in step.get("to", [])]


def into_of(step: Step, batch: str, user: str) -> Path:
    """Where a step of a batch writes to."""
    text = str(step.get("into"))
    values: dict[str, Value] = {"batch": Text(batch), "date": Date(datetime.now()), "user": Text(user)}
    return without_dots(path_from(plain_text(read_text_pattern(text), values)).absolute())


def _require_extra(step: Step) -> None:
    module, extra = _NEEDS.get(step.kind, ("", ""))
    if step.kind == "catalogue" and Path(step.get("into")).suffix.lower() != ".xlsx":
        return
    if module and find_spec(module) is None:
        raise PlanError(f"this step needs the extra “{extra}”", hint=f"pip install 'boxkite-shots[{extra}]'")

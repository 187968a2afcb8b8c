"""Renaming as one step: cycles and swaps, whatever goes wrong, and back again."""

from __future__ import annotations

import json
import os
from datetime import datetime
from pathlib import Path
from types import SimpleNamespace

import pytest
from filelock import FileLock
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from boxkite.core.errors import MarksError, PlanError
from boxkite.core.marks.mark_table import change_marks
from boxkite.core.notices.projects import RENAMING_UNDONE
from boxkite.core.projects import renaming
from boxkite.core.projects.renaming import rename, undo, undo_those_cut_short

NAMES = ["a.mov", "b.mov", "c.mov", "d.mov", "e.mov"]


@pytest.fixture
def card(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("BOXKITE_STATE", str(tmp_path / "state"))
    folder = tmp_path / "card"
    folder.mkdir()
    for name in NAMES:
        (folder / name).write_text(f"the bytes of {name}")
    (folder / "marks.csv").write_text("source,name,in,out\nA.mov,dip,1,9\nb,lift,2,8\nz,other,0,1\n")
    return folder


def content(folder: Path) -> dict[str, str]:
    return {path.name: path.read_text() for path in folder.iterdir() if path.suffix == ".mov"}


def moves(folder: Path, new: dict[str, str]) -> list[tuple[Path, Path]]:
    return [(folder / old, folder / name) for old, name in new.items()]


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.permutations([*NAMES, "x.mov", "y.mov"]), st.integers(0, 10), st.booleans(), st.booleans())
def test_any_new_names_are_given_completely_or_not_at_all_and_undone(
    card: Path, order: list[str], stop: int, in_two_steps: bool, by_status: bool
) -> None:
    before = content(card)
    wanted = dict(zip(NAMES, order, strict=False))
    after = {new: before[old] for old, new in wanted.items()}
    count = 0

    class Killed(BaseException):
        pass

    def move(old: Path, new: Path) -> None:
        nonlocal count
        if count == stop:
            if in_two_steps:
                os.link(old, new)  # killed after the first of a move's two steps
            raise Killed
        count += 1
        real(old, new)

    real = renaming.move
    planned = [(old, new) for old, new in moves(card, wanted) if old != new]
    assume(planned)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(renaming, "move", move)
        patch.setattr(renaming, "_back", lambda record: [])
        try:
            rename(planned, {}, [])
        except Killed:
            pass
    if stop >= 2 * len(planned):
        assert content(card) == after
        undo()
    elif by_status:
        assert undo_those_cut_short()[0].is_a(RENAMING_UNDONE) and undo_those_cut_short() == []
    else:
        undo()
    assert content(card) == before
    assert not [path for path in card.iterdir() if path.name.startswith(".boxkite")]
    done, _ = rename(planned, {}, [])
    assert content(card) == after
    assert undo()[0].name == done.name and content(card) == before


def test_the_last_renaming_is_the_last_whatever_the_clock_says(card: Path) -> None:
    before = content(card)
    first, _ = rename(moves(card, {"a.mov": "x.mov"}), {}, [])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(renaming, "datetime", SimpleNamespace(now=lambda: datetime(2001, 1, 1)))
        second, _ = rename(moves(card, {"b.mov": "y.mov"}), {}, [])
    assert second.name == "2001-01-01.1"
    assert [undo()[0].name, undo()[0].name] == [second.name, first.name]
    assert content(card) == before


def test_names_swap_and_tables_follow_and_undo_brings_all_of_it_back(card: Path) -> None:
    table = (card / "marks.csv").read_bytes()
    names = {"a.mov": "b.mov", "a": "b", "b.mov": "a.mov", "b": "a"}
    record, _ = rename(moves(card, {"a.mov": "b.mov", "b.mov": "a.mov"}), names, [card / "marks.csv"])
    assert content(card)["a.mov"] == "the bytes of b.mov"
    rows = [line.split(",")[:2] for line in (card / "marks.csv").read_text(encoding="utf-8-sig").splitlines()]
    assert rows == [["source", "name"], ["b.mov", "dip"], ["a", "lift"], ["z", "other"]]
    undo(record.name)
    assert (card / "marks.csv").read_bytes() == table
    assert content(card)["a.mov"] == "the bytes of a.mov"


def test_nothing_is_renamed_while_another_program_writes_a_table(
    card: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(renaming, "_LOCK_SECONDS", 0.1)
    with FileLock(card / ".marks.csv.lock"), pytest.raises(PlanError, match="is writing this table"):
        rename(moves(card, {"a.mov": "x.mov"}), {"a.mov": "x.mov"}, [card / "marks.csv"])
    assert set(content(card)) == set(NAMES)
    rename(moves(card, {"a.mov": "x.mov"}), {"a.mov": "x.mov"}, [card / "marks.csv"])
    with FileLock(card / ".marks.csv.lock"), pytest.raises(PlanError, match="is writing this table"):
        undo()
    assert undo_those_cut_short() == [] and "x.mov" in content(card)


def test_a_table_keeps_its_title_its_blank_columns_and_every_other_cell(card: Path) -> None:
    table = card / "slates.csv"
    table.write_text("Day 3\n\n,Clip,Scene,\n,a.mov,3,\n,z.mov,a.mov,\n")
    rename(moves(card, {"a.mov": "x.mov"}), {"a.mov": "x.mov"}, [table])
    assert table.read_text() == "Day 3\n\n,Clip,Scene,\n,x.mov,3,\n,z.mov,a.mov,\n"


def test_a_table_of_marks_with_a_title_is_refused_since_writing_would_lose_it(card: Path) -> None:
    table = card / "marks.csv"
    text = "Day 3\n" + table.read_text(encoding="utf-8-sig")
    table.write_text(text)
    for change in (lambda rows: [*rows, rows[0]], lambda rows: rows[:1]):
        with pytest.raises(MarksError):
            change_marks(table, change)
    assert table.read_text() == text


def test_nothing_is_renamed_when_one_name_is_taken_or_a_file_has_changed_since(card: Path) -> None:
    before = content(card)
    (card / "taken.mov").write_text("someone else's")
    with pytest.raises(PlanError, match="every name is as it was"):
        rename(moves(card, {"a.mov": "x.mov", "b.mov": "taken.mov"}), {}, [])
    assert content(card) == {**before, "taken.mov": "someone else's"}
    rename(moves(card, {"a.mov": "x.mov", "c.mov": "y.mov"}), {}, [])
    (card / "y.mov").write_text("edited meanwhile")
    with pytest.raises(PlanError) as caught:
        undo()
    assert "y.mov has been changed since" in caught.value.details[0]
    assert "x.mov" in content(card)
    state = card.parent / "state/renames"
    assert {json.loads(path.read_text())["value"]["state"] for path in state.glob("*.json")} == {
        "undone",
        "done",
    }

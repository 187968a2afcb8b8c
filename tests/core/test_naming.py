"""The pattern language, and names that file systems take."""

from __future__ import annotations

from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from boxkite.core.errors import PatternError
from boxkite.core.files.names import clash_key, clean_value, safe_component, slug
from boxkite.core.naming.pattern import check_length, check_tokens, make_name, plain_text, read_pattern
from boxkite.core.naming.values import Counter, Date, FrameTime, Number, Text
from boxkite.core.shots.tokens import TOKENS
from boxkite.core.timebase import FrameRate, Timecode

RATE = FrameRate.parse("25")
VALUES = {
    "marker": Text("first dip"),
    "clip": Text("loft7"),
    "file": Text("dip_v002"),
    "camera": Text("B"),
    "scene": Text(""),
    "take": Text("2"),
    "Paper weight": Text("Heavy Rag"),
    "count": Counter(4),
    "total": Number(12),
    "in": FrameTime(130, Timecode(90130, RATE)),
    "date": Date(datetime(2026, 3, 9, 14, 5, 6)),
}
KNOWN = {*TOKENS, "Paper weight"}


@pytest.mark.parametrize(
    ("pattern", "name"),
    [
        ("@camera[-@scene].t@take", "B.t2"),
        ("@marker_@(count:001)", "first dip_005"),
        ("@marker_@(count:000:from100:step2)", "first dip_108"),
        ("@count of @total", "5 of 12"),
        ("@(Paper weight:slug)/@(scene|clip)", "heavy-rag/loft7"),
        ("@(paper WEIGHT:upper:max5)", "HEAVY"),
        ("@(scene:upper|clip:upper)", "LOFT7"),
        ("a@@b@[c@]d", "a@b[c]d"),
        ("[@scene/][[@take]x]@marker", "2xfirst dip"),
        ("@in", "01-00-05-05"),
        ("@(in:frames)_@(in:000000)", "130_000130"),
        ("@(date:YYMMDD)-@date", "260309-2026-03-09"),
        ("@(file:unversioned)_@(file:unversioned:upper)", "dip_DIP"),
        ("@(clip:lower)_@(Paper weight:lower)", "loft7_heavy rag"),
    ],
)
def test_patterns_make_the_names_the_guide_promises(pattern: str, name: str) -> None:
    parsed = read_pattern(pattern)
    check_tokens(parsed, KNOWN)
    assert make_name(parsed, VALUES) == name


@pytest.mark.parametrize(
    ("pattern", "column", "hint"),
    [
        ("@sceneA", 1, "@(scene)A"),
        ("x_@markr", 3, "@marker"),
        ("@(scene|clup)", 9, "clip"),
        ("@(count:001", 1, ""),
        ("a]", 2, "@]"),
        ("[@scene", 1, "@["),
        ("50@%", 3, "@@"),
        ("a:b", 2, ""),
        ("a\\b", 2, "/"),
        ("@marker//x", 9, "stay inside"),
        ("../@marker", 1, "stay inside"),
        ("/@marker", 1, "stay inside"),
        ("@marker.mov", 8, ""),
        ("@(marker:009)", 3, ""),
        ("@(count:abc)", 3, ""),
        ("'@marker'", None, '"@marker"'),
        ("", None, "double quotes"),
    ],
)
def test_a_wrong_pattern_is_refused_at_its_column(pattern: str, column: int | None, hint: str) -> None:
    with pytest.raises(PatternError) as caught:
        parsed = read_pattern(pattern)
        check_tokens(parsed, KNOWN)
        make_name(parsed, VALUES)
    assert caught.value.column == column
    assert hint in caught.value.hint


def test_an_empty_name_or_folder_is_refused_with_a_way_out() -> None:
    for pattern, hint in (("@scene", "@(marker|in)"), ("@scene/@marker", "[@scene/]")):
        with pytest.raises(PatternError) as caught:
            make_name(read_pattern(pattern), VALUES)
        assert hint in caught.value.hint


def test_a_burn_in_keeps_characters_that_a_name_cannot_hold() -> None:
    assert plain_text(read_pattern("@marker"), {"marker": Text("a/b: c?")}) == "a/b: c?"


@pytest.mark.parametrize(
    ("value", "name"),
    [
        ("CON", "CON_"),
        ("lpt1.take 2", "lpt1_.take 2"),
        ("COM¹", "COM¹_"),
        ("ends in dots. . ", "ends in dots"),
        ("a/b\\c:d|e", "a-b-c-d-e"),
        ('what? "now" <here>*', "what now here"),
        ("tab\tand\nline", "tab and line"),
        ("../../etc", "-..-etc"),
        ("cafe\u0301", "caf\u00e9"),
        ("right\u202eleft\x07", "rightleft"),
    ],
)
def test_values_become_names_every_file_system_takes(value: str, name: str) -> None:
    assert safe_component(clean_value(value)) == name


@given(st.text(max_size=60), st.text(max_size=20))
def test_no_value_makes_a_folder_or_an_unsafe_name(marker: str, scene: str) -> None:
    values = {"marker": Text(marker), "scene": Text(scene)}
    try:
        name = make_name(read_pattern("[@scene]x/@(marker)"), values)
    except PatternError:
        assert not any(character.isalnum() for character in marker)  # nothing is left of it
        return
    folder, slash, file = name.partition("/")
    assert slash
    assert "/" not in file
    for component in (folder, file):
        assert component not in ("", ".", "..")
        assert component == component.strip(". ")
        assert not set(component) & set('<>:"\\|?*')
        assert all(char.isprintable() or ord(char) > 0x9F for char in component)
        component.encode("utf-8")


@given(st.text(max_size=40))
def test_any_text_is_read_as_a_pattern_or_refused_with_its_reason(text: str) -> None:
    try:
        parsed = read_pattern(text)
        check_tokens(parsed, KNOWN)
        make_name(parsed, VALUES)
    except PatternError as error:
        assert error.message


def test_names_differing_only_in_case_or_composition_clash() -> None:
    assert clash_key("Loft/STRASSE.mov") == clash_key("loft/straße.mov")
    assert clash_key("caf\u00e9") == clash_key("CAFE\u0301")
    assert clash_key("a") != clash_key("b")


def test_a_name_too_long_in_bytes_is_refused_with_a_form_that_helps() -> None:
    pattern = read_pattern("@marker")
    check_length("x" * 251, ".mov", pattern)
    with pytest.raises(PatternError, match="too long") as caught:
        check_length("ü" * 126, ".mov", pattern)
    assert "max80" in caught.value.hint


def test_slugs_are_lower_case_with_single_dashes() -> None:
    assert slug("  Écoulée  dip_№ 2! ") == "ecoulee-dip-no-2"

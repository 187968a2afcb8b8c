"""The one place where the wording of notices is tested: every kind, its values where it is made, and its English."""

from __future__ import annotations

import ast
import re
from fractions import Fraction
from pathlib import Path

import boxkite
from boxkite.core.files.document import read_document, write_document
from boxkite.core.notices import batches, edit, files, footage, handover, marks, projects, shots
from boxkite.core.notices.notice import Kind, Notice, kinds, notice_as_json, notice_from_json

ROOT = Path(boxkite.__file__).parent
MODULES = (batches, edit, files, footage, handover, marks, projects, shots)
KINDS = {name: value for module in MODULES for name, value in vars(module).items() if isinstance(value, Kind)}
NOT_OURS = re.compile(
    r"\b(pictures?|sounds?|signs?|lacks?|lacking|facts|waves|behind|proved|turned|whole|said)\b|go(es|ne)? on with"
    r"|of its own|cut short|left aside|not .* any more|in it too",
    re.IGNORECASE,
)
"""Words that a person at an editing desk would not use so."""


def calls() -> list[tuple[str, str, ast.Call]]:
    """(file, kind's name, call) of everything that makes a notice of a kind by its name."""
    found = []
    for path in sorted(ROOT.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in KINDS:
                found.append((path.name, node.func.id, node))
    return found


def test_every_notice_is_made_with_the_values_that_its_sentence_needs() -> None:
    wrong = [
        (file, name)
        for file, name, call in calls()
        if {word.arg for word in call.keywords} != KINDS[name].fields
    ]
    assert wrong == []
    assert {kind.name for kind in KINDS.values()} | {"recorded"} == set(kinds())


def test_every_sentence_is_plain_english_and_says_its_values() -> None:
    for kind in kinds().values():
        values = {name: _sample(kind, name) for name in kind.fields}
        sentence = str(kind(**values))
        assert sentence[:1] == sentence[:1].lower() or sentence[0] in "D“<", sentence
        assert not sentence.endswith(".") and "\n" not in sentence and "{" not in sentence, sentence
        allowed = sentence.replace("there is no picture in it", "")
        assert not NOT_OURS.search(allowed), sentence
        assert not re.search(r"{\w+} (?:frame|shot|file|row|mark)s\b", kind.sentence), "1 frames"


def _sample(kind: Kind, name: str) -> object:
    spec = re.search(rf"{{{name}:([^}}]*)}}", kind.sentence)
    if spec is None:
        return "x7"
    return ["x7", "x8"] if spec[1] == "list" else 2.5 if spec[1][0] in ".g" else 2


def test_numbers_agree_with_their_nouns_and_long_lists_end() -> None:
    assert str(shots.SHORT(frames=1)) == "1 frame: shorter than a second"
    assert str(shots.SHORT(frames=12)) == "12 frames: shorter than a second"
    many = str(footage.IMAGES_MISSING(count=30, numbers=list(range(30))))
    assert many == "30 frames missing: 0, 1, 2, 3, 4, 5, 6, 7 and 22 more"


def test_a_notice_names_options_as_its_reader_writes_them_and_says_what_it_is_about() -> None:
    notice = footage.IMAGES_WITHOUT_RATE(rate="24").of("loft").of("card")
    assert (
        str(notice)
        == "card: loft: images carry no frame rate: 24 fps is assumed, unless images-rate says another"
    )
    assert "images-rate" in notice.marked and notice.marked != str(notice)


def test_a_notice_comes_through_documents_and_json_as_it_was_and_an_unknown_one_is_still_shown() -> None:
    notice = edit.OWN_SPEED(percent=float(Fraction(199, 2))).of("day.otio")
    assert read_document(write_document(notice, Notice, 1), Notice, 1) == notice
    assert notice_from_json(notice_as_json(notice)) == notice
    assert str(notice_from_json("an older text")) == "an older text"
    assert "later" in str(Notice("later", {"frames": 3})) and "3" in str(Notice("short", {"others": 3}))


def test_no_code_decides_by_the_words_of_a_message() -> None:
    """Neither a search in the text of an error or a notice, nor a comparison with it."""
    wrong = []
    for path in sorted((ROOT / "core").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Compare) and any(isinstance(op, ast.In | ast.Eq) for op in node.ops):
                for side in (node.left, *node.comparators):
                    text = ast.unparse(side)
                    if re.search(
                        r"\bstr\((error|warning|notice|one\.reason)\)|\.(message|marked|failure)$", text
                    ):
                        wrong.append((path.name, ast.unparse(node)))
    assert wrong == []

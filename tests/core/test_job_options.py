"""Options of a job are declared once: parser, job files, their schema, saved plans and the guide follow from that."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from boxkite.cli.dispatch import build_parser
from boxkite.core.errors import PlanError
from boxkite.core.job.file import job_schema, read_job_file, save_job
from boxkite.core.job.job import FIELD_OF, OPTIONS, Job
from boxkite.core.job.option import Option, default_of
from boxkite.core.job.options import JobOptions, job_from_options, options_from_tables

COMMANDS = ("plan", "preview", "run", "inspect", "rename", "trim")
WRITTEN = {
    "images-rate": "12", "by": "ranges", "marks": "picks.csv", "marks-rate": "25", "start-timecode": "10:00:00:00",
    "closing-marker": "STOP", "picture": "edit", "media": ["card"], "tracks": ["V1,A1"], "retime": True, "depth": 3,
    "only": ["circled"], "except": ["name:x*"], "in": "3", "out": "9", "handles": 12, "join": True, "names": "@clip",
    "version-number": 4, "metadata": ["slates.csv"], "match-by": "clip", "existing": "skip", "replace-others": True,
    "since": "last", "look": "show.cube", "watermark": "mark.png", "sound": ["recorder"], "exact-cuts": True,
    "in-chunks": True, "joined": "also", "decode-with": "cuda", "layer": "diffuse", "manifest": "mhl", "view": "left",
    "accept-gaps": True,
    "accept-damaged": True, "paths": ["film.mov"], "to": ["web:out"], "presets": {"small": {"based_on": "web"}},
    "after": [{"step": "verify", "deep": True}, {"step": "send", "to": ["/there"], "only": ["light"]}],
    "otherwise": [{"only": ["circled"], "handles": "1s"}],
}  # fmt: skip


def test_the_examples_here_name_every_option() -> None:
    assert set(WRITTEN) == set(OPTIONS) == set(FIELD_OF)


@pytest.mark.parametrize("command", COMMANDS)
def test_each_command_takes_just_the_options_that_are_declared_for_it(command: str) -> None:
    parser = build_parser(command)
    taken = {name.removeprefix("--") for action in parser._actions for name in action.option_strings}
    declared = {key for key, one in OPTIONS.items() if command in one.commands and key != "paths"}
    own = {"inspect": set(), "rename": {"marks"}}.get(command, set())
    assert declared <= taken and not (taken & set(OPTIONS)) - declared - own


def test_every_option_reaches_the_job_from_a_file_and_comes_back_from_one_that_is_saved(
    tmp_path: Path,
) -> None:
    options = options_from_tables(WRITTEN, "job.toml")
    job = job_from_options(options)
    for key, name in FIELD_OF.items():
        assert getattr(job, name) != default_of(Job, name), key
    save_job(options, tmp_path / "saved.toml")
    again = job_from_options(read_job_file(tmp_path / "saved.toml"), now=job.now)
    for name in ("handles", "only", "exceptions", "range_in", "existing", "depth", "tracks", "joined"):
        assert getattr(again, name) == getattr(job, name)
    assert again.media == (Path("card").absolute(),) or again.media == (tmp_path / "card",)


@pytest.mark.parametrize("key", [key for key, one in OPTIONS.items() if one.kind != "tables"])
def test_a_value_of_another_kind_is_refused_with_its_key(key: str) -> None:
    with pytest.raises(PlanError) as refused:
        options_from_tables({key: {"a": 1}}, "job.toml")
    assert refused.value.key == key


def test_the_schema_of_job_files_has_every_option_with_its_help_and_its_values() -> None:
    schema = job_schema()
    assert set(schema["properties"]) == set(OPTIONS) and schema["additionalProperties"] is False
    for key, one in OPTIONS.items():
        assert schema["properties"][key]["description"]
        assert schema["properties"][key].get("enum", []) == list(one.allowed)


def test_an_option_over_another_wins_and_an_empty_one_says_nothing() -> None:
    below = JobOptions({"names": "@clip", "only": ("circled",), "presets": {"a": {}, "b": {"fit": "1x1"}}})
    above = JobOptions({"names": "@marker", "only": (), "handles": None, "presets": {"a": {"fit": "2x2"}}})
    both = above.over(below)
    assert (both.get("names"), both.get("only"), both.get("handles", "")) == ("@marker", ("circled",), "")
    assert both.get("presets") == {"a": {"fit": "2x2"}, "b": {"fit": "1x1"}}


def test_the_tables_in_the_docs_are_as_declared() -> None:
    script = Path(__file__).resolve().parents[2] / "tools/reference.py"
    checked = subprocess.run([sys.executable, script, "--check"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stderr


def test_a_new_option_needs_nothing_but_its_declaration() -> None:
    """Its help, its place in job files and on the command line follow from one value."""
    one = Option("grain", "text", "how much grain", "outputs", allowed=("none", "fine"), default="none")
    assert (one.description, one.value_of("fine")) == ("how much grain (default: none)", "fine")
    with pytest.raises(PlanError, match="there is no “coarse”"):
        one.value_of("coarse")

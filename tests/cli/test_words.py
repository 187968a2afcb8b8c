"""What is said, and how it fits: tables, progress, JSON, hints."""

from __future__ import annotations

import ast
import fcntl
import json
import os
import pty
import select
import struct
import subprocess
import sys
import termios
from pathlib import Path

import jsonschema
import pyte
import pytest

from boxkite.cli import tables
from boxkite.cli.main import COMMANDS
from boxkite.cli.messages import printable
from boxkite.cli.screen import Screen
from boxkite.cli.tables import Column, file_size, print_table
from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.builders import needs_compiled
from tests.verification import PROGRAM, boxkite, kinds

RATE = FrameRate.parse("29.97")


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("card")
    for number, place in enumerate((VAT, LOFT), start=1):
        write_movie(Movie(folder / f"A-clip{number}.mov", 60, RATE, ((0, place),), source=number, width=320, height=180,
                          timecode=f"10:0{number}:00;02", reel=f"A00{number}"))  # fmt: skip
    (folder / "metadata.csv").write_text(
        "clip;scene;Paper weight\na-CLIP1;3;Heavy\nA-clip2.mov;4;\nA-clip9;5;Light\n"
    )
    (folder / "picks.csv").write_text(
        "source,name,in,out,keywords\nA-clip1,dip,10:01:00:10,10:01:01:00,vat\nA-clip2,,10,20,\nA-clip7,gone,1,2,\n"
    )
    return folder


def in_window(folder: Path, columns: int, *words: str) -> str:
    """What the program draws in a terminal window of so many columns."""
    return "\n".join(lines_in_window(folder, columns, 40, *words)[1])


def lines_in_window(folder: Path, columns: int, rows: int, *words: str) -> tuple[list[str], list[str]]:
    """What stands in a window at the end, with what has scrolled out of it; and all that was sent to it, by lines."""
    ours, theirs = pty.openpty()
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    environment = {
        **os.environ,
        "COLUMNS": str(columns),
        "LINES": str(rows),
        "TERM": "xterm",
        "NO_COLOR": "1",
    }
    process = subprocess.Popen(
        [PROGRAM, *words], cwd=folder, stdin=theirs, stdout=theirs, stderr=theirs, env=environment
    )
    os.close(theirs)
    screen, message = pyte.HistoryScreen(columns, rows, history=1000), b""
    stream = pyte.ByteStream(screen)
    while select.select([ours], [], [], 60)[0]:
        try:
            part = os.read(ours, 65536)
        except OSError:
            break
        if not part:
            break
        message += part
        stream.feed(part)
    os.close(ours)
    assert process.wait(timeout=60) == 0, message
    scrolled = ["".join(line[place].data for place in range(columns)).rstrip() for line in screen.history.top]
    return [*scrolled, *(line.rstrip() for line in screen.display)], message.decode().split("\n")


def test_progress_leaves_every_line_and_no_other_in_a_small_window(card: Path, tmp_path: Path) -> None:
    (tmp_path / "eight.csv").write_text(
        "source,name,in,out\n"
        + "".join(f"A-clip{n},m{n}{at},{at},{at + 14}\n" for n in (1, 2) for at in (0, 15, 30, 45))
    )
    words = ("run", ".", "--marks", str(tmp_path / "eight.csv"), "--to", "web:{}", "--to", "proxy-h264:{}/p")
    for attempt in range(1):
        to = str(tmp_path / f"o{attempt}")
        shown, _ = lines_in_window(card, 80, 24, *(word.format(to) for word in words))
        verified = [line for line in shown if line.startswith("verified")]
        assert len(verified) == len(set(verified)) == 16, shown
        assert not [line for line in shown if "━" in line or "╺" in line or " of 16 files" in line], shown


def test_tables_keep_whole_timecodes_in_80_columns_and_names_in_full_when_piped(card: Path) -> None:
    words = ("plan", ".", "--by", "ranges", "--marks", "picks.csv", "--names", f"@clip_{'long ' * 12}_@(marker|count)",
             "--to", "web:out")  # fmt: skip
    narrow = in_window(card, 80, *words)
    assert max(len(line) for line in narrow.replace("\r", "\n").split("\n") if "\x1b" not in line) <= 80
    assert "10:01:00;10  10:01:01;00" in narrow
    assert "…" in narrow
    piped = boxkite(*words, cwd=card).out
    assert f"A-clip1_{'long ' * 12}_dip.mp4".replace(" _", "_") in piped.replace(" _", "_")
    assert "\x1b" not in piped
    fitted = boxkite(*words, cwd=card, env={**os.environ, "COLUMNS": "80"}).out
    rows = [line for line in fitted.splitlines() if line.lstrip()[:1].isdigit() and "web" in line]
    assert rows and max(map(len, rows)) <= 80


def test_metadata_and_columns_become_tokens_and_what_found_no_source_is_reported(card: Path) -> None:
    done = boxkite("plan", "A-clip1.mov", "A-clip2.mov", "--by", "ranges", "--marks", "picks.csv", "--metadata", "metadata.csv",  # noqa: E501
                   "--names", "@scene[-@(Paper weight)]_@reel_@(keyword|in)", "--to", "web:out", "--json", cwd=card)  # fmt: skip  # noqa: E501
    assert done.status == 0, done.err
    assert [row["name"] for row in done.json["rows"]] == ["3-Heavy_A001_vat", "4_A002_10-02-00-12"]
    found = {(one["kind"], one["about"]) for one in done.json["notices"]}
    assert {("row-without-source", "metadata.csv:4"), ("mark-without-source", "picks.csv:4")} <= found
    assert kinds(done.json["rows"][1]["warnings"])[0] == "unnamed-mark"
    assert sum(gap["frames"] for gap in done.json["uncovered"]) == 120 - 20 - 10


def test_a_window_shows_progress_and_a_pipe_a_line_a_file(card: Path, tmp_path: Path) -> None:
    drawn = in_window(card, 100, "run", ".", "--by", "files", "--to", f"web:{tmp_path / 'a'}")
    for words in (
        "of 2 files",
        "A-clip1 (web)",
        "fps",
        "verified  A-clip2.mp4 (web): 60 frames",
        "2 files verified, 0 failed",
    ):
        assert words in drawn, words
    lines = boxkite("run", ".", "--by", "files", "--to", f"web:{tmp_path / 'b'}", cwd=card).out.splitlines()
    assert sorted(line[4:12] for line in lines[:2]) == ["verified", "verified"]
    assert {line[:3] for line in lines[:2]} == {"1/2", "2/2"}


def test_the_watermark_is_asked_for_only_where_there_is_one(card: Path) -> None:
    refused = boxkite("plan", "A-clip1.mov", "--to", "copy:x", "--watermark", "nothing.png", cwd=card)
    assert (refused.status, wording.NO_WATERMARK in refused.err) == (2, True)
    missing = boxkite("plan", "A-clip1.mov", "--to", "review:x", "--watermark", "nothing.png", cwd=card)
    assert (missing.status, "nothing.png: there is no such image" in missing.err) == (2, True)


def test_a_wrong_choice_names_the_right_ones(card: Path) -> None:
    refused = boxkite("plan", "A-clip1.mov", "--by", "marker", "--to", "web:x", cwd=card)
    assert (refused.status, "did you mean markers?" in refused.err) == (2, True)


def test_narrow_tables_lose_optional_columns_first_and_shorten_names_in_the_middle(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    columns = [Column("file", gives_way=True), Column("in"), Column("size", right=True, optional=True)]
    rows = [["a long name that ends in 0001.mov", "10:00:00:00", "12 MB"], ["b", "10:00:00:01", "1 MB"]]
    for width, shows in ((60, "12 MB"), (47, "0001.mov  10:00:00:00"), (30, "…")):
        monkeypatch.setenv("COLUMNS", str(width))
        print_table(Screen(), columns, rows)
        out = capsys.readouterr().out
        assert shows in out
        assert max(map(len, out.splitlines())) <= width
        assert "10:00:00:01" in out
        assert ("size" in out) == (width == 60)


def test_sizes_and_strangers_text_are_safe_to_show() -> None:
    assert [file_size(size) for size in (0, 999, 1000, 123_456, 99_950_000, 5 * 10**9)] == [
        "0 B", "999 B", "1.0 kB", "123 kB", "100 MB", "5.0 GB"]  # fmt: skip
    assert printable("a\x1b[31mb\nc") == "a�[31mb�c"


def test_json_of_inspect_holds_the_metadata_of_every_source(card: Path) -> None:
    first = boxkite("inspect", ".", "--json", cwd=card).json["sources"][0]
    assert first["video"] | {"codec": "h264"} == {
        "codec": "h264", "width": 320, "height": 180, "rate": "29.97", "rate_fraction": "30000/1001", "frames": 60,
        "frames_exact": True, "length": "00:00:02;00", "pixel_format": "yuv420p", "bit_depth": 8, "sample_aspect": "1",
        "field_order": "progressive", "alpha": False, "rotation_degrees": 0, "full_range": False,
        "primaries": "BT.709", "transfer": "BT.709", "matrix": "BT.709",
    }  # fmt: skip
    assert (first["start_timecode"], first["reel"]) == ("10:01:00;02", "A001")
    assert first["audio"] == [
        {"codec": "pcm_s16le", "sample_rate_hz": 48000, "channels": 2, "layout": "stereo"}
    ]


def test_odd_bytes_in_names_break_neither_tables_nor_json(card: Path, tmp_path: Path) -> None:
    odd = os.fsencode(tmp_path) + b"/clip\xff\x1b[31m.mov"
    Path(os.fsdecode(odd)).write_bytes((card / "A-clip1.mov").read_bytes())
    for words in (["inspect", tmp_path], ["inspect", tmp_path, "--json"], ["plan", tmp_path, "--to", "web:out"],
                  ["plan", os.fsdecode(odd), "--to", "web:out"]):  # fmt: skip
        done = boxkite(*words, cwd=tmp_path)
        assert wording.INTERNAL_ERROR not in done.err
        assert "\x1b" not in done.out + done.err


def test_a_plan_says_what_it_adds_up_to_and_each_warning_once_a_shot(card: Path, tmp_path: Path) -> None:
    words = ("plan", "A-clip1.mov", "--by", "ranges", "--marks", "picks.csv", "--to", f"web:{tmp_path}/w", "--to",
             f"stock:{tmp_path}/s", "--to", f"proxy:{tmp_path}/p")  # fmt: skip
    message = boxkite(*words, cwd=card).out
    assert wording.TOTAL in message
    assert f"free at {tmp_path}/w: " in message
    assert message.count("20 frames: shorter than a second") == 1
    assert "! 1-3 A-clip1_dip: " in message
    assert wording.ONE_SHORT in message


def test_the_list_of_commands_fits_a_screen() -> None:
    lines = boxkite("--help").out.splitlines()
    assert len(lines) <= 24 and max(map(len, lines)) <= 80
    assert "exit status" in boxkite("--help-all").out


@pytest.mark.parametrize("command", [*COMMANDS, "mark add", "mark import"])
def test_help_fits_a_screen_and_says_where_the_rest_is(command: str) -> None:
    shown = boxkite(*command.split(), "--help")
    lines = shown.out.splitlines()
    assert shown.status == 0 and len(lines) <= 24 and max(map(len, lines)) <= 80, shown.out
    assert boxkite("help", *command.split()).out == shown.out
    everything = boxkite(*command.split(), "--help-all").out
    assert len(everything) > len(shown.out) or "--help-all" in shown.out
    assert "--help-all" in shown.out


@pytest.mark.parametrize(
    ("words", "hint"),
    [
        (["checksum"], "boxkite manifest"),
        (["upload"], "the folder that --to names"),
        (["transcode"], "boxkite run"),
        (["help", "pln"], "did you mean plan?"),
        (["run", "a.mov", "--output", "x"], "--to PRESET:FOLDER"),
        (["plan", "a.mov", "--dry-run"], "boxkite plan"),
        (["run", "a.mov", "--lut", "x"], "--look FILE"),
    ],
)
def test_words_that_people_try_are_answered_by_meaning(words: list[str], hint: str) -> None:
    refused = boxkite(*words)
    assert refused.status == 2 and hint in refused.err


def test_tokens_are_listed_with_how_alike_ones_differ() -> None:
    listed = boxkite("inspect", "--tokens", "--json").json["tokens"]
    for token in ("version", "created", "event", "total", "resolution", "record"):
        assert token in listed
    for token, other in (("marker", "clip"), ("date", "created"), ("record", "in"), ("shot", "count")):
        assert other in listed[token]


def test_every_command_shows_examples_that_its_own_words_understand() -> None:
    for command in ("plan", "run", "presets", "patterns", "rename", "trim"):
        message = boxkite(command, "--help-all").out
        assert wording.EXAMPLES in message
        for line in message.partition("examples:")[2].splitlines():
            for word in line.split():
                if word.startswith("--") and f"boxkite {command}" in line:
                    assert f"  {word}" in message or f" {word}" in message.partition("examples:")[0], (
                        command,
                        word,
                    )


def completed(folder: Path, line: str) -> list[str]:
    """What the shell is offered for a line that was typed so far."""
    answer = folder / "answer.txt"
    asked = {
        "COMP_LINE": line, "COMP_POINT": str(len(line)), "COMP_TYPE": "9", "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_SUPPRESS_SPACE": "1", "_ARGCOMPLETE_STDOUT_FILENAME": str(answer),
    }  # fmt: skip
    subprocess.run([str(PROGRAM)], env={**os.environ, **asked}, cwd=folder, check=False, capture_output=True)
    return answer.read_text().splitlines()


def test_the_shell_completes_commands_options_presets_tokens_and_keywords(tmp_path: Path) -> None:
    (tmp_path / "picks.csv").write_text("name,in,out,keywords\ndip,0,9,vat; wet\n")
    for line, offered in (
        ("boxkite pl", "plan"),
        ("boxkite help res", "resume"),
        ("boxkite plan a.mov --na", "--names"),
        ("boxkite plan a.mov --to web-s", "web-small:"),
        ('boxkite plan a.mov --names "@mar', "@marker"),
        ("boxkite plan a.mov --by det", "detected-cuts"),
        ("boxkite plan a.mov --marks picks.csv --only keyword:w", "keyword:wet"),
        ("boxkite presets show revi", "review"),
    ):
        assert offered in completed(tmp_path, line), line
    for shell in ("bash", "zsh", "fish"):
        assert "_ARGCOMPLETE" in boxkite("completion", shell).out


@pytest.mark.parametrize(
    ("name", "words"),
    [
        (
            "plan",
            (
                "plan",
                ".",
                "--by",
                "files",
                "--names",
                "@clip_v@version",
                "--to",
                "web:w",
                "--to",
                "frames-png:p",
            ),
        ),
        (
            "plan",
            (
                "plan",
                ".",
                "--by",
                "ranges",
                "--marks",
                "picks.csv",
                "--metadata",
                "metadata.csv",
                "--to",
                "copy:c",
            ),
        ),
        ("inspect", ("inspect", ".")),
        ("inspect", ("inspect", "A-clip1.mov", "--deep")),
        ("presets", ("presets",)),
        ("status", ("status",)),
        ("tokens", ("inspect", "--tokens")),
        ("tokens-of", ("inspect", "A-clip1.mov", "--metadata", "metadata.csv", "--tokens")),
        ("patterns", ("patterns",)),
        ("presets-show", ("presets", "show", "stock")),
        ("presets-check", ("presets", "check")),
        ("watch", ("watch", ".", "--list")),
        ("rename", ("rename", ".", "--names", "x_@clip", "--show-only")),
    ],
)
def test_what_is_printed_as_json_is_as_its_schema_says(card: Path, name: str, words: tuple[str, ...]) -> None:
    schema = boxkite("schema", name).json
    printed = boxkite(*words, "--json", cwd=card).json
    assert printed["schema"] == schema["$id"] == f"boxkite/{name}/1"
    jsonschema.validate(printed, schema)
    assert set(printed) <= set(schema["properties"]), "a key that is not published"


def test_a_run_and_its_batch_are_as_their_schemas_say(card: Path, tmp_path: Path) -> None:
    done = boxkite("run", ".", "--by", "files", "--to", f"web:{tmp_path}", "--json", cwd=card)
    jsonschema.validate(done.json, boxkite("schema", "run").json)
    jsonschema.validate(boxkite("status", "last", "--json").json, boxkite("schema", "batch").json)
    for line in boxkite("log", "last", "--json").out.splitlines():
        jsonschema.validate(json.loads(line), boxkite("schema", "log").json)
    assert boxkite("schema", "plna").status == 2


def test_everything_that_is_printed_as_json_has_a_schema() -> None:
    folder = Path(tables.__file__).parent
    names = {path.stem for path in (folder / "schemas").glob("*.json")}
    named = set[str]()
    for path in folder.glob("*.py"):
        calls = [node for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call)]
        for call in calls:
            if getattr(call.func, "id", "") == "print_json" and not ast.unparse(call).endswith("_schema())"):
                assert len(call.args) == 2, f"{path.name}:{call.lineno}"
                named |= {node.value for node in ast.walk(call.args[1]) if isinstance(node, ast.Constant)} - {
                    ""
                }
    assert named | {"log"} == names


@pytest.mark.parametrize("words", [["--help"], ["plan", "--help"], ["status"]])
def test_help_and_status_load_nothing_heavy(words: list[str], card: Path, tmp_path: Path) -> None:
    boxkite("run", "A-clip1.mov", "--by", "files", "--to", f"copy:{tmp_path}", cwd=card)
    code = f"import sys; sys.argv[1:] = {words}; from boxkite.cli.main import main; main()"
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-c", code], capture_output=True, text=True, check=True
    )
    loaded = {line.rpartition("|")[2].strip().partition(".")[0] for line in done.stderr.splitlines()}
    heavy = {"av", "numpy", "pydantic", "PyOpenColorIO", "filelock", "PIL", "opentimelineio"}
    assert not loaded & (heavy | (set() if words[0] == "plan" else {"dataclasses"}))
    assert "rich.console" not in done.stderr


def test_a_run_of_a_remembered_source_loads_neither_numpy_nor_pydantic(card: Path, tmp_path: Path) -> None:
    """Nor do its workers: where these cannot be loaded, the file is made all the same."""
    needs_compiled()
    words = ("run", "A-clip1.mov", "--by", "files", "--to")
    assert boxkite(*words, f"web:{tmp_path / 'first'}", cwd=card).status == 0
    for name in ("numpy", "pydantic", "PIL"):
        (tmp_path / "path" / name).mkdir(parents=True)
        (tmp_path / "path" / name / "__init__.py").write_text("raise RuntimeError('it was loaded')")
    environment = {**os.environ, "PYTHONPATH": str(tmp_path / "path")}
    command = [PROGRAM, *words, f"web:{tmp_path / 'second'}"]  # as a shell does: nothing is loaded before
    done = subprocess.run(command, cwd=card, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr

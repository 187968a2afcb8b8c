"""Nothing is lost or false: sources exchanged under a batch, cards that cannot be read, journals tampered with."""

from __future__ import annotations

import json
import os
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import zlib
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import pytest

from boxkite.core.batch.packing import VERSION
from boxkite.core.files.cells import guarded
from boxkite.core.timebase import FrameRate, Span
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import LOFT, VAT
from tests import wording
from tests.verification import PROGRAM, Run, assert_holds, boxkite

RATE = FrameRate.parse("25")


def wait_for(there: Callable[[], object], seconds: float = 40) -> None:
    until = time.monotonic() + seconds
    while not there():
        assert time.monotonic() < until, "it never came"
        time.sleep(0.02)


@pytest.fixture(scope="module")
def films(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two films of one size in bytes and one time of change, and marks for either."""
    folder = tmp_path_factory.mktemp("films")
    for name, pictures in (("film", ((0, VAT), (200, LOFT))), ("other", ((0, LOFT), (100, VAT)))):
        write_movie(Movie(folder / f"{name}.mov", 400, RATE, pictures, width=480, height=272))
    size = max((folder / f"{name}.mov").stat().st_size for name in ("film", "other"))
    for name in ("film", "other"):
        with (folder / f"{name}.mov").open("ab") as file:  # a box that players skip
            missing = size + 8 - file.tell()
            file.write(missing.to_bytes(4, "big") + b"free" + bytes(missing - 8))
        os.utime(folder / f"{name}.mov", (10**9, 10**9))
    (folder / "marks.csv").write_text("name,in\n" + "".join(f"s{n},{n * 100}\n" for n in range(4)))
    return folder


@pytest.fixture
def place(films: Path, tmp_path: Path) -> Path:
    for name in ("film.mov", "other.mov", "marks.csv"):
        shutil.copy2(films / name, tmp_path / name)
    return tmp_path


@pytest.fixture
def state(tmp_path: Path) -> dict[str, str]:
    return {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}


WORDS = ("run", "film.mov", "--by", "markers", "--marks", "marks.csv", "--names", "@marker", "--workers", "1",
         "--to", "stock:out")  # fmt: skip


def exchange(place: Path) -> None:
    (place / "other.mov").replace(place / "film.mov")


def write_into(place: Path) -> None:
    """Something else in the middle of the film, its time put back."""
    with (place / "film.mov").open("r+b") as file:
        file.seek((place / "film.mov").stat().st_size // 2)
        file.write(b"something else")
    os.utime(place / "film.mov", (10**9, 10**9))


@pytest.mark.parametrize("change", [exchange, write_into])
def test_a_source_that_changes_while_a_batch_runs_gives_no_file_of_the_wrong_frames(
    place: Path, state: dict[str, str], change: Callable[[Path], None]
) -> None:
    with subprocess.Popen([PROGRAM, *WORDS], cwd=place, env=state, stdout=subprocess.PIPE, text=True) as run:
        wait_for(lambda: any((place / "out").glob("s*.mov")))
        change(place)
        message, _ = run.communicate(timeout=60)
    assert run.returncode == 1 and wording.SOURCE_CHANGED in message, message
    made = sorted((place / "out").iterdir())
    assert 0 < len(made) < 4
    for path in made:
        start = int(path.stem[1:]) * 100
        assert_holds(path, Span(start, start + 100), RATE)


@pytest.mark.parametrize("change", [exchange, write_into])
def test_a_source_that_changes_while_a_batch_waits_is_refused_until_that_is_accepted(
    place: Path, state: dict[str, str], change: Callable[[Path], None]
) -> None:
    with subprocess.Popen([PROGRAM, *WORDS], cwd=place, env=state, stdout=subprocess.PIPE) as run:
        wait_for(lambda: any((place / "out").glob("s*.mov")))
        run.kill()
    made = len(list((place / "out").glob("s*.mov")))
    change(place)
    refused = boxkite("resume", cwd=place, env=state)
    assert refused.status == 1 and wording.SOURCE_CHANGED_SINCE_BATCH in refused.out
    assert len(list((place / "out").glob("s*.mov"))) == made
    if change is exchange:
        assert boxkite("resume", "--accept-changes", cwd=place, env=state).status == 0


def test_images_that_change_while_they_are_read_fail_their_shot(tmp_path: Path) -> None:
    from boxkite.core.errors import ChangedError
    from boxkite.core.footage.decoding import read_frames
    from boxkite.core.footage.find import find_sources
    from boxkite.core.footage.frame_index import measure_frames
    from boxkite.demo.pictures import draw_picture

    for number in range(1, 6):
        draw_picture(VAT, 1, number, 96, 64).to_image().save(tmp_path / f"a.{number:04}.png")
    (source,) = find_sources([tmp_path]).sources
    table = measure_frames(source)
    with pytest.raises(ChangedError):
        for number, _ in read_frames(source, table, table.span, threads=1):
            if number == 1:
                (tmp_path / "a.0005.png").write_bytes((tmp_path / "a.0001.png").read_bytes())


def journal(state: dict[str, str]) -> sqlite3.Connection:
    return sqlite3.connect(Path(state["BOXKITE_STATE"]) / "batches.sqlite")


def stopped(place: Path, state: dict[str, str]) -> None:
    """A batch of which nothing is made yet."""
    with subprocess.Popen([PROGRAM, *WORDS], cwd=place, env=state, stdout=subprocess.DEVNULL) as run:
        wait_for(lambda: list((place / "out").glob(".boxkite-*")))
        run.send_signal(signal.SIGKILL)


def test_a_journal_that_was_tampered_with_runs_nothing_and_calls_nobody(
    place: Path, state: dict[str, str]
) -> None:
    stopped(place, state)
    touched = place / "touched"
    command = f"{sys.executable} -c \"open({str(touched)!r}, 'w')\""
    with journal(state) as store:
        settings = {"when_ended": command, "web_hook": "http://127.0.0.1:9/x", "cluster": "tcp://127.0.0.1:9",
                    "asked": ["command", "cluster"], "workers": "many", "turn": ["x"]}  # fmt: skip
        store.execute("update batch set settings = ?", (json.dumps(settings),))
        (content,) = store.execute("select content from plan_document").fetchone()
    done = boxkite("resume", cwd=place, env=state)
    assert done.status == 0 and not touched.exists(), done
    assert "--when-ended gives it again" in done.out and wording.MADE_HERE_NOW in done.out
    import pickle

    class Opens:
        def __reduce__(self):
            return open, (str(touched), "w")

    plain = zlib.decompress(content)
    outside = plain.replace(b'"name":"s3"', b'"name":"../../s3"')
    assert outside != plain
    for bad, says in (
        (zlib.compress(pickle.dumps(Opens())), "cannot be read back"),
        (zlib.compress(plain.replace(b'"version":%d' % VERSION, b'"version":99')), "this program reads"),
        (zlib.compress(outside), "outside the output folder"),
        (b"", "cannot be resumed"),
    ):
        with journal(state) as store:
            store.execute("update plan_document set content = ?", (bad,))
            store.execute("update file set state = 'planned'")
            store.execute("update batch set state = 'stopped'")
        for path in (place / "out").iterdir():
            path.unlink()
        refused = boxkite("resume", cwd=place, env=state)
        assert refused.status == 2 and says in refused.err, refused
        assert not touched.exists() and not list((place / "out").iterdir())


def test_a_cache_that_was_tampered_with_runs_nothing(place: Path) -> None:
    import pickle

    class Opens:
        def __reduce__(self):
            return open, (str(place / "touched"), "w")

    env = {**os.environ, "BOXKITE_CACHE": str(place / "cache")}
    assert boxkite("inspect", "film.mov", "--deep", cwd=place, env=env).status == 0
    with sqlite3.connect(place / "cache/sources.sqlite") as store:
        assert {kind for (kind,) in store.execute("select kind from kept")} == {"source", "deep"}
        store.execute("update kept set value = ?", (pickle.dumps(Opens()),))
    assert boxkite("inspect", "film.mov", "--deep", cwd=place, env=env).status == 0
    assert not (place / "touched").exists()


def test_a_card_is_complete_only_when_everything_on_it_was_seen_and_copied(tmp_path: Path) -> None:
    card = tmp_path / "A001"
    (card / "clips").mkdir(parents=True)
    (card / "clips/a.mov").write_bytes(b"1" * 1000)
    (card / "back\\slash\nfeed.bin").write_bytes(b"22")
    (card / ".hidden").touch()
    into = tmp_path / "into"
    done = boxkite("gather", card, "--into", into)
    assert done.status == 0
    assert "A001: 2 files, 1.0 kB on the card; 2 files, 1.0 kB copied and verified: complete" in done.out
    assert wording.HIDDEN_LEFT in done.out
    lines = (into / "checksums.xxh128").read_text().splitlines()
    assert (
        len(lines) == 2 and lines[0].startswith("\\") and lines[0].endswith("A001/back\\\\slash\\nfeed.bin")
    )
    os.mkfifo(card / "pipe")
    (card / "link.mov").symlink_to("clips/a.mov")
    (card / "away").symlink_to(tmp_path)
    partly = boxkite("gather", card, "--into", into, "--json")
    assert partly.status == 1 and wording.NOT_COMPLETE in partly.err
    (counted,) = partly.json["cards"]
    assert (counted["complete"], counted["files"], counted["copied_files"]) == (False, 2, 2)
    assert {Path(one["path"]).name for one in counted["not_copied"]} == {"pipe", "link.mov", "away"}
    (into / "A001/clips/a.mov").write_bytes(b"x" * 1000)
    other = boxkite("gather", card, "--into", into)
    assert other.status == 1 and "1 file, 2 B copied" in other.out


def test_gathering_keeps_what_others_wrote_into_its_tables_or_touches_nothing(tmp_path: Path) -> None:
    for name in ("A001", "B001"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "=cmd.mov").write_bytes(b"1")
    into = tmp_path / "into"
    into.mkdir()
    theirs = 'file;Note;Unit\r\n"B001/=cmd.mov";"two\nlines";\r\n;a row without a file;7\r\nx.mov;1;2;3;4\r\n'
    (into / "metadata.csv").write_bytes(theirs.encode())
    (into / "checksums.xxh128").write_text("# by hand\n0123  other.mov\nd41d8cd9 *md5.mov\n")
    assert boxkite("gather", tmp_path / "B001", "--into", into, "--value", "Unit==now()").status == 0
    assert boxkite("gather", tmp_path / "A001", "--into", into, "--value", "Place=mill").status == 0
    text = (into / "metadata.csv").read_bytes().decode("utf-8-sig")
    assert 'B001/=cmd.mov;"two\nlines";\'=now();B001' in text.replace('"B001', "B001").replace('mov"', "mov")
    assert (
        ";a row without a file;7" in text and "x.mov;1;2;3;4" in text and "A001/=cmd.mov;;;A001;mill" in text
    )
    assert (
        (into / "checksums.xxh128").read_text().startswith("# by hand\n0123  other.mov\nd41d8cd9 *md5.mov\n")
    )
    tokens = boxkite("plan", tmp_path, "--metadata", into / "metadata.csv", "--to", f"web:{tmp_path / 'o'}")
    assert "Traceback" not in tokens.err
    for bad in (b"a,b\r\n1,2\r\n", b'File,Note\n"never closed', "File".encode("utf-16")):
        (into / "metadata.csv").write_bytes(bad)
        (tmp_path / "A001/new.mov").write_bytes(b"2")
        refused = boxkite("gather", tmp_path / "A001", "--into", into)
        assert refused.status == 2 and "metadata.csv" in refused.err
        assert (into / "metadata.csv").read_bytes() == bad and not (into / "A001/new.mov").exists()


def test_what_cannot_be_looked_into_is_named_and_makes_the_status_one(place: Path) -> None:
    card = place / "card"
    card.mkdir()
    shutil.copy2(place / "film.mov", card / "film.mov")
    (card / "more").symlink_to(place)
    for words in (
        ("inspect", "card"),
        ("plan", "card", "--to", "copy:out"),
        ("run", "card", "--to", "copy:out"),
    ):
        done = boxkite(*words, cwd=place)
        assert done.status == 1, done
        if words[0] != "run":
            assert f"! {Path('card/more')}: a link to a folder, which is not followed" in done.out
    assert (
        boxkite("plan", "card", "--to", "copy:o2", "--json", cwd=place).json["unseen"][0]["path"]
        == "card/more"
    )
    assert len(list((place / "out").iterdir())) == 1
    (card / "more").unlink()
    assert boxkite("inspect", "card", cwd=place).status == 0


def test_odd_names_cost_one_line_each_and_the_rest_goes_on(place: Path) -> None:
    card = place / "card"
    card.mkdir()
    odd = [os.fsdecode(b"caf\xe9.mov"), "line\nfeed.mov", "=cmd.mov", "n" * 245 + ".mov", "m" * 251 + ".mov"]
    for name in (*odd, "fine.mov"):
        os.link(place / "film.mov", card / name)
    env = {**os.environ, "BOXKITE_STATE": str(place / "state")}
    words = ("--by", "files", "--names", "x_@clip", "--to", "copy:out")
    planned = boxkite("plan", "card", *words, "--save-plan", "plan.csv", "--json", cwd=place, env=env)
    assert planned.status == 1 and len(planned.json["rows"]) == 5
    assert "too long for a file name: 257 bytes" in planned.json["unseen"][0]["reason"]
    done = boxkite("run", "plan.csv", cwd=place, env=env)
    assert done.status == 0 and len(list((place / "out").iterdir())) == 5, done
    assert boxkite("run", "card", *words, "--existing", "skip", cwd=place, env=env).status == 1
    listed = boxkite("status", "last", "--files", "--json", cwd=place, env=env)
    assert len(listed.json["files"]) in (0, 5)
    assert boxkite("inspect", "card", "--json", cwd=place).json["sources"][0]["path"]
    assert boxkite("plan", "~nosuch/x", "--to", "web:out", cwd=place).status == 2
    (place / "job.toml").write_text('paths = ["a\\u0000b.mov"]\nto = ["web:out"]\n')
    zero = boxkite("plan", "job.toml", cwd=place)
    assert zero.status == 2 and wording.ZERO_BYTE in zero.err


def test_one_source_that_makes_no_sense_is_set_aside_and_a_gap_must_be_accepted(tmp_path: Path) -> None:
    import av
    import numpy as np

    card = tmp_path / "card"
    card.mkdir()
    for name, last in (("fine", 400), ("gap", 8_388_610_000)):
        with av.open(str(card / f"{name}.mkv"), "w") as container:
            stream = container.add_stream("libx264", rate=25)
            stream.width, stream.height, stream.pix_fmt = 96, 64, "yuv420p"
            stream.codec_context.time_base = Fraction(1, 1000)
            for number, pts in enumerate([*range(0, 400, 40), last]):
                frame = av.VideoFrame.from_ndarray(np.full((96, 96), number, np.uint8), format="yuv420p")
                frame.pts, frame.time_base = pts, Fraction(1, 1000)
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
    planned = boxkite("plan", "card", "--to", "web:out", "--json", cwd=tmp_path)
    assert [row["name"] for row in planned.json["rows"]] == ["fine"]
    assert any("2330.2 hours" in one["text"] and "gap.mkv" in one["about"] for one in planned.json["notices"])
    assert boxkite("run", "card/gap.mkv", "--to", "web:out", cwd=tmp_path).status == 2
    accepted = boxkite("plan", "card/gap.mkv", "--accept-gaps", "--to", "web:out", "--json", cwd=tmp_path)
    assert accepted.json["rows"][0]["frames"] > 200_000_000


def test_timelines_of_times_that_make_no_sense_are_refused(tmp_path: Path) -> None:
    write_movie(Movie(tmp_path / "film.mov", 50, RATE, ((0, VAT),), width=96, height=64))

    def edl(end: str) -> str:
        return (
            "TITLE: CUT\nFCM: NON-DROP FRAME\n\n"
            f"001  FILM     V     C        00:00:00:00 00:00:02:00 01:00:00:00 {end}\n* FROM CLIP NAME: film.mov\n"
            f"M2   FILM     000.0                00:00:00:00\n"
        )

    words = (
        "plan",
        "cut.edl",
        "--picture",
        "edit",
        "--by",
        "timelines",
        "--media",
        "film.mov",
        "--to",
        "web:out",
    )
    (tmp_path / "cut.edl").write_text(edl("01:00:05:00"))
    assert boxkite(*words, "--marks-rate", "25", cwd=tmp_path).status == 0
    (tmp_path / "cut.edl").write_text(edl("07:00:00:00"))
    refused = boxkite(*words, "--marks-rate", "25", cwd=tmp_path)
    assert refused.status == 2 and wording.LONG_HOLD in refused.err
    assert boxkite(*words, "--marks-rate", "25", "--accept-gaps", cwd=tmp_path).status == 0


def test_pipes_and_bombs_are_refused_wherever_a_path_can_be_given(place: Path) -> None:
    from PIL import Image

    os.mkfifo(place / "pipe")
    Image.new("RGB", (13000, 13000)).save(place / "bomb.png")
    for suffix in (".mov", ".csv", ".edl", ".otio", ".toml", ".cube", ".png", ".ttf", ".xml", ".ale", ".wav"):
        os.link(place / "pipe", place / f"pipe{suffix}")
    (place / "rubbish.ttf").write_text("no font")
    for name in ("pipe", "rubbish"):
        font = f'[[burn_in]]\ntext = "@name"\nposition = "bottom left"\nfont = "{name}.ttf"\n'
        (place / f"font-{name}.toml").write_text(f'based_on = "review"\n{font}')
    planned = ("plan", "film.mov", "--marks", "marks.csv", "--to", "review:out")
    for words in (
        ("inspect", "pipe.mov"), ("inspect", "pipe.otio"), ("plan", "pipe.toml"), ("plan", "pipe.csv"),
        ("plan", "film.mov", "--marks", "pipe.edl", "--to", "web:out"), (*planned, "--metadata", "pipe.csv"),
        (*planned, "--metadata", "pipe.ale"), (*planned, "--look", "pipe.cube"), (*planned, "--watermark", "pipe.png"),
        (*planned, "--watermark", "bomb.png"), (*planned[:-1], "font-pipe.toml:out"),
        (*planned[:-1], "font-rubbish.toml:out"),
        (*planned, "--sound", "pipe.wav"), ("plan", "film.mov", "--to", "pipe.toml:out"),
        ("plan", "bomb.png", *planned[4:]),
        ("mark", "import", "film.mov", "pipe.xml"),
        ("rename", "film.mov", "--names", "x_@clip", "--metadata", "pipe.csv"),
        ("preview", "film.mov", "--to", "review:out", "--still", "pipe.png"), ("watch", ".", "--job", "pipe.toml"),
        ("plan", "/dev/zero", "--to", "web:out"), (*planned[:2], "--marks", "/dev/zero", "--to", "web:out"),
    ):  # fmt: skip
        done = boxkite(*words, cwd=place, timeout=20)
        assert done.status == 2 and "inside" not in done.err, (words, done)
    assert resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss < 1_500_000


def test_tables_that_we_write_hold_no_formula(place: Path) -> None:
    (place / "=cmd.csv").write_text('name,in,out,note\n"=1+1",0,9,"@note"\n-dip,9,20,+7\n')
    (place / "marks.csv").unlink()
    assert boxkite("mark", "import", "film.mov", "=cmd.csv", cwd=place).status == 0
    assert boxkite("mark", "export", "film.mov", "out.csv", cwd=place).status == 0
    saved = boxkite(
        "plan",
        "film.mov",
        "--by",
        "ranges",
        "--names",
        "x_@marker",
        "--to",
        "web:out",
        "--save-plan",
        "p.csv",
        cwd=place,
    )
    assert saved.status == 0
    for name in ("marks.csv", "out.csv", "p.csv"):
        text = (place / name).read_text("utf-8-sig")
        assert guarded("=1+1") in text, text
        assert not [
            cell for line in text.splitlines() for cell in line.split(",") if cell[:1] in "=+-@" and cell
        ]
    marks = boxkite("mark", "list", "film.mov", "--json", cwd=place).json["marks"]
    assert [(one["name"], one["note"]) for one in marks[-2:]] == [("=1+1", "@note"), ("-dip", "+7")]


@pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="needs the right to mount")
def test_a_watch_resumes_what_had_no_room_once_there_is_room_and_says_what_waits(
    place: Path, state: dict[str, str]
) -> None:
    volume, landing = place / "small", place / "landing"
    volume.mkdir()
    landing.mkdir()
    (place / "alias").symlink_to(landing)
    shutil.copy2(place / "film.mov", landing / "film.mov")
    (place / "job.toml").write_text(f'to = ["stock:{volume}/out"]\nby = "files"\n')
    mount = ["mount", "-t", "tmpfs", "-o", "size=900k", "tmpfs", volume]
    if subprocess.run(mount, check=False).returncode:
        pytest.skip("no mounting here")
    command = [
        PROGRAM,
        "watch",
        place / "alias",
        "--job",
        place / "job.toml",
        "--settle",
        "0.1",
        "--every",
        "0.2",
    ]

    def listed() -> Run:
        return boxkite("watch", landing, "--list", "--json", env=state)

    try:
        with subprocess.Popen(command, env=state, stdout=subprocess.PIPE, stderr=subprocess.STDOUT) as watch:
            wait_for(lambda: any(one["state"] == "waiting for room" for one in listed().json["landed"]))
            second = boxkite("watch", landing, "--job", place / "job.toml", "--once", env=state)
            assert second.status == 2 and wording.WATCHED_BY_ANOTHER in second.err
            message = listed().json
            assert message["watched"] and message["landed"][0]["verified"] == 0
            subprocess.run(["mount", "-o", "remount,size=200m", volume], check=True)
            wait_for(lambda: listed().json["landed"][0]["state"] == "verified")
            assert_holds(volume / "out/film.mov", Span(0, 400), RATE)
            watch.kill()
    finally:
        subprocess.run(["umount", volume], check=True)


def test_the_log_of_two_thousand_files_comes_at_once(tmp_path: Path) -> None:
    from boxkite.core.records.journal import Journal
    from boxkite.core.records.record import FileRecord
    from boxkite.core.records.store import Records

    with Records(tmp_path) as records:
        files = [
            FileRecord(
                number, Path(f"/out/{number}.mp4"), str(number), Path("/a.mov"), "1-1", 0, 10, "web", "r"
            )
            for number in range(1, 2001)
        ]
        journal = Journal(records, records.begin("@marker", None, files))
        for number in range(1, 2001):
            journal.started({number: ""})
            journal.verified(number, checksum="c", size_bytes=1, seconds=1.0)
    took = []
    for _ in range(3):
        begun = time.monotonic()
        done = boxkite("log", "last", env={**os.environ, "BOXKITE_STATE": str(tmp_path)})
        took.append(time.monotonic() - begun)
    assert done.out.count("\n") == 6000 and min(took) < 0.5, took

"""Catalogues and contact sheets of what was made, or of any folder, with names and metadata from strangers."""

from __future__ import annotations

import csv
import os
from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

import av
import numpy as np
import pytest
from openpyxl import load_workbook
from PIL import Image
from pypdf import PdfReader

from boxkite.core.timebase import FrameRate
from boxkite.demo.movies import Movie, write_movie
from boxkite.demo.pictures import VAT
from tests.builders import write_day
from tests.verification import boxkite

pytestmark = pytest.mark.xdist_group("sheets")
HOSTILE = {
    "=1+2": "=1+2",
    "<b>&amp;\"'": "<script>alert(1)</script>",
    "long": "x" * 10_000,
    "rtl": "\u202eעברית\u202c abc",
}


@pytest.fixture(scope="module")
def day(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = write_day(tmp_path_factory.mktemp("sheets") / "day", (96, 64))
    lines = [
        "File;Scene;Take;Paper weight;Keywords",
        "A-vat2.mov;3;2;Heavy Rag;vat",
        "B-loft7.mov;6;7;Light Rag;loft, light",
    ]
    (place / "slates.csv").write_text("\n".join(lines))
    done = boxkite("run", "card", "--by", "files", "--metadata", "slates.csv", "--to", "web:out/web",
                   "--to", "stock:out/stock", cwd=place)  # fmt: skip
    assert done.status == 0, done.err
    return place


def fading(path: Path, *, bright: range, frames: int = 100, gop: int = 300) -> None:
    """A shot that is black but for some frames."""
    ground = np.random.default_rng(2).integers(60, 220, (8, 12)).repeat(8, 0).repeat(8, 1)
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=25, options={"g": str(gop), "sc_threshold": "0"})
        stream.width, stream.height, stream.pix_fmt = 96, 64, "yuv420p"
        for number in range(frames):
            luma = ground if number in bright else np.full((64, 96), 16)
            planes = np.concatenate([luma, np.full((32, 96), 128)]).astype(np.uint8)
            frame = av.VideoFrame.from_ndarray(planes, format="yuv420p")
            frame.pts, frame.time_base = number, Fraction(1, 25)
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def test_a_row_for_every_file_in_the_columns_and_no_cell_is_a_formula(day: Path, tmp_path: Path) -> None:
    (tmp_path / "columns.toml").write_text(
        '[[column]]\nname = "=File"\nvalue = "@path"\n'
        '[[column]]\nname = "Words"\nvalues = ["@keywords", "@scene,mill"]\n'
        'join = "; "\ntake = 2\n[[column]]\nname = "Where"\nvalue = "=@(Paper weight) @start @frames"\n'
    )
    shown = boxkite("catalogue", "last", "--columns", tmp_path / "columns.toml", "--json", cwd=day)
    rows = shown.json["rows"]
    made = {
        path.relative_to(day / "out").as_posix().partition("/")[2] for path in (day / "out").rglob("*.m*")
    }
    assert len(rows) == len(list((day / "out").rglob("*.m*"))) and {row["=File"] for row in rows} == made
    assert all(row["Where"].count(":") == 3 and "; " not in row["Where"] for row in rows)
    assert any(row["Words"] == "loft; light" for row in rows), rows
    for name in ("c.csv", "c.xlsx"):
        into = tmp_path / name
        assert (
            boxkite(
                "catalogue", "last", "--columns", tmp_path / "columns.toml", "--into", into, cwd=day
            ).status
            == 0
        )
        assert (
            boxkite("catalogue", "last", "--into", into, cwd=day).status == 2
        )  # nothing is overwritten unasked
    with (tmp_path / "c.csv").open(encoding="utf-8-sig", newline="") as file:
        head, *cells = csv.reader(file)
    assert head[0] == "'=File" and all(row[2].startswith("'=") for row in cells) and len(cells) == len(rows)
    sheet = load_workbook(tmp_path / "c.xlsx").active
    assert sheet is not None and {cell.data_type for line in sheet.iter_rows() for cell in line} <= {"s", "n"}
    assert [[cell.value for cell in line] for line in sheet.iter_rows()][1:] == [
        list(row.values()) for row in rows
    ]


def test_what_a_receiver_does_not_take_is_listed_and_nothing_is_written(day: Path, tmp_path: Path) -> None:
    (tmp_path / "columns.toml").write_text(
        '[[column]]\nname = "A"\nvalue = "@clip"\nlongest = 3\nforbidden = "-"\n'
        '[[column]]\nname = "B"\nvalue = "same"\n'
        'unique = true\n[[column]]\nname = "C"\nvalue = "@location"\nrequired = true\n[[column]]\nname = "D"\n'
        'values = ["a, b, c"]\nmost = 2\nallowed = ["a", "b"]\n'
    )
    refused = boxkite(
        "catalogue", "out/web", "--columns", tmp_path / "columns.toml", "--into", tmp_path / "c.csv", cwd=day
    )
    assert refused.status == 2 and not (tmp_path / "c.csv").exists()
    for words in (
        "A: ",
        "at most",
        "it holds “-”",
        "B: “same” is in row 2 already",
        "C: it is empty",
        "“c” is not allowed",
    ):
        assert words in refused.err, refused.err
    for text, words in (
        ('[[column]]\nname = "A"\nvalue = "@clap"', "clip"), ("[[columns]]", "column"),
        ('[[column]]\nvalue = "x"', "name"),
        ('[[column]]\nname = "A"\nvalue = "x"\nlongest = "3"', "whole number"), ("[[column", "TOML"),
    ):  # fmt: skip
        (tmp_path / "wrong.toml").write_text(text)
        wrong = boxkite("catalogue", "out/web", "--columns", tmp_path / "wrong.toml", cwd=day)
        assert wrong.status == 2 and words in wrong.err, wrong.err


def test_values_are_embedded_in_files_and_sidecars_and_frames_stay(day: Path) -> None:
    def streams() -> dict[str, list[tuple[object, ...]]]:
        found = {}
        for path in [*(day / "out").rglob("*.mov"), *(day / "out").rglob("*.mp4")]:
            with av.open(str(path)) as container:
                packets = [
                    (one.stream_index, one.pts, one.dts, bytes(one)) for one in container.demux() if one.size
                ]
                found[path.name] = packets
        return found

    before = streams()
    done = boxkite("catalogue", "last", "--columns", "stock", "--embed", "--json", cwd=day)
    assert done.status == 0 and f"embedded into {len(before)} files" in done.err, done.err
    assert streams() == before
    for folder in ("out/web", "out/stock"):
        tokens = boxkite("inspect", folder, "--tokens", "--json", cwd=day).json["sources"]
        read = [{one["token"]: one for one in source["tokens"]} for source in tokens]
        assert {one["title"]["value"] for one in read} <= {row["Title"] for row in done.json["rows"]}
        assert all(
            one["title"]["overrides"][0]["value"] == one["title"]["value"] for one in read
        )  # file and sidecar
    checked = boxkite("verify", "last", "--deep", cwd=day)
    assert checked.status == 0, checked.out
    again = boxkite("catalogue", "last", "--columns", "stock", "--embed", "--existing", "replace", cwd=day)
    assert "embedded into 0 files" in again.out
    broken = next((day / "out/web").glob("*.mp4"))
    content = broken.read_bytes()
    broken.write_bytes(content[: len(content) // 2])
    refused = boxkite(
        "catalogue", "out/web", "--columns", "stock", "--embed", "--existing", "replace", cwd=day
    )
    assert refused.status == 1 and broken.name in refused.out and broken.stat().st_size == len(content) // 2
    broken.write_bytes(content)


def test_the_frame_of_a_sheet_is_not_black_where_the_shot_has_a_better_one(tmp_path: Path) -> None:
    place = tmp_path / "fades"
    place.mkdir()
    fading(place / "one-group.mp4", bright=range(30, 60))
    fading(place / "groups.mp4", bright=range(20, 75), gop=10)
    fading(place / "short.mp4", bright=range(9, 14), frames=20)
    fading(place / "black.mp4", bright=range(0))
    assert boxkite("contact-sheet", "fades", "--into", "s.png", "--columns", "4", cwd=tmp_path).status == 0
    page = np.asarray(Image.open(tmp_path / "s.png").convert("L"))
    columns = np.array_split(page[200:400, 90:-90], 4, axis=1)
    assert [float(one[50:150, 100:-100].mean()) > 60 for one in columns] == [False, True, True, True]


def test_pictures_are_seen_in_their_shape_whatever_their_pixels_are(tmp_path: Path) -> None:
    """Of a wide picture in narrow pixels, and the same turned; the page's own first pictures too."""
    shapes = {
        "narrow": (Fraction(3, 4), 0, 1),
        "tall": (Fraction(4, 3), 90, 9 / 16),
        "wide": (Fraction(4, 3), 0, 16 / 9),
    }
    for name, (pixel, turn, _) in shapes.items():
        movie = Movie(tmp_path / "in" / f"{name}.mov", 30, FrameRate.parse("25"), ((0, VAT),), width=192, height=144,
                      sample_aspect=pixel, turn_degrees=turn)  # fmt: skip
        movie.path.parent.mkdir(exist_ok=True)
        write_movie(movie)
    own = {**os.environ, "BOXKITE_STATE": str(tmp_path / "state")}  # others ask for the last batch
    words = ("run", "in", "--by", "files", "--to", "copy:copy", "--to", "review:review")
    assert boxkite(*words, cwd=tmp_path, env=own).status == 0
    for folder in ("copy", "review"):
        assert boxkite("contact-sheet", folder, "--into", f"{folder}.pdf", cwd=tmp_path, env=own).status == 0
        images = [image.image for image in PdfReader(tmp_path / f"{folder}.pdf").pages[0].images]
        assert len(images) == 3
        for image, name in zip(images, shapes, strict=True):
            assert image and abs(image.width / image.height - shapes[name][2]) < 0.02, (folder, name)
    assert boxkite("review-page", "review", "--into", "page", cwd=tmp_path, env=own).status == 0
    for path, name in zip(sorted((tmp_path / "page/posters").iterdir()), shapes, strict=True):
        with Image.open(path) as image:
            assert abs(image.width / image.height - shapes[name][2]) < 0.02, name


def test_a_sheet_has_every_file_as_text_on_pages_of_its_shape(day: Path, tmp_path: Path) -> None:
    words = ("contact-sheet", "last", "--frames", "3", "--portrait", "--title", "A Hundred Sheets",
             "--line", "@filename",
             "--line", "@scene @take @(Paper weight)", "--into", tmp_path / "s.pdf", "--json")  # fmt: skip
    assert boxkite(*words, cwd=day).json["files"] == len(list((day / "out").rglob("*.m[op][v4]")))
    assert boxkite(*words, cwd=day).status == 2
    pages = PdfReader(tmp_path / "s.pdf").pages
    text = "\n".join(page.extract_text() for page in pages)
    assert all(path.name in text for path in (day / "out").rglob("*.m[op][v4]"))
    assert "A Hundred Sheets" in text and f"page 1 of {len(pages)}" in text and "Light Rag" in text
    assert pages[0].mediabox.height > pages[0].mediabox.width and len(pages[0].images) >= 3


def test_planned_files_are_drawn_from_their_sources_and_hostile_text_does_no_harm(tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    rows = ["file,title,description"]
    for name, title in HOSTILE.items():
        safe = name.replace('"', "").replace("/", "")
        fading(place / f"{safe}.mp4", bright=range(100), frames=30)
        quoted = title.replace('"', '""')
        rows.append(f'"{safe}.mp4","{quoted}","a\nb"')
    (tmp_path / "t.csv").write_text("\n".join(rows), encoding="utf-8")
    for into in ("s.pdf", "s.png"):
        done = boxkite("contact-sheet", "in", "--metadata", "t.csv", "--line", "@title", "--line", "@description",
                       "--into", into, cwd=tmp_path)  # fmt: skip
        assert done.status == 0, done.err
    text = PdfReader(tmp_path / "s.pdf").pages[0].extract_text()
    assert "<script>alert(1)</script>" in text and "\u202e" not in text and "…" in text
    shown = boxkite("catalogue", "in", "--metadata", "t.csv", "--columns", "delivery", cwd=tmp_path)
    assert shown.status == 0 and "\u202e" not in shown.out


def test_embedding_that_would_change_frames_is_refused_and_one_that_is_stopped_leaves_a_known_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from boxkite.core.errors import RequestError
    from boxkite.core.handover import embed_files
    from boxkite.core.handover.delivery import delivery_of_folder
    from boxkite.core.records.journal import Journal

    fading(tmp_path / "a.mp4", bright=range(100), frames=30)
    done = boxkite("run", "a.mp4", "--by", "files", "--to", "copy:out", cwd=tmp_path)
    assert done.status == 0, done.err
    (file,) = delivery_of_folder(tmp_path / "out").files
    before, whole = file.path.read_bytes(), embed_files.embedded

    def careless(path: Path, target: BinaryIO, values: Mapping[str, str]) -> bool:
        written = whole(path, target, values)
        target.seek(-40 if path.read_bytes().find(b"moov") < path.read_bytes().find(b"mdat") else 60, 2)
        target.write(b"\xff")
        return written

    monkeypatch.setattr(embed_files, "embedded", careless)
    with pytest.raises(RequestError, match="would not stay the same"):
        embed_files.embed_into(file, {"title": "x"}, "")
    assert file.path.read_bytes() == before
    monkeypatch.setattr(embed_files, "embedded", whole)

    def stopped(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(Journal, "changed", stopped)
    with pytest.raises(KeyboardInterrupt):
        embed_files.embed_into(file, {"title": "x"}, "")
    assert file.path.read_bytes() != before
    assert boxkite("verify", "out", cwd=tmp_path).status == 0

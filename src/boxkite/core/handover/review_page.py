"""A review page: a folder that any browser opens, from a disk or a web server, and that asks nobody for anything."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from msgspec import Struct

from boxkite.core.errors import BoxkiteError, PlanError, RequestError, setting
from boxkite.core.files.checksum import text_checksum
from boxkite.core.files.identity import stamp_of
from boxkite.core.files.moving import sync
from boxkite.core.files.partials import Partial
from boxkite.core.files.replacing import give_name
from boxkite.core.files.sweeping import sweep
from boxkite.core.footage.kinds import REVIEW_PAGE
from boxkite.core.footage.probe import read_source
from boxkite.core.handover.columns import text_of
from boxkite.core.handover.described import Described, by_shot
from boxkite.core.handover.extras import require
from boxkite.core.handover.good_frames import good_frames
from boxkite.core.machine import usable_cores
from boxkite.core.naming.pattern import Pattern
from boxkite.core.timebase import Timecode

_PAGE = Path(__file__).with_name("page")
SCRIPTS = ("timecode.js", "store.js", "player.js", "page.js")
_STYLE = "review.css"
_PLAYED = {".mp4": ("h264", "av1", "vp9"), ".m4v": ("h264",), ".webm": ("vp8", "vp9", "av1")}
"""Containers and codecs that the browsers of today play."""
_PLAYED_AUDIO = ("aac", "mp3", "opus", "vorbis", "flac")
_PLAYED_FORMATS = ("yuv420p", "yuvj420p")
"""Of H.264; others take 10 bits as well."""
_POSTER_PX, _JPEG_QUALITY = 480, 80
_MOST_CHARACTERS = 400
PRESET_FOR_IT = "review"


class ReviewShot(Struct, frozen=True):
    """A shot on the page: its light file, and what else there is of it."""

    number: int
    light: Described
    others: tuple[Described, ...]
    section: str

    @property
    def identity(self) -> str:
        """Tells the shot when a review comes back: the batch and its number there, or the file's path."""
        file = self.light.file
        return f"{file.batch}#{file.record.number}" if file.record else file.name


class PageOptions(Struct, frozen=True):
    """How a page looks."""

    title: str
    section: Pattern
    """Shots of one result stand under one heading."""
    lines: tuple[Pattern, ...]
    """Below each shot; the first is its name."""
    facts: tuple[Pattern, ...] = ()
    """Beside the player."""


def review_shots(files: Sequence[Described], section: Pattern) -> list[ReviewShot]:
    """The shots that have a file browsers play, in order; of several such files the smallest.

    Raises RequestError where there is none, with what makes some.
    """
    shots: list[ReviewShot] = []
    for group in by_shot(files):
        light = sorted((one for one in group if plays(one)), key=lambda one: one.file.path.stat().st_size)
        if light:
            others = tuple(one for one in group if one is not light[0])
            shots.append(
                ReviewShot(len(shots) + 1, light[0], others, _clean(text_of(section, light[0].values)))
            )
    if not shots:
        raise RequestError(
            "no file here plays in a browser",
            hint=f"the presets {PRESET_FOR_IT} and web make files that do: {setting('to')} {PRESET_FOR_IT}:out",
        )
    return shots


def plays(one: Described) -> bool:
    """Whether browsers play a file: by container, codecs and pixel format."""
    path = one.file.path
    codecs = _PLAYED.get(path.suffix.lower())
    if not codecs or not one.is_made or path.is_dir():
        return False
    try:
        source = read_source(path)
    except (BoxkiteError, OSError):
        return False
    video = source.video
    if video is None or video.codec not in codecs or not one.frames:
        return False
    if video.codec == "h264" and video.pixel_format not in _PLAYED_FORMATS:
        return False
    return all(audio.codec in _PLAYED_AUDIO for audio in source.audio)


def _clean(text: str) -> str:
    """Text from strangers in one line, without what turns the direction of the text around it."""
    kept = "".join(one if one.isprintable() else " " for one in text[:_MOST_CHARACTERS])
    return " ".join(kept.split()) + ("…" if len(text) > _MOST_CHARACTERS else "")


def check_place(into: Path, existing: str) -> None:
    """Raises PlanError where the page's folder is there already, unless it is an old page that may be replaced."""
    if not into.exists() or (into.is_dir() and not any(into.iterdir())):
        return
    if not (into / REVIEW_PAGE).is_file():
        raise PlanError("it exists already, and is no review page", path=into, hint="name another folder")
    if strange := _strangers(into):
        raise PlanError(
            "this is no part of the page, and would be lost", path=strange[0], hint="move it away first"
        )
    if existing != "replace":
        raise PlanError("it exists already; nothing was overwritten", path=into,
                        hint=f"{setting('existing')} replace makes it anew; reviews stay in the browsers")  # fmt: skip


def _strangers(folder: Path) -> list[Path]:
    """The files in a page's folder that are not the page's."""
    try:
        own = set(json.loads((folder / REVIEW_PAGE).read_text(encoding="utf-8"))["files"])
    except (OSError, ValueError, KeyError, TypeError):
        own = set()
    inside = sorted(path for path in folder.rglob("*") if not path.is_dir())
    return [path for path in inside if path.relative_to(folder).as_posix() not in own]


def write_page(
    into: Path,
    shots: Sequence[ReviewShot],
    options: PageOptions,
    batch: str,
    progress: Callable[[], None] = lambda: None,
) -> None:
    """Write the page's folder, complete or not at all. Raises PlanError, RequestError."""
    require("jinja2", "a review page")
    held: set[Partial] = set()
    try:
        into.parent.mkdir(parents=True, exist_ok=True)
        sweep(into.parent)
        if into.is_dir() and not any(into.iterdir()):
            into.rmdir()
        old = stamp_of(into) if into.exists() else ""
        partial = Partial(into, folder=True, among=held)
        _fill(partial.path, shots, options, batch, _page_id(into, batch, shots), progress)
        sync_all(partial.path)
        give_name(partial, replacing=old)
    except OSError as error:
        raise PlanError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=into
        ) from None
    finally:
        for one in held:
            one.discard()


def _page_id(into: Path, batch: str, shots: Sequence[ReviewShot]) -> str:
    """What a review in a browser is kept under: by the shots, or that of the page it replaces, so that notes stay."""
    try:
        kept = json.loads((into / REVIEW_PAGE).read_text(encoding="utf-8"))
        return str(kept["page"])
    except (OSError, ValueError, KeyError, TypeError):
        return f"{batch or 'files'} {text_checksum(chr(10).join(shot.identity for shot in shots))[:12]}"


def sync_all(folder: Path) -> None:
    """Wait until a folder and the folders in it have reached the disk. Raises OSError."""
    for path in folder.iterdir():
        sync(path)


def _fill(
    folder: Path,
    shots: Sequence[ReviewShot],
    options: PageOptions,
    batch: str,
    page: str,
    progress: Callable[[], None],
) -> None:
    for name in ("media", "posters"):
        (folder / name).mkdir()
    described = []
    for shot, poster in zip(shots, _posters(shots), strict=True):
        media = _media_name(shot)
        _link(shot.light.file.path, folder / "media" / media)
        poster_name = ""
        if poster:
            poster_name = f"posters/{shot.number:04d}.jpg"
            (folder / poster_name).write_bytes(poster[0])
        described.append(
            _shot(shot, options, f"media/{media}", poster_name, poster[1:] if poster else (16, 9))
        )
        progress()
    _write_page(folder, described, options, batch, page)
    for name in (*SCRIPTS, _STYLE):
        shutil.copyfile(_PAGE / name, folder / name)
    files = [path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()]
    known = {"page": page, "title": options.title, "files": sorted([*files, REVIEW_PAGE])}
    (folder / REVIEW_PAGE).write_text(json.dumps(known), encoding="utf-8")


def _posters(shots: Sequence[ReviewShot]) -> Iterator[tuple[bytes, int, int] | None]:
    """A JPEG of each shot with its size."""

    def poster(shot: ReviewShot) -> tuple[bytes, int, int] | None:
        found = good_frames(shot.light, 1, _POSTER_PX)
        if not found:
            return None
        content = io.BytesIO()
        found[0].image.convert("RGB").save(content, "JPEG", quality=_JPEG_QUALITY)
        return content.getvalue(), found[0].image.width, found[0].image.height

    at_once = 4 * usable_cores()
    with ThreadPoolExecutor(usable_cores()) as pool:
        for first in range(0, len(shots), at_once):
            yield from pool.map(poster, shots[first : first + at_once])


def _media_name(shot: ReviewShot) -> str:
    """A name that every web server takes: digits, plain letters, the extension."""
    path = shot.light.file.path
    plain = re.sub(r"[^A-Za-z0-9_-]+", "-", path.stem).strip("-")[:60]
    return f"{shot.number:04d}{'-' if plain else ''}{plain}{path.suffix.lower()}"


def _link(path: Path, target: Path) -> None:
    """The file under another name: the same bytes where the volume can, else a copy. Raises OSError."""
    try:
        os.link(path, target)
    except OSError:
        shutil.copyfile(path, target)


def _shot(
    shot: ReviewShot, options: PageOptions, media: str, poster: str, poster_size: tuple[int, ...]
) -> dict[str, Any]:
    """What page and scripts need of a shot; nothing that tells of the machine it was made on."""
    one = shot.light
    start: Timecode = one.start
    name, *lines = [_clean(text_of(line, one.values)) for line in options.lines] or [""]
    facts = [_clean(text_of(fact, one.values)) for fact in options.facts]
    also = [f"also: {_clean(other.file.path.name)}" for other in shot.others]
    rate = start.rate.fraction
    return {
        "number": shot.number,
        "id": shot.identity,
        "name": name or _clean(one.file.path.stem),
        "file": one.file.name,
        "media": media,
        "poster": poster,
        "poster_width": poster_size[0],
        "poster_height": poster_size[1],
        "frames": one.frames,
        "rate": {"num": rate.numerator, "den": rate.denominator},
        "start": start.frame,
        "drop": start.drop,
        "section": shot.section,
        "lines": [line for line in lines if line],
        "facts": [fact for fact in (*facts, *also) if fact],
    }


def _write_page(
    folder: Path, shots: list[dict[str, Any]], options: PageOptions, batch: str, page: str
) -> None:
    from jinja2 import Environment, FileSystemLoader
    from markupsafe import Markup

    sections: dict[str, list[dict[str, Any]]] = {}
    for shot in shots:
        words = " ".join([shot["name"], *shot["lines"], *shot["facts"], shot["section"], shot["file"]])
        sections.setdefault(shot["section"], []).append({**shot, "words": words.lower()})
    listed = [one for section in sections.values() for one in section]
    known = {"page": {"id": page, "title": options.title, "batch": batch},
             "shots": [{key: value for key, value in one.items() if key != "words"} for one in listed]}  # fmt: skip
    # within a script element only < could end it; the others keep old parsers out
    text = json.dumps(known, ensure_ascii=True)
    for character in "<>&":
        text = text.replace(character, f"\\u{ord(character):04x}")
    environment = Environment(
        loader=FileSystemLoader(_PAGE), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    groups = [{"name": name, "shots": inside} for name, inside in sections.items()]
    html = environment.get_template("index.html.j2").render(
        title=_clean(options.title), sections=groups, shots=listed, data=Markup(text)
    )
    (folder / "index.html").write_text(html, encoding="utf-8", errors="replace")

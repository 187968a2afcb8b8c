"""Working out a plan: from a job to rows, with every check that can be made before a frame is written."""

from __future__ import annotations

import shutil
from collections import ChainMap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from boxkite.core.errors import PatternError, PlanError
from boxkite.core.footage.source import Source
from boxkite.core.naming.pattern import (
    Pattern,
    check_length,
    check_tokens,
    has_token,
    make_name,
    plain_text,
    read_pattern,
    read_text_pattern,
)
from boxkite.core.naming.tokens import DEFAULT_PATTERNS, TOKENS
from boxkite.core.naming.values import Text, Value
from boxkite.core.plan.clashes import check_clashes, check_existing, check_folder, check_inside
from boxkite.core.plan.gathering import Progress, gather_shots
from boxkite.core.plan.job import Job, Output
from boxkite.core.plan.rows import Plan, PlannedLettering, Row, Running, Volume
from boxkite.core.plan.token_values import known_tokens, output_values, values_for
from boxkite.core.presets.geometry import Geometry, plan_geometry
from boxkite.core.presets.library import load_preset
from boxkite.core.presets.model import Lettering, Preset
from boxkite.core.shots.shot import Reel, Shot

_RUNNING_SIGNS = {"\x01": Running.TIMECODE, "\x02": Running.FRAME}


def make_plan(job: Job, progress: Progress = lambda _: None) -> Plan:
    """Work out every file of a job; nothing is written.

    progress is told what is being looked at. Raises a RequestError that says what is wrong with the job:
    sources, marks, pattern, preset, names that clash or exist already, folders that cannot be written.
    """
    presets = _load_presets(job)
    pattern = read_pattern(job.names) if job.names is not None else None
    for output in job.outputs:
        check_folder(output.folder.absolute())
    gathered = gather_shots(job, progress)
    shots, notices = gathered.shots, list(gathered.notices)
    patterns = {way: pattern or read_pattern(DEFAULT_PATTERNS[way]) for way in {shot.way for shot in shots}}
    if pattern:
        _check_pattern(pattern, shots)
    rows = _rows(job, shots, presets, patterns)
    used = " and ".join(dict.fromkeys(one.text for one in patterns.values()))
    check_clashes(rows, used)
    check_inside(rows)
    check_existing(rows)
    volumes = _volumes(rows)
    notices += [
        f"{volume.folder}: about {volume.needed_bytes // 1_000_000} MB are needed,"
        f" {volume.free_bytes // 1_000_000} MB are free"
        for volume in volumes
        if volume.needed_bytes > volume.free_bytes
    ]
    return Plan(tuple(rows), tuple(notices), gathered.uncovered, volumes, used, gathered.left_out)


def _load_presets(job: Job) -> list[tuple[Output, Preset]]:
    if not job.outputs:
        raise PlanError("no output is named", hint="give a preset and a folder, as --to review:out/review")
    presets = [load_preset(output.preset) for output in job.outputs]
    if job.watermark and not any(preset.watermark for preset in presets):
        raise PlanError(
            "--watermark: none of these presets has a watermark", hint="leave it out, or use review"
        )
    loaded = []
    for output, preset in zip(job.outputs, presets, strict=True):
        if job.watermark and preset.watermark:
            mark = replace(preset.watermark, image=job.watermark.absolute(), text=None)
            preset = replace(preset, watermark=mark)  # noqa: PLW2901
        if preset.watermark and preset.watermark.image:
            _check_image(preset.watermark.image)
        loaded.append((Output(output.preset, output.folder.absolute()), preset))
    return loaded


def _check_image(path: Path) -> None:
    from PIL import Image

    try:
        with Image.open(path) as image:
            image.verify()
    except FileNotFoundError:
        raise PlanError("there is no such image for the watermark", path=path) from None
    except Exception as error:  # whatever a broken image makes the library say
        raise PlanError(f"the watermark cannot be read: {error}", path=path) from None


def _check_pattern(pattern: Pattern, shots: tuple[Shot, ...]) -> None:
    check_tokens(pattern, known_tokens(shots))
    if len(shots) > 1 and not has_token(pattern):
        raise PatternError(
            f"the pattern has no token, so all {len(shots)} shots would have one name",
            pattern=pattern.text,
            hint='some shells take the @ away: put it in double quotes, as --names "@marker"',
        )


@dataclass(frozen=True)
class _Making:
    """What all shots of one source have in common in one output."""

    output: Output
    preset: Preset
    geometry: Geometry
    values: Mapping[str, Value]
    sound_tracks: tuple[int, ...]
    bytes_per_frame: Fraction
    warnings: tuple[str, ...]

    @classmethod
    def of(cls, reel: Reel, output: Output, preset: Preset) -> _Making:
        video = reel.source.video
        assert video
        geometry = plan_geometry(
            preset,
            video.width_px,
            video.height_px,
            rotation_degrees=reel.table.rotation_degrees,
            sample_aspect=video.sample_aspect,
        )
        tracks, warnings = _sound_tracks(reel.source, preset)
        warnings += [f"{tracks_left} left out" for tracks_left in reel.source.left_out]
        if video.has_alpha:
            warnings.append("its transparency is left out")
        size = preset.bytes_per_frame(geometry.width_px, geometry.height_px, reel.table.rate.fraction)
        values = output_values(preset, geometry)
        return cls(output, preset, geometry, values, tracks, size, (*reel.table.warnings, *warnings))


def _rows(
    job: Job, shots: tuple[Shot, ...], presets: list[tuple[Output, Preset]], patterns: Mapping[str, Pattern]
) -> list[Row]:
    rows: list[Row] = []
    makings: dict[int, list[_Making]] = {}
    values_of = values_for(job, len(shots))
    for index, shot in enumerate(shots):
        if id(shot.reel) not in makings:
            makings[id(shot.reel)] = [_Making.of(shot.reel, output, preset) for output, preset in presets]
        values = values_of(shot, index)
        for making in makings[id(shot.reel)]:
            rows.append(_row(len(rows) + 1, shot, making, patterns[shot.way], values))
    return rows


def _row(number: int, shot: Shot, making: _Making, pattern: Pattern, values: Mapping[str, Value]) -> Row:
    preset, folder = making.preset, making.output.folder
    all_values: ChainMap[str, Value] = ChainMap(making.values, values)  # type: ignore[arg-type]
    try:
        name = make_name(pattern, all_values)
    except PatternError as error:
        error.message = f"{error.message} (the shot of {shot.origin})"
        raise
    check_length(name, preset.ending, pattern)
    plain_name = name.rpartition("/")[2]
    lettering = tuple(
        _lettering(one, all_values.new_child({"name": Text(plain_name)})) for one in preset.burn_in
    )
    return Row(
        number=number,
        shot=shot,
        preset=preset,
        folder=folder,
        name=name,
        path=folder / f"{name}{preset.ending}",
        geometry=making.geometry,
        lettering=lettering,
        sound_tracks=making.sound_tracks,
        expected_bytes=int(making.bytes_per_frame * shot.span.length),
        warnings=(*shot.warnings, *making.warnings),
    )


def _sound_tracks(source: Source, preset: Preset) -> tuple[tuple[int, ...], list[str]]:
    """Which sound streams go along, by position, and what is to be said about the others."""
    usable = [index for index, audio in enumerate(source.audio) if audio.sample_rate_hz and audio.channels]
    warnings = []
    if len(usable) < len(source.audio):
        warnings.append(f"{len(source.audio) - len(usable)} sound tracks cannot be decoded and are left out")
    if preset.audio is None:
        return (), [*warnings, "its sound is left out"] if usable else warnings
    if preset.audio.tracks == "first" and len(usable) > 1:
        warnings.append(f"the first of {len(usable)} sound tracks goes along")
        usable = usable[:1]
    return tuple(usable), warnings


def _lettering(wanted: Lettering, values: ChainMap[str, Value]) -> PlannedLettering:
    pattern = read_text_pattern(wanted.text)
    check_tokens(pattern, {*TOKENS, "name", *(running.value for running in Running), *values})
    running: dict[str, Value] = {"timecode": Text("\x01"), "frame": Text("\x02")}
    text = plain_text(pattern, ChainMap(running, values))
    parts: list[str | Running] = []
    for sign in text:
        if sign in _RUNNING_SIGNS:
            parts.append(_RUNNING_SIGNS[sign])
        elif parts and not isinstance(parts[-1], Running):
            parts[-1] += sign
        else:
            parts.append(sign)
    return PlannedLettering(
        tuple(parts), wanted.position, wanted.height_percent, wanted.opacity, wanted.box_opacity
    )


def _volumes(rows: Sequence[Row]) -> tuple[Volume, ...]:
    """Space needed and free, one entry per volume, named by the first folder that lies on it."""
    by_folder: dict[Path, int] = {}
    for row in rows:
        by_folder[row.folder] = by_folder.get(row.folder, 0) + row.expected_bytes
    needed: dict[int, tuple[Path, Path, int]] = {}
    for folder, size in by_folder.items():
        there = next(path for path in (folder, *folder.parents) if path.is_dir())
        first, place, so_far = needed.get(there.stat().st_dev, (folder, there, 0))
        needed[there.stat().st_dev] = (first, place, so_far + size)
    return tuple(Volume(first, size, shutil.disk_usage(place).free) for first, place, size in needed.values())

"""Working out a plan: from a job to rows, with every check that can be made before a frame is written."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from boxkite.core.edit.marks import Mark, MarkList
from boxkite.core.edit.reading import marks_from_chapters, read_marks
from boxkite.core.errors import FootageError, PatternError, PlanError, RequestError
from boxkite.core.footage.find import find_sources
from boxkite.core.footage.frames import measure_frames
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
from boxkite.core.plan.job import By, Job, Output
from boxkite.core.plan.rows import Plan, PlannedLettering, Row, Running, Volume
from boxkite.core.plan.token_values import known_tokens, output_values, shot_values
from boxkite.core.presets.geometry import plan_geometry
from boxkite.core.presets.library import load_preset
from boxkite.core.presets.model import Lettering, Preset
from boxkite.core.shots.cutting import assign_marks, cut_at_markers, cut_at_ranges, cut_whole
from boxkite.core.shots.facts import read_facts
from boxkite.core.shots.placing import counting_notice, make_reel, place_marks
from boxkite.core.shots.shot import Cut, Reel, Shot

_RUNNING_SIGNS = {"\x01": Running.TIMECODE, "\x02": Running.FRAME}
Progress = Callable[[str], None]


def make_plan(job: Job, progress: Progress = lambda _: None) -> Plan:
    """Work out every file of a job; nothing is written.

    progress is told what is being looked at. Raises a RequestError that says what is wrong with the job:
    sources, marks, pattern, preset, names that clash or exist already, folders that cannot be written.
    """
    presets = _load_presets(job)
    pattern_text = job.names
    if pattern_text is not None:
        pattern = read_pattern(pattern_text)
    for output in job.outputs:
        check_folder(output.folder.absolute())
    sources, notices = _sources(job)
    marks = read_marks(job.marks) if job.marks else None
    by = job.by or _way_to_cut(marks)
    if pattern_text is None:
        pattern = read_pattern(DEFAULT_PATTERNS[by])
    cut = _cut(job, by, sources, marks, progress)
    facts, fact_notices = read_facts(job.metadata, sources)
    shots = tuple(
        replace(shot, facts={**facts.get(shot.reel.source.path, {}), **shot.facts}) for shot in cut.shots
    )
    notices += [*cut.notices, *fact_notices]
    if not shots:
        raise _nothing_to_cut(by, cut, notices)
    _check_pattern(pattern, shots)
    rows = _rows(job, shots, presets, pattern)
    check_clashes(rows, pattern.text)
    check_inside(rows)
    check_existing(rows)
    volumes = _volumes(rows)
    notices += [
        f"{volume.folder}: about {volume.needed_bytes // 1_000_000} MB are needed,"
        f" {volume.free_bytes // 1_000_000} MB are free"
        for volume in volumes
        if volume.needed_bytes > volume.free_bytes
    ]
    uncovered = tuple((reel, span) for reel, span in cut.uncovered)
    return Plan(tuple(rows), tuple(notices), uncovered, volumes, pattern.text)


def _load_presets(job: Job) -> list[tuple[Output, Preset]]:
    if not job.outputs:
        raise PlanError("no output is named", hint="give a preset and a folder, as --to review:out/review")
    if job.watermark and not job.watermark.is_file():
        raise PlanError("there is no such image for the watermark", path=job.watermark)
    loaded = []
    for output in job.outputs:
        preset = load_preset(output.preset)
        if job.watermark and preset.watermark:
            mark = replace(preset.watermark, image=job.watermark.absolute(), text=None)
            preset = replace(preset, watermark=mark)
        loaded.append((output, preset))
    return loaded


def _sources(job: Job) -> tuple[list[Source], list[str]]:
    """The sources under the job's paths. A path named by itself must be one; what a folder holds may not be."""
    found = find_sources(job.paths, job.images_rate)
    named = {path for path in job.paths if not path.is_dir()}
    notices = []
    for item in found.unreadable:
        if item.path in named:
            raise FootageError(item.reason, path=item.path, hint=item.hint)
        notices.append(f"{item.path}: {item.reason}: left aside")
    with_picture = []
    for source in found.sources:
        if source.video:
            with_picture.append(source)
            notices += [f"{source.label}: {warning}" for warning in source.warnings]
        else:
            notices.append(f"{source.label}: there is no picture in it: left aside")
    if not with_picture:
        raise FootageError("there is no source with a picture here", path=job.paths[0] if job.paths else None)
    return with_picture, notices


def _way_to_cut(marks: MarkList | None) -> By:
    if marks is None:
        return "files"
    return (
        "ranges" if any(mark.is_range for mark in marks.marks) and marks.kind == "range table" else "markers"
    )


def _cut(job: Job, by: By, sources: Sequence[Source], marks: MarkList | None, progress: Progress) -> Cut:
    """The shots of all sources, by the way to cut that was chosen."""
    if by == "files":
        if marks:
            raise PlanError(
                "--by files cuts nothing, so it has no use for --marks", hint="leave one of them out"
            )
        lists: dict[int, tuple[MarkList, list[Mark]] | None] = dict.fromkeys(range(len(sources)))
        notices: list[str] = []
    elif marks:
        assigned, notices = assign_marks(marks, sources)
        notices = [*marks.warnings, *notices]
        lists = {index: (marks, chosen) for index, chosen in sorted(assigned.items())}
    elif by == "ranges":
        raise PlanError("--by ranges needs a table of ranges", hint="give it with --marks picks.csv")
    else:
        notices = []
        chapters = [marks_from_chapters(source) for source in sources]
        lists = {index: (found, list(found.marks)) for index, found in enumerate(chapters)}
    if job.start_timecode and len(lists) > 1:
        raise PlanError("--start-timecode is for one source; these are several")
    cuts = [Cut((), tuple(notices))]
    for index, listed in lists.items():
        reel = _reel(job, sources[index], progress)
        cuts.append(_cut_source(job, by, reel, *listed) if listed else cut_whole(reel))
    return Cut(
        tuple(shot for cut in cuts for shot in cut.shots),
        tuple(notice for cut in cuts for notice in cut.notices),
        tuple(gap for cut in cuts for gap in cut.uncovered),
    )


def _cut_source(job: Job, by: By, reel: Reel, marks: MarkList, chosen: list[Mark]) -> Cut:
    """The shots of one source at its marks. Raises PlanError when not one comes of them."""
    placed = place_marks(marks, chosen, reel, job.marks_rate)
    if by == "markers":
        cut = cut_at_markers(marks, placed, reel, job.closing_marker)
    else:
        cut = cut_at_ranges(marks, placed, reel)
    if not cut.shots:
        raise _all_outside(marks, reel, cut)
    note = counting_notice(marks, reel)
    return replace(cut, notices=(note, *cut.notices)) if note else cut


def _reel(job: Job, source: Source, progress: Progress) -> Reel:
    progress(source.label)
    table = measure_frames(source)
    return make_reel(source, table, job.start_timecode)


def _all_outside(marks: MarkList, reel: Reel, cut: Cut) -> RequestError:
    reel_says = (
        f"{reel.source.label} runs from {reel.start} to {reel.timecode(reel.table.frame_count)}"
        if reel.has_timecode
        else f"{reel.source.label} has no timecode of its own, so it was taken to start at {reel.start}"
    )
    reason = cut.notices[0] if cut.notices else "it holds no mark that makes a shot"
    return PlanError(
        f"no shot comes of this list: {reason}",
        path=marks.path,
        hint=f"{reel_says}; say --start-timecode where the list counts from another",
    )


def _nothing_to_cut(by: By, cut: Cut, notices: Sequence[str]) -> RequestError:
    reason = notices[0] if notices else "nothing was found"
    return PlanError(f"no shot comes of cutting by {by}: {reason}")


def _check_pattern(pattern: Pattern, shots: tuple[Shot, ...]) -> None:
    check_tokens(pattern, known_tokens(shots))
    if len(shots) > 1 and not has_token(pattern):
        raise PatternError(
            f"the pattern has no token, so all {len(shots)} shots would have one name",
            pattern=pattern.text,
            hint='some shells take the @ away: put it in double quotes, as --names "@marker"',
        )


def _rows(
    job: Job, shots: tuple[Shot, ...], presets: list[tuple[Output, Preset]], pattern: Pattern
) -> list[Row]:
    rows: list[Row] = []
    for index, shot in enumerate(shots):
        values = shot_values(shot, index, len(shots), {}, job)
        for output, preset in presets:
            rows.append(_row(len(rows) + 1, shot, output, preset, pattern, values))
    return rows


def _row(
    number: int, shot: Shot, output: Output, preset: Preset, pattern: Pattern, values: Mapping[str, Value]
) -> Row:
    reel = shot.reel
    video = reel.source.video
    assert video
    geometry = plan_geometry(
        preset,
        video.width_px,
        video.height_px,
        rotation_degrees=reel.table.rotation_degrees,
        sample_aspect=video.sample_aspect,
    )
    all_values = {**values, **output_values(preset, geometry)}
    try:
        name = make_name(pattern, all_values)
    except PatternError as error:
        error.message = f"{error.message} (the shot of {shot.origin})"
        raise
    check_length(name, preset.ending, pattern)
    folder = output.folder.absolute()
    tracks, warnings = _sound_tracks(reel.source, preset)
    plain_name = name.rpartition("/")[2]
    lettering = tuple(_lettering(one, {**all_values, "name": Text(plain_name)}) for one in preset.burn_in)
    return Row(
        number=number,
        shot=shot,
        preset=preset,
        folder=folder,
        name=name,
        path=folder / f"{name}{preset.ending}",
        geometry=geometry,
        lettering=lettering,
        sound_tracks=tracks,
        expected_bytes=preset.expected_bytes(
            geometry.width_px, geometry.height_px, reel.table.rate.fraction, shot.span.length
        ),
        warnings=(*shot.warnings, *reel.table.warnings, *warnings),
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


def _lettering(wanted: Lettering, values: Mapping[str, Value]) -> PlannedLettering:
    pattern = read_text_pattern(wanted.text)
    check_tokens(pattern, {*TOKENS, "name", *(running.value for running in Running), *values})
    running = {"timecode": Text("\x01"), "frame": Text("\x02")}
    text = plain_text(pattern, {**values, **running})
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
    needed: dict[int, tuple[Path, int]] = {}
    for row in rows:
        there = next(path for path in (row.folder, *row.folder.parents) if path.is_dir())
        device = there.stat().st_dev
        folder, so_far = needed.get(device, (row.folder, 0))
        needed[device] = (folder, so_far + row.expected_bytes)
    found = []
    for folder, size in needed.values():
        there = next(path for path in (folder, *folder.parents) if path.is_dir())
        found.append(Volume(folder, size, shutil.disk_usage(there).free))
    return tuple(found)

"""Working out a plan: from a job to rows, with every check that can be made before a frame is written."""

from __future__ import annotations

import shutil
from collections import ChainMap
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from boxkite.core.errors import PlanError, RecordsError
from boxkite.core.footage.keyframes import StoredPictures, stored_pictures
from boxkite.core.job.job import Job, Output
from boxkite.core.naming.pattern import Pattern, check_tokens, plain_text, read_text_pattern
from boxkite.core.naming.tokens import TOKENS
from boxkite.core.naming.values import Text, Value
from boxkite.core.plan.clashes import check_clashes, check_folder, check_inside, numbered
from boxkite.core.plan.existing import settle_existing
from boxkite.core.plan.gathering import Gathered, Progress, gather_shots
from boxkite.core.plan.making import Making, check_image, copied_frames
from boxkite.core.plan.row_names import RowNames
from boxkite.core.plan.rows import Plan, PlannedLettering, Row, Running, Volume
from boxkite.core.plan.since import compare_with
from boxkite.core.plan.table import TableReader, is_saved_plan
from boxkite.core.plan.token_values import ShotValues
from boxkite.core.presets.model import Lettering, Preset
from boxkite.core.records.store import Records
from boxkite.core.shots.shot import LeftOut, Shot
from boxkite.core.timebase import Span

_RUNNING_SIGNS = {"\x01": Running.TIMECODE, "\x02": Running.FRAME}
_RUNNING_VALUES: dict[str, Value] = {running.value: Text(sign) for sign, running in _RUNNING_SIGNS.items()}


def make_plan(job: Job, progress: Progress = lambda _: None) -> Plan:
    """Work out every file of a job; nothing is written.

    progress is told what is being looked at. Raises a RequestError that says what is wrong with the job:
    sources, marks, pattern, preset, names that clash or exist already, folders that cannot be written.
    """
    if len(job.paths) == 1 and is_saved_plan(job.paths[0]):
        return _plan_of_table(job, progress)
    outputs = Outputs(job)
    return plan_of_shots(
        job, gather_shots(job, progress, sound_alone=outputs.any_sound_alone), outputs, progress
    )


def plan_of_shots(job: Job, gathered: Gathered, outputs: Outputs, progress: Progress) -> Plan:
    """The plan of shots that were gathered already. Raises as make_plan does."""
    makings, unfit = _makings(gathered, outputs)
    names = RowNames(job, gathered.shots, gathered.otherwise, makings)
    maker = _RowMaker()
    rows: list[Row] = []
    for index, shot in enumerate(gathered.shots):
        for making in makings[index]:
            ending = shot.reel.source.path.suffix if making.preset.copy else making.preset.ending
            name, plain_name = names.names(index, making, ending)
            rows.append(maker.row(len(rows) + 1, shot, making, name, plain_name, names.values(index)))
    if not rows:
        raise _no_row(unfit)
    left_out = (*gathered.left_out, *unfit)
    plan = Plan(tuple(rows), gathered.notices, gathered.uncovered, (), names.pattern, left_out, names.version)
    return _settled(job, plan, progress)


def _plan_of_table(job: Job, progress: Progress) -> Plan:
    found, left_out = TableReader(job, progress).read()
    shots = list({id(shot): shot for shot, _, _ in found}.values())
    places = {id(shot): index for index, shot in enumerate(shots)}
    values = ShotValues(job, shots)
    maker = _RowMaker()
    rows = [
        maker.row(number, shot, making, name, name, values.of(shot, places[id(shot)]))
        for number, (shot, making, name) in enumerate(found, start=1)
    ]
    for folder in dict.fromkeys(row.folder for row in rows):
        check_folder(folder)
    plan = Plan(tuple(rows), (), (), (), f"the names of {job.paths[0].name}", tuple(left_out))
    return _settled(job, plan, progress)


def _settled(job: Job, plan: Plan, progress: Progress) -> Plan:
    """The plan held against itself, an earlier batch where that is asked for, what is there, and the space there is."""
    if job.existing == "number":
        plan = replace(plan, rows=tuple(numbered(plan.rows, lambda _: False)))
    check_clashes(plan.rows, plan.pattern)
    check_inside(plan.rows)
    rows, notices, left_out, gone = list(plan.rows), list(plan.notices), list(plan.left_out), plan.gone
    if job.since:
        if not Records.are_kept():
            raise RecordsError(f"there is no batch “{job.since}”", hint="none has been run on this machine")
        with Records() as records:
            batch = records.batch(job.since)
        rows, same, now_gone = compare_with(rows, batch)
        gone = tuple(now_gone)
        left_out += [LeftOut(row.name, row.shot.origin, f"unchanged since {batch.name}") for row in same]
        if not rows:
            notices.append(f"nothing is new or changed since {batch.name}")
    rows = settle_existing(rows, job.existing, progress)
    volumes = _volumes([row for row in rows if row.how != "keep"])
    notices += [
        f"{volume.folder}: about {volume.needed_bytes // 1_000_000} MB are needed,"
        f" {volume.free_bytes // 1_000_000} MB are free"
        for volume in volumes
        if volume.needed_bytes > volume.free_bytes
    ]
    return replace(
        plan, rows=tuple(rows), notices=tuple(notices), volumes=volumes, left_out=tuple(left_out), gone=gone
    )


class Outputs:
    """The outputs of a job, each with its preset, read once."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self._presets: dict[str, Preset] = {}
        outputs = [*job.outputs, *(output for one in job.exceptions for output in one.outputs)]
        if not job.outputs:
            raise PlanError(
                "no output is named", hint="give a preset and a folder, as --to review:out/review"
            )
        self._read = {output: self._settle(output) for output in dict.fromkeys(outputs)}
        if job.watermark and not any(preset.watermark for _, preset in self._read.values()):
            raise PlanError(
                "--watermark: none of these presets has a watermark", hint="leave it out, or use review"
            )
        for output in self._read:
            check_folder(output.folder.absolute())

    @property
    def any_sound_alone(self) -> bool:
        """Whether any preset makes something of sources without a picture."""
        return any(preset.audio and not preset.video for _, preset in self._read.values())

    def of(self, outputs: Sequence[Output]) -> list[tuple[Output, Preset]]:
        """Outputs with absolute folders, each with its preset."""
        return [self._read[output] for output in outputs]

    def _settle(self, output: Output) -> tuple[Output, Preset]:
        if output.preset not in self._presets:
            preset = self.job.presets.load(output.preset)
            if self.job.watermark and preset.watermark:
                mark = replace(preset.watermark, image=self.job.watermark.absolute(), text=None)
                preset = replace(preset, watermark=mark)
            if preset.watermark and preset.watermark.image:
                check_image(preset.watermark.image)
            self._presets[output.preset] = preset
        return Output(output.preset, output.folder.absolute()), self._presets[output.preset]


def _makings(gathered: Gathered, shelf: Outputs) -> tuple[list[Sequence[Making]], list[LeftOut]]:
    """What each shot is made into, by its place; what cannot be is left out, with the reason."""
    known: dict[tuple[int, tuple[Output, ...]], list[Making]] = {}
    makings: list[Sequence[Making]] = []
    left_out = []
    for index, shot in enumerate(gathered.shots):
        done = gathered.otherwise.get(index)
        outputs = (done.outputs if done else ()) or shelf.job.outputs
        key = id(shot.reel), outputs
        if key not in known:
            known[key] = [Making.of(shot.reel, output, preset) for output, preset in shelf.of(outputs)]
        makings.append([making for making in known[key] if not making.unfit])
        left_out += [
            LeftOut(shot.marker or shot.clip_name, shot.origin, f"{making.preset.name}: {making.unfit}")
            for making in known[key]
            if making.unfit
        ]
    return makings, left_out


def _no_row(unfit: Sequence[LeftOut]) -> PlanError:
    reasons = list(dict.fromkeys(f"{one.origin}: {one.reason}" for one in unfit))
    return PlanError("none of these presets can be made of this footage", details=reasons[:40])


class _RowMaker:
    """Makes rows; what those of one preset have in common is worked out once."""

    def __init__(self) -> None:
        self._letterings: dict[int, list[tuple[Lettering, Pattern, PlannedLettering | None]]] = {}
        self._stored: dict[int, StoredPictures] = {}

    def row(
        self, number: int, shot: Shot, making: Making, name: str, plain_name: str, values: Mapping[str, Value]
    ) -> Row:
        """The row of a shot in one output, under a name."""
        preset = making.preset
        copied: Span | None = None
        warnings = (*shot.warnings, *making.warnings)
        if preset.copy:
            if id(shot.reel) not in self._stored:
                self._stored[id(shot.reel)] = stored_pictures(shot.reel.source)
            copied, moved = copied_frames(shot, self._stored[id(shot.reel)])
            warnings += moved
        return Row(
            number=number,
            shot=shot,
            preset=preset,
            folder=making.output.folder,
            name=name,
            plain_name=plain_name,
            geometry=making.geometry,
            lettering=self._lettering(preset, name, making, values) if preset.burn_in else (),
            sound_tracks=making.sound_tracks,
            expected_bytes=making.bytes_of((copied or shot.span).length),
            spread=making.spread,
            warnings=warnings,
            copied=copied,
        )

    def _lettering(
        self, preset: Preset, name: str, making: Making, of_shot: Mapping[str, Value]
    ) -> tuple[PlannedLettering, ...]:
        """Burn-ins with their fixed texts worked out."""
        if id(preset) not in self._letterings:
            read = [(one, read_text_pattern(one.text)) for one in preset.burn_in]
            self._letterings[id(preset)] = [
                (one, pattern, _always_alike(one, pattern)) for one, pattern in read
            ]
        own: dict[str, Value] = {**_RUNNING_VALUES, "name": Text(name.rpartition("/")[2])}
        planned = []
        for one, pattern, alike in self._letterings[id(preset)]:
            if alike:
                planned.append(alike)
                continue
            values: ChainMap[str, Value] = ChainMap(own, making.values, of_shot)  # type: ignore[arg-type]
            if any(choice.name not in own and choice.name not in TOKENS for choice in pattern.choices):
                check_tokens(pattern, {*TOKENS, *values})
            planned.append(_planned(one, plain_text(pattern, values)))
        return tuple(planned)


def _always_alike(wanted: Lettering, pattern: Pattern) -> PlannedLettering | None:
    """The burn-in where it is the same for all shots but for what runs along; else None."""
    if all(choice.name in _RUNNING_VALUES for choice in pattern.choices):
        return _planned(wanted, plain_text(pattern, _RUNNING_VALUES))
    return None


def _planned(wanted: Lettering, text: str) -> PlannedLettering:
    return PlannedLettering(
        _parts(text), wanted.position, wanted.height_percent, wanted.opacity, wanted.box_opacity
    )


def _parts(text: str) -> tuple[str | Running, ...]:
    if not any(sign in text for sign in _RUNNING_SIGNS):
        return (text,)
    parts: list[str | Running] = []
    for sign in text:
        if sign in _RUNNING_SIGNS:
            parts.append(_RUNNING_SIGNS[sign])
        elif parts and not isinstance(parts[-1], Running):
            parts[-1] += sign
        else:
            parts.append(sign)
    return tuple(parts)


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

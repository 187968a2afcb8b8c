"""Working out a plan: from a job to rows, with every check that can be made before a frame is written."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from boxkite.core.errors import NameTooLongError, NoKeyframeError, PlanError, RecordsError, setting
from boxkite.core.files.reading import without_dots
from boxkite.core.files.walking import Unseen
from boxkite.core.footage.splice import Splice
from boxkite.core.job.job import Job, Output
from boxkite.core.looks.look import Look
from boxkite.core.looks.preset_files import check_image
from boxkite.core.naming.values import Value
from boxkite.core.notices.files import ENCODED_NOT_COPIED, NOTHING_CHANGED, SPACE_SHORT, UNMARKED
from boxkite.core.notices.shots import UNCHANGED, UNFIT
from boxkite.core.plan.burn_ins import BurnIns
from boxkite.core.plan.clashes import check_clashes, check_folder, check_inside, folders_of, numbered
from boxkite.core.plan.copies import copied_frames, joined_rows, splice_of
from boxkite.core.plan.existing import settle_existing
from boxkite.core.plan.row_names import RowName, RowNames
from boxkite.core.plan.rows import Action, Plan, PlannedBurnIn, Row, Volume, rows_by_folder
from boxkite.core.plan.since import compare_with
from boxkite.core.plan.table import TableReader, is_saved_plan
from boxkite.core.plan.treatment import Treatment
from boxkite.core.presets.alike import preset_like
from boxkite.core.presets.extensions import extension_of
from boxkite.core.presets.fonts import missing_glyphs
from boxkite.core.presets.model import Preset
from boxkite.core.records.store import LAST, Records
from boxkite.core.shots.chunks import planned_chunks
from boxkite.core.shots.gathering import Gathered, Progress, gather_shots
from boxkite.core.shots.looks import LookFinder
from boxkite.core.shots.shot import LeftOut, Shot
from boxkite.core.shots.tokens import NamingContext, ShotValues
from boxkite.core.timebase import Span

if TYPE_CHECKING:
    from boxkite.core.footage.keyframes import StoredFrames


def make_plan(job: Job, progress: Progress = lambda _: None) -> Plan:
    """Work out every file of a job; nothing is written.

    progress gets what is being read. Raises RequestError:
    sources, marks, pattern, preset, names that clash or exist already, folders that cannot be written.
    """
    if len(job.paths) == 1 and is_saved_plan(job.paths[0]):
        return _plan_of_table(job, progress)
    outputs = Outputs(job)
    return plan_of_shots(
        job, gather_shots(job, progress, audio_only=outputs.any_audio_alone), outputs, progress
    )


def plan_of_shots(job: Job, gathered: Gathered, outputs: Outputs, progress: Progress) -> Plan:
    """The plan of shots that were gathered already. Raises as make_plan does."""
    treatments, unfit = _treatments(gathered, outputs)
    names = RowNames(job, gathered.shots, gathered.otherwise, treatments)
    maker = _RowMaker(job)
    rows: list[Row] = []
    unnamed: list[tuple[Shot, NameTooLongError]] = []
    for index, shot in enumerate(gathered.shots):
        values = names.values(index)
        for treatment in treatments[index]:
            extension = extension_of(shot.footage.source, treatment.preset)
            try:
                name = names.names(index, treatment, extension, values)
            except NameTooLongError as error:
                if len(gathered.shots) == 1:
                    raise
                unnamed.append((shot, error))
                continue
            try:
                rows.append(maker.row(len(rows) + 1, shot, treatment, name, values))
            except NoKeyframeError as error:
                unfit.append(_unfit(shot, treatment, error.message))
    if not rows:
        raise unnamed[0][1] if unnamed else _no_row(unfit)
    if job.joined != "no":
        rows = joined_rows(rows, job.joined)
    left_out = (*gathered.left_out, *unfit)
    nameless = tuple(Unseen(shot.footage.source.path, error.message) for shot, error in unnamed)
    notices = gathered.notices + ((UNMARKED(presets=outputs.unmarked),) if outputs.unmarked else ())
    plan = Plan(
        tuple(rows), notices, gathered.uncovered, (), names.pattern, left_out, names.version,
        unseen=(*gathered.unseen, *nameless),
    )  # fmt: skip
    return _settled(job, plan, progress)


def _plan_of_table(job: Job, progress: Progress) -> Plan:
    found, left_out = TableReader(job, progress).read()
    shots = list({id(shot): shot for shot, _, _ in found}.values())
    places = {id(shot): index for index, shot in enumerate(shots)}
    values = ShotValues(shots, NamingContext(job.now, job.user))
    maker = _RowMaker(job)
    rows = [
        maker.row(number, shot, treatment, name, values.of(shot, places[id(shot)]))
        for number, (shot, treatment, name) in enumerate(found, start=1)
    ]
    for folder in dict.fromkeys(row.folder for row in rows):
        check_folder(folder)
    plan = Plan(tuple(rows), (), (), (), f"the names of {job.paths[0].name}", tuple(left_out))
    return _settled(job, plan, progress)


def _since(job: Job, rows: Sequence[Row], records: Records) -> str:
    """The batch that a plan is compared with: last is the last of the same sources and output folders."""
    if job.since != LAST:
        return job.since
    sources = {row.shot.footage.source.path.absolute() for row in rows}
    if name := records.last_of({row.folder for row in rows}, sources):
        return name
    raise RecordsError(
        f"{setting('since')} {LAST}: no batch from these sources into these folders is on record",
        hint="boxkite status lists all batches; name one of them",
    )


def _settled(job: Job, plan: Plan, progress: Progress) -> Plan:
    """The plan checked against itself, an earlier batch if asked for, existing files, and the free space."""
    if job.existing == "number":
        plan = replace(plan, rows=tuple(numbered(plan.rows, lambda _: False)))
    folders = folders_of(plan.rows)
    check_clashes(plan.rows, folders, plan.pattern)
    check_inside(folders)
    rows, notices, left_out, gone = list(plan.rows), list(plan.notices), list(plan.left_out), plan.gone
    if job.since:
        if not Records.are_kept():
            raise RecordsError(f"there is no batch “{job.since}”", hint="none has been run on this machine")
        with Records() as records:
            batch = records.batch(_since(job, rows, records))
        rows, same, now_gone = compare_with(rows, batch)
        gone = tuple(now_gone)
        left_out += [LeftOut(row.name, row.shot.origin, UNCHANGED(batch=batch.name)) for row in same]
        if not rows:
            notices.append(NOTHING_CHANGED(batch=batch.name))
    rows = settle_existing(rows, folders, job, progress)
    volumes = _volumes([row for row in rows if row.action is not Action.KEEP])
    notices += [
        SPACE_SHORT(needed_mb=volume.needed_bytes // 1_000_000, free_mb=volume.free_bytes // 1_000_000).of(
            str(volume.folder)
        )
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
                "no output is named", hint=f"give a preset and a folder, as {setting('to')} review:out/review"
            )
        names = dict.fromkeys(output.preset for output in outputs)
        self._some_are_marked = (
            any(job.presets.load(name).watermark for name in names) if job.watermark else False
        )
        self._read = {output: self._settle(output) for output in dict.fromkeys(outputs)}
        for output in list(self._read):
            for other in self._with_others(output)[1:]:
                self._read.setdefault(other, self._settle(other))
        if job.watermark and not any(preset.watermark for _, preset in self._read.values()):
            raise PlanError(
                f"{setting('watermark')}: nothing can be laid over what these presets write",
                hint="leave it out, or add a preset that encodes a picture, as review",
            )
        for output in self._read:
            check_folder(output.folder.absolute())

    @property
    def unmarked(self) -> list[str]:
        """The presets without the job's watermark: where some of several have one, only those get it."""
        presets = [preset for _, preset in self._read.values() if not preset.watermark]
        return [preset.name for preset in presets] if self.job.watermark else []

    @property
    def any_audio_alone(self) -> bool:
        """Whether any preset makes something of sources without a frame."""
        return any(preset.audio and not preset.video for _, preset in self._read.values())

    def of(self, outputs: Sequence[Output]) -> list[tuple[Output, Preset]]:
        """Outputs with absolute folders, each with its preset."""
        with_others = [one for output in outputs for one in self._with_others(output)]
        return [self._read[output] for output in dict.fromkeys(with_others)]

    def has_audio_file(self, preset: Preset) -> bool:
        """Whether a preset that is made along with this one holds the audio."""
        settled = (self._settle(Output(name, Path()))[1] for name in preset.with_presets)
        return any(other.audio for other in settled)

    def _with_others(self, output: Output) -> list[Output]:
        """An output, and those of the presets that are made along with it, in the same folder."""
        along = self._read[output][1].with_presets
        return [output, *(Output(name, output.folder) for name in along)]

    def _settle(self, output: Output) -> tuple[Output, Preset]:
        if output.preset not in self._presets:
            preset = self.job.presets.load(output.preset)
            if (
                self.job.watermark
                and preset.takes_watermark
                and (preset.watermark or not self._some_are_marked)
            ):
                preset = preset.with_watermark(self.job.watermark.absolute())
            if self.job.look and preset.video:
                preset = preset.with_look(self.job.look)
            for mark in preset.watermark:
                if mark.image:
                    check_image(mark.image)
            for line in preset.burn_in:
                missing_glyphs("", line.font)
            self._presets[output.preset] = preset
        return Output(output.preset, without_dots(output.folder.absolute())), self._presets[output.preset]


def _treatments(gathered: Gathered, shelf: Outputs) -> tuple[list[Sequence[Treatment]], list[LeftOut]]:
    """The treatments of each shot, by its place; those that cannot be made are left out, with the reason."""
    known: dict[tuple[int, int], tuple[list[Treatment], list[Treatment]]] = {}
    treatments: list[Sequence[Treatment]] = []
    left_out: list[LeftOut] = []
    for index, shot in enumerate(gathered.shots):
        done = gathered.otherwise.get(index)
        outputs = (done.outputs if done else ()) or shelf.job.outputs
        key = id(shot.footage), id(outputs)
        if key not in known:
            every = [
                Treatment.of(shot.footage, output, preset, has_audio_file=shelf.has_audio_file(preset))
                for output, preset in shelf.of(outputs)
            ]
            known[key] = [one for one in every if not one.unfit], [one for one in every if one.unfit]
        fit, unfit = known[key]
        treatments.append(fit)
        left_out += [_unfit(shot, one, one.unfit) for one in unfit]
    return treatments, left_out


def _unfit(shot: Shot, treatment: Treatment, reason: str) -> LeftOut:
    return LeftOut(
        shot.marker or shot.clip_name, shot.origin, UNFIT(preset=treatment.preset.name, reason=reason)
    )


def _no_row(unfit: Sequence[LeftOut]) -> PlanError:
    reasons = list(dict.fromkeys(f"{one.origin}: {one.reason}" for one in unfit))
    return PlanError("none of these presets can be made of this footage", details=reasons[:40])


class _RowMaker:
    """Makes rows; what those of one preset have in common is worked out once."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._burn_ins = BurnIns()
        self._looks = LookFinder()
        self._stored: dict[int, StoredFrames] = {}
        self._alike: dict[int, Preset | None] = {}

    def row(
        self,
        number: int,
        shot: Shot,
        treatment: Treatment,
        named: RowName,
        values: Mapping[str, Value],
    ) -> Row:
        """The row of a shot in one output, under a name."""
        name = named.name
        preset = treatment.preset
        copied: Span | None = None
        splice: Splice | None = None
        look: Look = ()
        warnings = shot.warnings + treatment.warnings
        burn_ins: tuple[PlannedBurnIn, ...] = ()
        if preset.video:
            look, added = self._looks.look_of(shot, preset.look)
            warnings += added
        elif preset.copy:
            warnings += self._looks.unapplied(shot)
        if preset.burn_in:
            burn_ins, added = self._burn_ins.of(preset, name, treatment.values, values)
            warnings += added
        if preset.copy:
            from boxkite.core.footage.keyframes import stored_frames  # loads the codec library

            if id(shot.footage) not in self._stored:
                self._stored[id(shot.footage)] = stored_frames(shot.footage.source)
            stored = self._stored[id(shot.footage)]
            if self._job.exact_cuts and not stored.copies_exactly(shot.footage.frame_index, shot.span):
                splice, obstacle = splice_of(shot, stored)
                if not splice or self._preset_alike(shot, preset):
                    row = self._encoded_alike(number, shot, treatment, named, values, obstacle)
                    if not splice:
                        return replace(row, warnings=(*row.warnings, ENCODED_NOT_COPIED(reason=obstacle)))
                    size = treatment.bytes_of(shot.span.length)
                    return replace(
                        row, splice=splice, chunks=(), expected_bytes=size, spread=treatment.spread
                    )
            else:
                copied, moved = copied_frames(shot, stored)
                warnings += moved
        held = copied or shot.span
        chunks: tuple[Span, ...] = ()
        if self._job.in_chunks:
            chunks, added = planned_chunks(preset, shot)
            warnings += added
        return Row(
            number=number,
            shot=shot,
            preset=preset,
            folder=treatment.output.folder,
            name=name,
            plain_name=named.plain_name,
            image=named.image,
            image_digits=named.image_digits,
            geometry=treatment.geometry,
            burn_ins=burn_ins,
            audio_tracks=treatment.audio_tracks,
            expected_bytes=treatment.bytes_of(held.end - held.start),
            spread=treatment.spread,
            warnings=warnings,
            copied=copied,
            splice=splice,
            chunks=chunks,
            look=look,
            accept_damaged=self._job.accept_damaged,
            decode_with=self._job.decode_with,
        )

    def _encoded_alike(
        self,
        number: int,
        shot: Shot,
        treatment: Treatment,
        named: RowName,
        values: Mapping[str, Value],
        obstacle: str,
    ) -> Row:
        """The row of a shot that a copy would not hold exactly, encoded as its source is. obstacle: to splicing it."""
        source = shot.footage.source
        preset = self._preset_alike(shot, treatment.preset)
        if preset is None:
            codecs = [source.video.codec] if source.video else []
            held = " and ".join(dict.fromkeys([*codecs, *(audio.codec for audio in source.audio)]))
            raise PlanError(
                f"{shot.origin}: {setting('exact-cuts')} cannot make {source.path.suffix} of {held},"
                f" as {source.label} is, by encoding; and {obstacle}",
                hint=f"leave {setting('exact-cuts')} out, or give a preset that encodes",
            )
        encoding = Treatment.of(shot.footage, treatment.output, preset.without_look())
        return replace(self.row(number, shot, encoding, named, values), exact=True)

    def _preset_alike(self, shot: Shot, copying: Preset) -> Preset | None:
        """A preset that writes what a source holds, under the name of the one that copies; None where there is none."""
        source = shot.footage.source
        if id(source) not in self._alike:
            self._alike[id(source)] = preset_like(source, copying.name)
        return self._alike[id(source)]


def _volumes(rows: Sequence[Row]) -> tuple[Volume, ...]:
    """Space needed and free, one entry per volume, named by the first folder that lies on it."""
    needed: dict[int, tuple[Path, Path, int]] = {}
    for folder, members in rows_by_folder(rows).items():
        # Chunks are there until they are joined, mostly of one file at a time.
        chunked = max((row.expected_bytes for row in members if row.chunks), default=0)
        size = sum(row.expected_bytes for row in members) + chunked
        there = next(path for path in (folder, *folder.parents) if path.is_dir())
        first, place, so_far = needed.get(there.stat().st_dev, (folder, there, 0))
        needed[there.stat().st_dev] = (first, place, so_far + size)
    return tuple(Volume(first, size, shutil.disk_usage(place).free) for first, place, size in needed.values())

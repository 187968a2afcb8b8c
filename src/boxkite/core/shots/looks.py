"""Which look each shot gets: its colour decision, the files beside its footage, what its preset says."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct

from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.errors import LookError, setting
from boxkite.core.files.reading import is_file, path_from
from boxkite.core.footage.source import Source
from boxkite.core.looks.look import DecisionStep, FileStep, Look, SpacesStep
from boxkite.core.looks.transform import processor_of, read_decision
from boxkite.core.notices.notice import Notice
from boxkite.core.notices.shots import (
    DECISION_NOT_APPLIED,
    GRADE_UNREADABLE,
    LOOK_NOT_APPLIED,
    NO_CORRECTION,
    OTHER_GOES_FIRST,
)
from boxkite.core.presets.overlays import NO_LOOK, LookSettings
from boxkite.core.shots.shot import Shot

SOP, SAT, LOOK = "asc_sop", "asc_sat", "look"
"""Columns of tables and logs, case ignored: slope, offset and power; saturation; the name of a look file."""

DECISION_EXTENSIONS = (".cdl", ".cc", ".ccc")
LOOK_EXTENSIONS = (".cube", ".3dl", ".clf", ".ctf", ".csp", ".cub", ".lut", ".look", ".spi1d", ".spi3d", ".spimtx",
                ".itx", ".mga", ".m3d", ".vf", ".hdl")  # fmt: skip
"""Of the look files that OpenColorIO reads."""
UNREAD_EXTENSIONS = (".amf", ".aml", ".drx", ".rmd", ".grade", ".dctl")
"""Of grades beside camera files that no open library reads."""
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", re.ASCII)


class _Sidecars(Struct, frozen=True):
    """The look files and colour decision beside a source."""

    decision: DecisionStep | None
    fault: LookError | None
    """Why the colour decision there cannot be read."""
    file: FileStep | None
    warnings: tuple[Notice, ...]


class _Found(NamedTuple):
    """The look of shots without look columns, and of what: kept, so that nothing else is taken for it."""

    look: Look
    notices: tuple[Notice, ...]
    source: Source
    wanted: LookSettings | None


class LookFinder:
    """Finds looks; what lies beside a source is looked for once, and every look is tried once."""

    def __init__(self) -> None:
        self._sidecars: dict[int, tuple[Source, _Sidecars]] = {}
        self._names: dict[Path, dict[str, Path]] = {}
        self._tried: set[Look] = set()
        self._columns: dict[tuple[str, ...], list[str]] = {}
        self._last: tuple[Shot | None, dict[str, str]] = None, {}
        self._without_metadata: dict[tuple[int, int], _Found] = {}

    def look_of(self, shot: Shot, wanted: LookSettings | None) -> tuple[Look, tuple[Notice, ...]]:
        """The look of a shot, and notices of what it does not get.

        Raises LookError for one that cannot be read.
        """
        if self._last[0] is not shot:  # those of one shot mostly come in a row
            self._last = shot, self._look_columns(shot)
        metadata = self._last[1]
        if metadata:
            return self._look(shot, wanted or LookSettings(), metadata)
        key = id(shot.footage.source), id(wanted)
        found = self._without_metadata.get(key)
        if found is None:
            look, notices = self._look(shot, wanted or LookSettings(), metadata)
            found = self._without_metadata[key] = _Found(look, notices, shot.footage.source, wanted)
        return found.look, found.notices

    def _look_columns(self, shot: Shot) -> dict[str, str]:
        """The look columns of a shot's metadata; most have none, so the names of columns are examined once."""
        columns = tuple(shot.metadata)
        if columns not in self._columns:
            self._columns[columns] = [name for name in columns if name.casefold() in (SOP, SAT, LOOK)]
        return {
            name.casefold(): shot.metadata[name] for name in self._columns[columns] if shot.metadata[name]
        }

    def _look(
        self, shot: Shot, wanted: LookSettings, metadata: Mapping[str, str]
    ) -> tuple[Look, tuple[Notice, ...]]:
        sidecars = self._sidecars_of(shot.footage.source)
        warnings = list(sidecars.warnings)
        steps: list[DecisionStep | FileStep | SpacesStep] = []
        try:
            decision = self._decision(shot, metadata, sidecars)
        except LookError:
            if wanted.cdl:
                raise
            decision = None  # one that nobody wants may be wrong
        if decision and wanted.cdl:
            steps.append(decision)
        elif decision:
            warnings.append(DECISION_NOT_APPLIED(decision=str(decision)))
        own = self._named(shot, metadata) or sidecars.file
        if own and wanted.sidecar:
            steps.append(own)
        elif own:
            warnings.append(LOOK_NOT_APPLIED(look=str(own)))
        if wanted.file:
            steps.append(FileStep(wanted.file.absolute()))
        if wanted.from_space and wanted.to_space:
            config = wanted.config.absolute() if wanted.config else None
            steps.append(SpacesStep(wanted.from_space, wanted.to_space, config))
        look = tuple(steps)
        if look and look not in self._tried:
            processor_of(look)
            self._tried.add(look)
        return look, tuple(warnings)

    def unapplied(self, shot: Shot) -> tuple[Notice, ...]:
        """Notices of the look of a shot that cannot be applied at all."""
        return self.look_of(shot, NO_LOOK)[1]

    def _decision(self, shot: Shot, metadata: Mapping[str, str], sidecars: _Sidecars) -> DecisionStep | None:
        """The colour decision that edit or table say (ASC_SOP, ASC_SAT), else a sidecar. Raises LookError."""
        sop, saturation = metadata.get(SOP, ""), metadata.get(SAT, "")
        if not sop and not saturation:
            if sidecars.fault:
                raise sidecars.fault
            return sidecars.decision
        numbers = [float(text) for text in _NUMBER.findall(sop)] or [1.0] * 3 + [0.0] * 3 + [1.0] * 3
        sat = [float(text) for text in _NUMBER.findall(saturation)] or [1.0]
        if len(numbers) != 9 or len(sat) != 1:
            raise LookError(
                f"{shot.origin}: “{sop} {saturation}” is no colour decision",
                hint="ASC_SOP is (r g b)(r g b)(r g b) for slope, offset and power; ASC_SAT one number",
            )
        slope, offset, power = (
            (numbers[place], numbers[place + 1], numbers[place + 2]) for place in (0, 3, 6)
        )
        decision = ColourDecision(slope, offset, power, sat[0])
        if decision.fault:
            raise LookError(
                f"{shot.origin}: “{sop} {saturation}” is no colour decision: {decision.fault}",
                hint=f"correct it, or leave colour decisions out with {setting('set')} look.cdl=false",
            )
        return DecisionStep(decision, "the edit" if shot.edited else "the table")

    def _named(self, shot: Shot, metadata: Mapping[str, str]) -> FileStep | None:
        """The look file that a table names, counted from the footage's folder."""
        name = metadata.get(LOOK, "")
        if not name:
            return None
        path = shot.footage.source.path.absolute().parent / path_from(name)
        if not is_file(path):
            raise LookError(f"{shot.origin}: there is no look file {name}", path=path)
        return FileStep(path)

    def _sidecars_of(self, source: Source) -> _Sidecars:
        if id(source) not in self._sidecars:
            self._sidecars[id(source)] = source, self._sidecars_of_name(source)
        return self._sidecars[id(source)][1]

    def _sidecars_of_name(self, source: Source) -> _Sidecars:
        folder = source.path.absolute().parent
        if folder not in self._names:
            try:
                self._names[folder] = {path.name.casefold(): path for path in folder.iterdir()}
            except OSError:
                self._names[folder] = {}
        names = self._names[folder]

        def found(extensions: tuple[str, ...]) -> list[Path]:
            stems = dict.fromkeys((source.path.name.casefold(), source.clip_name.casefold()))
            return [
                names[stem + extension]
                for extension in extensions
                for stem in stems
                if stem + extension in names
            ]

        warnings = [GRADE_UNREADABLE(file=path.name) for path in found(UNREAD_EXTENSIONS)]
        decisions, files = found(DECISION_EXTENSIONS), found(LOOK_EXTENSIONS)
        for found_here in (decisions, files):
            warnings += [
                OTHER_GOES_FIRST(file=path.name, first=found_here[0].name) for path in found_here[1:]
            ]
        decision, fault = None, None
        try:
            values = read_decision(decisions[0], (source.clip_name, source.reel)) if decisions else None
        except LookError as error:
            values, fault = None, error
        if values:
            decision = DecisionStep(values, decisions[0].name)
        elif decisions and not fault:
            warnings.append(NO_CORRECTION(file=decisions[0].name))
        return _Sidecars(decision, fault, FileStep(files[0]) if files else None, tuple(warnings))

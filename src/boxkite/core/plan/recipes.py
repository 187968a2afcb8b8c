"""One checksum over everything that decides a file's frames and audio, so that equal files are recognised."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from msgspec import to_builtins

from boxkite.core.files.checksum import file_checksum, text_checksum
from boxkite.core.looks.look import DecisionStep, FileStep, SpacesStep
from boxkite.core.plan.rows import Row
from boxkite.core.presets.library import preset_as_json
from boxkite.core.presets.model import Preset

_TALK = ("name", "summary", "good_for", "plays", "with_presets")


class Recipes:
    """Works out recipes; what rows of one preset share is done once."""

    def __init__(self) -> None:
        self._of_preset: dict[int, tuple[Preset, str]] = {}
        self._of_file: dict[Path, str] = {}

    def of(self, row: Row) -> str:
        """The recipe of a row: equal for two that make the same of the same frames."""
        key = id(row.preset)
        if key not in self._of_preset:
            self._of_preset[key] = (row.preset, _of_preset(row.preset))
        burn_ins = [to_builtins(one, enc_hook=str) for one in row.burn_ins]
        parts = [
            self._of_preset[key][1],
            row.size,
            row.audio_tracks,
            row.shot.footage.source.layer and row.shot.footage.source.layer.label,
            burn_ins,
            [self._of_step(step) for step in row.look],
            str(row.in_timecode) if burn_ins else "",
        ]
        return text_checksum(json.dumps(parts, default=str))

    def _of_step(self, step: DecisionStep | FileStep | SpacesStep) -> Any:
        """The value that identifies a step of a look: of files, the checksum of their content."""
        if not isinstance(step, FileStep):
            return to_builtins(step, enc_hook=str)
        if step.path not in self._of_file:
            self._of_file[step.path] = file_checksum(step.path)
        return self._of_file[step.path]


def _of_preset(preset: Preset) -> str:
    values = {key: _plain(value) for key, value in preset_as_json(preset).items() if key not in _TALK}
    for mark, settings in zip(preset.watermark, values.get("watermark", ()), strict=False):
        if mark.image:
            settings["image"] = file_checksum(mark.image)
    return json.dumps(values, sort_keys=True)


def _plain(value: Any) -> Any:
    """A value in which 26.0 and 26 are the same."""
    if isinstance(value, dict):
        return {key: _plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    return int(value) if isinstance(value, float) and value.is_integer() else value

"""A look as one transform, composed by OpenColorIO."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from boxkite.core.edit.timeline import ColourDecision
from boxkite.core.errors import LookError
from boxkite.core.files.reading import is_file
from boxkite.core.looks.look import DecisionStep, FileStep, Look, SpacesStep
from boxkite.core.suggest import did_you_mean

if TYPE_CHECKING:
    import numpy as np

BUILT_IN_CONFIG = "ocio://default"

_MOST_BYTES = 256 << 20


def _library() -> Any:
    """OpenColorIO, loaded where a look needs it."""
    import PyOpenColorIO  # type: ignore[import-untyped]

    PyOpenColorIO.SetLoggingLevel(PyOpenColorIO.LOGGING_LEVEL_NONE)
    return PyOpenColorIO


class Processor:
    """A look composed into one transform."""

    def __init__(self, processor: Any) -> None:
        ocio = _library()
        self._cpu = processor.getOptimizedCPUProcessor(
            ocio.BIT_DEPTH_F32, ocio.BIT_DEPTH_F32, ocio.OPTIMIZATION_VERY_GOOD
        )

    def apply(self, rgb: np.ndarray) -> None:
        """Change R′G′B′ values in place: float32, contiguous, the last axis of three; 0…1 is the usual range."""
        ocio = _library()
        pixels = rgb.reshape(-1, 3)
        self._cpu.apply(ocio.PackedImageDesc(pixels, len(pixels), 1, 3))


@lru_cache(maxsize=16)
def processor_of(look: Look) -> Processor:
    """The transform of a look. Raises LookError with the file or colour space that is wrong."""
    ocio = _library()
    group = ocio.GroupTransform()
    config = ocio.Config.CreateRaw()
    try:
        for step in look:
            if isinstance(step, DecisionStep):
                group.appendTransform(_decision_transform(step.decision))
            elif isinstance(step, FileStep):
                _check_file(config, step.path)
                group.appendTransform(_file_transform(step.path))
            else:
                config = _config_of(step)
                group.appendTransform(ocio.ColorSpaceTransform(src=step.from_space, dst=step.to_space))
        return Processor(config.getProcessor(group))
    except (ocio.Exception, ocio.ExceptionMissingFile) as error:
        raise LookError(f"the look cannot be worked out: {_first_line(error)}") from None


def read_decision(path: Path, names: Sequence[str]) -> ColourDecision | None:
    """The colour decision of a .cdl, .cc or .ccc file: the one called as one of the names, or the only one.

    None where there are several and none is meant. Raises LookError.
    """
    ocio = _library()
    try:
        group = list(ocio.CDLTransform.CreateGroupFromFile(str(path)))
    except (ocio.Exception, ocio.ExceptionMissingFile) as error:
        raise LookError(f"this is no colour decision list: {_first_line(error)}", path=path) from None
    wanted = {name.casefold() for name in names if name}
    called = [one for one in group if one.getID().casefold() in wanted]
    chosen = called[0] if called else group[0] if len(group) == 1 else None
    if chosen is None:
        return None
    slope, offset, power = (
        _three(values()) for values in (chosen.getSlope, chosen.getOffset, chosen.getPower)
    )
    return ColourDecision(slope, offset, power, float(chosen.getSat()))


def _three(values: Sequence[float]) -> tuple[float, float, float]:
    red, green, blue = map(float, values)
    return red, green, blue


def _decision_transform(decision: ColourDecision) -> Any:
    """By the ASC CDL specification, which clamps to 0…1."""
    ocio = _library()
    transform = ocio.CDLTransform(
        slope=list(decision.slope),
        offset=list(decision.offset),
        power=list(decision.power),
        sat=decision.saturation,
    )
    transform.setStyle(ocio.CDL_ASC)
    return transform


def _file_transform(path: Path) -> Any:
    ocio = _library()
    return ocio.FileTransform(src=str(path), interpolation=ocio.INTERP_BEST)


def _check_file(config: Any, path: Path) -> None:
    ocio = _library()
    if not is_file(path):
        raise LookError("there is no such look file", path=path)
    if path.stat().st_size > _MOST_BYTES:
        raise LookError(f"it has more than the {_MOST_BYTES >> 20} MB a look file may have", path=path)
    try:
        config.getProcessor(_file_transform(path))
    except (ocio.Exception, ocio.ExceptionMissingFile) as error:
        raise LookError(f"this look file cannot be read: {_first_line(error)}", path=path) from None


def _config_of(step: SpacesStep) -> Any:
    ocio = _library()
    if step.config and not is_file(step.config):
        raise LookError("there is no such file of colour spaces", path=step.config)
    try:
        config = ocio.Config.CreateFromFile(str(step.config or BUILT_IN_CONFIG))
    except (ocio.Exception, ocio.ExceptionMissingFile) as error:
        raise LookError(
            f"these colour spaces cannot be read: {_first_line(error)}", path=step.config
        ) from None
    names = list(config.getColorSpaceNames())
    for space in (step.from_space, step.to_space):
        if config.getColorSpace(space) is None and config.getNamedTransform(space) is None:
            hint = did_you_mean(space, names) or f"there are: {', '.join(names[:12])} …"
            raise LookError(f"there is no colour space “{space}”", path=step.config, hint=hint)
    return config


def _first_line(error: Exception) -> str:
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    return (lines[0] if lines else type(error).__name__)[:300].rstrip(".:")

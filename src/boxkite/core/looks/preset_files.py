"""The files that a preset names: whether they are there, and are what they are taken for."""

from __future__ import annotations

from pathlib import Path

from boxkite.core.errors import BoxkiteError, PlanError, PresetError
from boxkite.core.files.reading import MOST_IMAGE_PIXELS, is_file, require_file
from boxkite.core.looks.look import FileStep
from boxkite.core.looks.transform import processor_of
from boxkite.core.presets.fonts import missing_glyphs
from boxkite.core.presets.library import files_of
from boxkite.core.presets.model import Preset


def check_files(preset: Preset, preset_path: Path) -> None:
    """Make sure that the images, fonts and look files of a preset can be used. Raises PresetError with its key."""
    for key, path in files_of(preset):
        kind = key.rpartition(".")[2]
        try:
            if not is_file(path):
                raise PresetError(f"there is no such file: {path}")
            if kind == "image":
                check_image(path)
            elif kind == "font":
                missing_glyphs("", path)
            elif kind == "file":
                processor_of((FileStep(path),))
        except BoxkiteError as error:
            raise PresetError(
                error.message, path=preset_path, key=key, hint=error.hint or "put it there, or name another"
            ) from None


def check_image(path: Path) -> None:
    """Make sure that the image of a watermark can be read. Raises PlanError."""
    from PIL import Image

    try:
        require_file(path)
        Image.MAX_IMAGE_PIXELS = None  # looked at here, before it is decoded
        with Image.open(path) as image:
            if image.width * image.height > MOST_IMAGE_PIXELS:
                raise PlanError(
                    f"the watermark is {image.width}x{image.height}:"
                    f" more than {MOST_IMAGE_PIXELS // 1_000_000} million pixels",
                    path=path,
                    hint="scale it down: it is never shown larger than a frame",
                )
            image.verify()
    except PlanError:
        raise
    except FileNotFoundError:
        raise PlanError("there is no such image for the watermark", path=path) from None
    except OSError as error:
        raise PlanError(f"the watermark cannot be read: {error.strerror or error}", path=path) from None
    except Exception as error:  # whatever a broken image makes the library say
        raise PlanError(f"the watermark cannot be read: {error}", path=path) from None

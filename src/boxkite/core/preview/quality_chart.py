"""The quality of finished files drawn frame by frame."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Protocol

from boxkite.core.errors import PlanError
from boxkite.core.files.writing import create_file

_MOST_NAMED = 8
_BEST_SHOWN_DB = 60.0


class Quality(Protocol):
    """The closeness of each frame to its source."""

    psnr_db: Any
    ssim: Any


def draw_quality(path: Path, files: Sequence[tuple[str, Quality]]) -> None:
    """Write a picture with PSNR above and SSIM below, a line for each file. Raises PlanError."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    known = [(name, quality) for name, quality in files if len(quality.psnr_db)]
    if not known:
        raise PlanError("no file was compared with its source: there is nothing to draw", path=path)
    figure = Figure(figsize=(12.8, 7.2), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    above, below = figure.subplots(2, 1, sharex=True)
    for name, quality in known:
        psnr = [min(value, _BEST_SHOWN_DB) for value in quality.psnr_db]
        above.plot(psnr, linewidth=1, label=name)
        below.plot(list(quality.ssim), linewidth=1)
    above.set_ylabel("PSNR of luma, dB")
    below.set_ylabel("SSIM of luma")
    below.set_xlabel("frame of the file")
    for axes in (above, below):
        axes.grid(alpha=0.3)
    if len(known) <= _MOST_NAMED:
        above.legend(fontsize="small", loc="lower right")
    else:
        above.set_title(f"{len(known)} files", loc="left", fontsize="medium")
    picture = io.BytesIO()
    figure.savefig(picture, format="png")
    try:
        create_file(path, picture.getvalue())
    except FileExistsError:
        raise PlanError("this file is there already", path=path, hint="name another") from None
    except OSError as error:
        raise PlanError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=path
        ) from None

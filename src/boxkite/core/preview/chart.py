"""One picture of a plan: which parts of each source its shots take, and what is left unused."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from boxkite.core.errors import PlanError, setting
from boxkite.core.files.writing import create_file
from boxkite.core.notices.notice import counted
from boxkite.core.plan.rows import Plan
from boxkite.core.shots.shot import IndexedSource, Shot
from boxkite.core.timebase import Span

MOST_SOURCES = 40
_COLOURS = ("#3f7f93", "#b9772f")
_HANDLE, _UNUSED, _OVERLAP, _INK = "#9fc2cc", "#e4dfd3", "#c0392b", "#2b2620"
_SIZE_INCHES = (12.8, 8.0)
_LETTERS_PER_WIDTH = 120


def draw_chart(plan: Plan, path: Path) -> int:
    """Draw the chart as a PNG of 1280 × 800 and return how many sources it leaves out, the least used ones.

    A bar for each source is the whole of it; shots lie in it in two colours turn about, their handles paler,
    frames that two shots share in red above; shots that overlap lie one below the other.
    Raises PlanError when there is a file of that name already.
    """
    if path.exists():
        raise PlanError("this file is there already; nothing was overwritten", path=path, hint="name another")
    if path.suffix.lower() != ".png":
        raise PlanError("a chart is a PNG image", path=path, hint=f"{setting('chart')} {path.stem}.png")
    shots_of: dict[int, tuple[IndexedSource, list[Shot]]] = {}
    for shot in {id(row.shot): row.shot for row in plan.rows}.values():
        shots_of.setdefault(id(shot.footage), (shot.footage, []))[1].append(shot)
    uses = sorted(shots_of.values(), key=lambda use: -sum(shot.span.length for shot in use[1]))[:MOST_SOURCES]
    uses.sort(key=lambda use: use[0].source.label)
    _draw(uses, path)
    return len(shots_of) - len(uses)


def _draw(uses: Sequence[tuple[IndexedSource, list[Shot]]], path: Path) -> None:
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure
    from matplotlib.patches import Patch
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    figure = Figure(figsize=_SIZE_INCHES, dpi=100, facecolor="white", layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.add_subplot()
    longest = max(
        float(footage.frame_index.rate.seconds(footage.frame_index.frame_count)) for footage, _ in uses
    )
    for place, (footage, shots) in enumerate(uses):
        _draw_source(axes, place, footage, shots, longest)
    axes.set_yticks(range(len(uses)), [_label(footage, shots) for footage, shots in uses], color=_INK)
    axes.set_ylim(len(uses) - 0.5 + max(0.0, 3.0 - len(uses)) / 2, -0.5 - max(0.0, 3.0 - len(uses)) / 2)
    axes.set_xlim(0, longest)
    axes.xaxis.set_major_locator(MaxNLocator(8, steps=[1, 2, 3, 6, 10], integer=True))
    axes.xaxis.set_major_formatter(
        FuncFormatter(lambda seconds, _: f"{int(seconds) // 60}:{int(seconds) % 60:02d}")
    )
    axes.set_xlabel("minutes and seconds from the first frame of each source", color=_INK)
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(axis="y", length=0)
    taken = sum(shot.span.length for _, shots in uses for shot in shots)
    axes.set_title(
        f"{counted(sum(len(shots) for _, shots in uses), 'shot')} of {counted(len(uses), 'source')},"
        f" {counted(taken, 'frame')}",
        loc="left",
        color=_INK,
    )
    kinds = [("shots", _COLOURS[0]), ("the next shot", _COLOURS[1]), ("handles", _HANDLE), ("unused", _UNUSED),
             ("in two shots", _OVERLAP)]  # fmt: skip
    figure.legend(handles=[Patch(color=colour, label=name) for name, colour in kinds], loc="outside lower center",
                  ncols=len(kinds), frameon=False)  # fmt: skip
    content = io.BytesIO()
    figure.savefig(content, format="png")
    create_file(path, content.getvalue())


def _label(footage: IndexedSource, shots: Sequence[Shot]) -> str:
    covered = _covered([shot.span for shot in shots])
    name = (
        footage.source.label
        if len(footage.source.label) <= 28
        else f"{footage.source.label[:18]}…{footage.source.label[-9:]}"
    )
    return f"{name}\n{covered * 100 // footage.frame_index.frame_count} % used".replace("$", r"\$")


def _draw_source(
    axes: Any, place: int, footage: IndexedSource, shots: Sequence[Shot], longest: float
) -> None:
    def bar(span: Span, bottom: float, height: float, colour: str, **style: Any) -> None:
        seconds = [float(footage.frame_index.rate.seconds(frame)) for frame in (span.start, span.length)]
        axes.broken_barh([tuple(seconds)], (place + bottom, height), facecolors=colour, **style)

    bar(footage.frame_index.span, -0.3, 0.6, _UNUSED)
    ordered = sorted(shots, key=lambda shot: (shot.span.start, shot.span.end))
    lanes = _lanes([shot.span for shot in ordered])
    height = 0.6 / (max(lanes) + 1)
    for number, (shot, lane) in enumerate(zip(ordered, lanes, strict=True)):
        asked = Span(shot.span.start + shot.handle_in, shot.span.end - shot.handle_out)
        bottom = -0.3 + lane * height
        bar(shot.span, bottom, height, _HANDLE, edgecolor="white", linewidth=0.8)
        bar(asked, bottom, height, _COLOURS[number % 2], edgecolor="white", linewidth=0.8)
        middle = float(footage.frame_index.rate.seconds(asked.start + asked.end)) / 2
        room = int(float(footage.frame_index.rate.seconds(asked.length)) / longest * _LETTERS_PER_WIDTH)
        name = shot.marker or shot.clip_name
        if room >= 3 and height > 0.1:
            shown = name if len(name) <= room else f"{name[: room - 1]}…"
            label = shown.replace("$", r"\$")
            axes.text(
                middle,
                place + bottom + height / 2,
                label,
                ha="center",
                va="center",
                color="white",
                fontsize=8,
            )
    for span in _shared([shot.span for shot in ordered]):
        bar(span, -0.4, 0.06, _OVERLAP)


def _lanes(spans: Sequence[Span]) -> list[int]:
    """For spans in the order of their starts, the first lane that is free, so that none hides another."""
    ends: list[int] = []
    lanes = []
    for span in spans:
        lane = next((index for index, end in enumerate(ends) if end <= span.start), len(ends))
        ends[lane:] = [span.end, *ends[lane + 1 :]]
        lanes.append(lane)
    return lanes


def _covered(spans: Sequence[Span]) -> int:
    """How many frames lie in any of the spans."""
    total, reached = 0, 0
    for span in sorted(spans, key=lambda one: one.start):
        total += max(0, span.end - max(span.start, reached))
        reached = max(reached, span.end)
    return total


def _shared(spans: Sequence[Span]) -> list[Span]:
    """The parts that lie in more than one of the spans, which are in the order of their starts."""
    found = []
    reached = 0
    for span in spans:
        if span.start < reached:
            found.append(Span(span.start, min(span.end, reached)))
        reached = max(reached, span.end)
    return found

"""Changing the media of clips in the library's own objects, so that all else an edit holds stays as it is."""

from __future__ import annotations

import contextlib
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from boxkite.core.edit.otio.objects import TimelineReader, one_line
from boxkite.core.edit.otio.reading import adapter_suffixes, read_objects
from boxkite.core.edit.otio.writing import objects_of
from boxkite.core.edit.timeline import Edit, Timeline
from boxkite.core.errors import MarksError, RequestError
from boxkite.core.timebase import FrameRate

_ITEM = re.compile(r"item (\d+)$")
_IMAGE = re.compile(r"(.*?)(\d+)(\.\w+)")


class Media(Protocol):
    """Media a clip is to have."""

    @property
    def path(self) -> Path: ...  # noqa: D102
    @property
    def first(self) -> int: ...  # noqa: D102
    @property
    def frames(self) -> int: ...  # noqa: D102
    @property
    def rate(self) -> FrameRate: ...  # noqa: D102
    @property
    def start(self) -> int: ...  # noqa: D102
    @property
    def is_finished(self) -> bool: ...  # noqa: D102
    @property
    def first_image(self) -> Path | None: ...  # noqa: D102


def relinked_bytes(
    edit: Edit,
    timelines: Sequence[Timeline],
    media: Mapping[tuple[int, ...], Media],
    suffix: str,
    tracks: Sequence[str] = (),
) -> bytes:
    """An edit with other media, in the form of a suffix: .otio, or what an installed adapter writes.

    timelines: the edit anew in our model, for edits that no adapter reads. media: by the place of the clip. tracks:
    names of those that stay, empty for all. Raises RequestError where there is no adapter, MarksError where the form
    cannot hold the edit.
    """
    import opentimelineio as otio

    if edit.path.suffix.lower() == ".edl" or edit.kind == "shots":
        found: Any = [objects_of(timeline) for timeline in timelines]
    else:
        found = list(_timelines(read_objects(edit.path)))
        changer = _Changer(otio, media)
        for index, (written, timeline) in enumerate(zip(found, edit.timelines, strict=True)):
            stack = written.tracks if isinstance(written, otio.schema.Timeline) else written
            changer.change(stack, timeline, (index,))
            _keep_tracks(otio, stack, timeline, tracks)
    whole = found[0] if len(found) == 1 else otio.schema.SerializableCollection(edit.path.stem, found)
    if suffix == ".otio":
        return bytes(otio.adapters.write_to_string(whole, "otio_json").encode("utf-8", "surrogateescape"))
    if suffix not in adapter_suffixes():
        raise RequestError(f"writing {suffix} needs an adapter that is not installed",
                           hint='pip install "boxkite-shots[timelines]"')  # fmt: skip
    _adapt(otio, found, edit.path.absolute().parent)
    printed = io.StringIO()
    try:
        with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(printed):
            adapter = otio.adapters.from_filepath(f"x{suffix}")
            return str(otio.adapters.write_to_string(whole, adapter.name)).encode("utf-8", "surrogateescape")
    except Exception as error:  # whatever the adapter cannot hold
        raise MarksError(f"this form cannot hold the edit: {one_line(error)}", path=edit.path) from None


def _adapt(otio: Any, timelines: Sequence[Any], folder: Path) -> None:
    """What adapters need: media as URLs, gaps in the place of titles and black, no two clips alike.

    One adapter writes a clip that equals another, as picture and audio often do, as a reference to that one, and then
    cannot read it.
    """
    schema = otio.schema
    for timeline in timelines:
        stack = timeline.tracks if isinstance(timeline, schema.Timeline) else timeline
        for number, item in enumerate(list(stack.find_clips()), start=1):
            item.metadata["boxkite"] = {**item.metadata.get("boxkite", {}), "clip": str(number)}
            reference = item.media_reference
            if isinstance(reference, schema.GeneratorReference):
                track = item.parent()
                track[track.index(item)] = schema.Gap(source_range=item.trimmed_range())
            elif isinstance(reference, schema.ExternalReference) and "://" not in reference.target_url:
                reference.target_url = (folder / reference.target_url).as_uri()


def _timelines(found: Any) -> Iterator[Any]:
    """The library's timelines in the order TimelineReader takes them."""
    import opentimelineio as otio

    if isinstance(found, otio.schema.SerializableCollection):
        for child in found:
            yield from _timelines(child)
    elif isinstance(found, (otio.schema.Stack, otio.schema.Track)) or (
        isinstance(found, otio.schema.Timeline) and list(TimelineReader(Path(), []).all_of(found))
    ):
        yield found


def _keep_tracks(otio: Any, stack: Any, timeline: Timeline, wanted: Sequence[str]) -> None:
    if not wanted or isinstance(stack, otio.schema.Track):
        return
    children = [child for _, child in _named_tracks(otio, stack)]
    for name, child in _named_tracks(otio, stack):
        if name not in wanted:
            del stack[children.index(child)]
            children.remove(child)


def _named_tracks(otio: Any, stack: Any) -> list[tuple[str, Any]]:
    """The tracks of a stack by the names our model gives them."""
    children = [stack] if isinstance(stack, otio.schema.Track) else list(stack or ())
    counts = {"V": 0, "A": 0}
    named = []
    for child in children:
        letter = "A" if getattr(child, "kind", "") == "Audio" else "V"
        counts[letter] += 1
        named.append((f"{letter}{counts[letter]}", child))
    return named


class _Changer:
    """Walks the library's objects beside our model and changes the media of clips."""

    def __init__(self, otio: Any, media: Mapping[tuple[int, ...], Media]) -> None:
        self._otio = otio
        self._media = media

    def change(self, stack: Any, timeline: Timeline, place: tuple[int, ...]) -> None:
        by_name = dict(_named_tracks(self._otio, stack))
        for number, track in enumerate(timeline.tracks):
            written = by_name[track.name]
            items = list(written) if isinstance(written, self._otio.schema.Track) else [written]
            for index, clip in enumerate(track.clips):
                match = _ITEM.search(clip.origin)
                item = items[int(match[1]) - 1] if match else None
                at = (*place, number, index)
                if clip.nested:
                    self.change(item, clip.nested, at)
                elif at in self._media:
                    self._point(item, self._media[at])

    def _point(self, item: Any, to: Media) -> None:
        schema, opentime = self._otio.schema, self._otio.opentime
        rate = float(to.rate.fraction)
        before = item.trimmed_range()
        start = opentime.RationalTime(to.start, rate)
        reference = self._reference(item.media_reference, to)
        item.media_reference = reference
        item.source_range = opentime.TimeRange(start, before.duration)
        moved = start - before.start_time
        for marker in item.markers:
            own = marker.marked_range
            marker.marked_range = opentime.TimeRange(own.start_time + moved, own.duration)
        if to.is_finished:
            item.effects[:] = []
            track = item.parent()
            for neighbour in [one for one in track if isinstance(one, schema.Transition)]:
                place = track.index(neighbour)
                if item in (track[place - 1], track[place + 1] if place + 1 < len(track) else None):
                    del track[place]

    def _reference(self, before: Any, to: Media) -> Any:
        schema, opentime = self._otio.schema, self._otio.opentime
        rate = float(to.rate.fraction)
        available = opentime.TimeRange(
            opentime.RationalTime(to.first, rate), opentime.RationalTime(to.frames, rate)
        )
        url = str(getattr(before, "target_url", "") or getattr(before, "target_url_base", ""))
        as_url = url.lower().startswith("file:")
        metadata = dict(before.metadata) if before is not None else {}
        if to.first_image and (match := _IMAGE.fullmatch(to.first_image.name)):
            folder = to.first_image.parent
            return schema.ImageSequenceReference(
                target_url_base=(folder.as_uri() if as_url else str(folder)) + "/", name_prefix=match[1],
                name_suffix=match[3], start_frame=int(match[2]), frame_zero_padding=len(match[2]), rate=rate,
                available_range=available, metadata=metadata,
            )  # fmt: skip
        target = to.path.as_uri() if as_url else str(to.path)
        reference = schema.ExternalReference(target, available, metadata)
        reference.name = to.path.name
        return reference

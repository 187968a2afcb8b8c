"""The loudness of audio (EBU R 128, ITU-R BS.1770) in a first pass, and the gain that brings it to a target."""

from __future__ import annotations

from fractions import Fraction
from math import inf, log10

import av
import av.filter
from av.audio.frame import AudioFrame
from msgspec import Struct

from boxkite.core.notices.files import QUIETER, TOO_SILENT
from boxkite.core.notices.notice import Notice
from boxkite.core.plan.rows import Row
from boxkite.core.render.inputs import open_audio
from boxkite.core.render.mixing import AudioChain

_QUIETEST_LUFS = -70.0
"""The absolute gate of BS.1770: what stays below is silence, and is left as it is."""


class Loudness(Struct, frozen=True):
    """Of one track."""

    lufs: float
    """Integrated, gated."""
    peak_dbtp: float
    """The highest true peak of its channels."""


class _Meter:
    """Measures audio as it comes, by the library's meter."""

    def __init__(self) -> None:
        self._graph: av.filter.Graph | None = None
        self._samples = 0
        self._lufs = -inf
        self._peak = 0.0

    def put(self, block: AudioFrame) -> None:
        if self._graph is None:
            self._graph = self._build(block)
        block.pts = self._samples
        block.time_base = Fraction(1, block.sample_rate)
        self._samples += block.samples
        self._graph.push(block)
        self._pull()

    def result(self) -> Loudness:
        """The loudness, once all audio has been put."""
        if self._graph is not None:
            self._graph.push(None)
            self._pull()
        return Loudness(self._lufs, 20 * log10(self._peak) if self._peak > 0 else -inf)

    @staticmethod
    def _build(block: AudioFrame) -> av.filter.Graph:
        graph = av.filter.Graph()
        source = graph.add_abuffer(
            sample_rate=block.sample_rate,
            format=block.format.name,
            layout=block.layout.name,
            time_base=Fraction(1, block.sample_rate),
        )
        meter = graph.add("ebur128", "peak=true:metadata=1")
        sink = graph.add("abuffersink")
        source.link_to(meter)
        meter.link_to(sink)
        graph.configure()
        return graph

    def _pull(self) -> None:
        assert self._graph is not None
        while True:
            try:
                measured = self._graph.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                return
            measures = measured.metadata
            self._lufs = float(measures.get("lavfi.r128.I", self._lufs))
            peaks = [float(value) for key, value in measures.items() if "true_peaks_ch" in key]
            self._peak = max([self._peak, *peaks])


def measure(row: Row) -> list[Loudness]:
    """The loudness of each audio track that the row's file will hold, before any gain."""
    chain = AudioChain(row)
    reader = open_audio(row, row.span, row.audio_tracks)
    meters: dict[int, _Meter] = {}
    step = row.shot.footage.frame_index.rate.nominal
    try:
        for frame in [*range(row.span.start + step, row.span.end, step), row.span.end]:
            for place, block in reader.until(frame):
                for track, made in chain.put(place, block):
                    meters.setdefault(track, _Meter()).put(made)
    finally:
        reader.close()
    return [meters[track].result() for track in sorted(meters)]


def gains_for(row: Row) -> tuple[tuple[float, ...], list[Notice]]:
    """The factor that brings each track to the preset's loudness, held back where its true peak would go too high.

    Also notices: tracks that end up quieter than asked, or that are silent.
    """
    audio = row.preset.audio
    if audio is None or audio.loudness_lufs is None or not row.audio_tracks:
        return (), []
    gains, notices = [], []
    for track, found in enumerate(measure(row)):
        which = f"audio track {track + 1}" if track else "its audio"
        if found.lufs <= _QUIETEST_LUFS:
            gains.append(1.0)
            notices.append(TOO_SILENT(track=which))
            continue
        wanted = audio.loudness_lufs - found.lufs
        room = audio.most_peak_dbtp - found.peak_dbtp
        if room < wanted:
            quieter = QUIETER(
                track=which, lufs=found.lufs + room, wanted=audio.loudness_lufs, peak=audio.most_peak_dbtp
            )
            notices.append(quieter)
        gains.append(10 ** (min(wanted, room) / 20))
    return tuple(gains), notices

"""Values brought into finished files in place: written beside, compared packet by packet, then exchanged."""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import av

from boxkite.core.errors import BoxkiteError, PlanError, RenderError, RequestError
from boxkite.core.files.checksum import file_checksum
from boxkite.core.files.identity import stamp_of
from boxkite.core.files.moving import sync
from boxkite.core.files.partials import partial_of
from boxkite.core.files.replacing import give_name
from boxkite.core.files.sweeping import sweep
from boxkite.core.handover.catalogue import Catalogue, CatalogueRow
from boxkite.core.handover.columns import ColumnMapping
from boxkite.core.handover.delivery import DeliveredFile
from boxkite.core.handover.embedding import embedded, takes_values
from boxkite.core.handover.sidecars import sidecar_bytes
from boxkite.core.handover.written import Existing, write
from boxkite.core.records.handovers import EMBEDDED, Handover, note_handover
from boxkite.core.records.journal import Journal, now_text
from boxkite.core.records.store import Records


def values_of(mapping: ColumnMapping, row: CatalogueRow) -> dict[str, str]:
    """The values of a row that are to be embedded, by columns.EMBEDDED."""
    found = {
        column.embed: column.join.join(cell)
        for column, cell in zip(mapping.columns, row.cells, strict=True)
        if column.embed
    }
    return {kind: text for kind, text in found.items() if text}


def embed_into(file: DeliveredFile, values: Mapping[str, str], user: str) -> bool:
    """Embed values into a finished file; False where it has them already.

    The record of the batch that made it is brought up to date; before the exchange it notes the checksum to come, so
    that whatever bears the name is known to it. Raises RequestError where its frames would not stay the same;
    PlanError.
    """
    path = file.path
    try:
        sweep(path.parent)
        old = stamp_of(path)
        with partial_of(path) as partial:
            with partial.path.open("wb") as target:
                if not embedded(path, target, values):
                    return False
            if not _same_packets(path, partial.path):
                raise RequestError("its frames would not stay the same: nothing is embedded", path=path)
            partial.path.chmod(path.stat().st_mode & 0o7777)
            sync(partial.path)
            checksum, size = file_checksum(partial.path), partial.path.stat().st_size
            if file.record:
                with Records() as records:
                    note = Handover(now_text(), user, EMBEDDED, path, checksum)
                    note_handover(records, note, [file.batch])
            give_name(partial, replacing=old)
        if file.record:
            with Records() as records:
                Journal(records, file.batch).changed(file.record.number, checksum, size)
    except RenderError as error:
        raise PlanError(error.message, path=error.path) from None
    except OSError as error:
        raise PlanError(
            f"it cannot be written: {(error.strerror or str(error)).lower()}", path=path
        ) from None
    return True


def _same_packets(first: Path, second: Path) -> bool:
    """Whether two files hold the same packets at the same times, and as many streams."""
    try:
        return all(one == other for one, other in zip(_packets(first), _packets(second), strict=True))
    except (ValueError, av.error.FFmpegError):
        return False


def _packets(path: Path) -> Iterator[tuple[object, ...]]:
    with av.open(
        f"file:{path}", options={"protocol_whitelist": "file"}, metadata_errors="replace"
    ) as container:
        yield tuple((stream.type, stream.time_base, stream.start_time) for stream in container.streams)
        count = 0
        for packet in container.demux():
            if packet.size:
                count += 1
                yield (
                    packet.stream_index,
                    packet.pts,
                    packet.dts,
                    packet.duration,
                    zlib.crc32(memoryview(packet)),
                )
        if not count:
            raise ValueError("nothing can be read of it")


def embed_all(
    catalogue: Catalogue, paths: Sequence[Path], existing: Existing, user: str
) -> tuple[int, list[str]]:
    """Write sidecars and bring the values into files: how many files took them, and why others did not.

    paths: of the sidecars, one for each row. Raises PlanError.
    """
    for path, row in zip(paths, catalogue.rows, strict=True):
        write(path, sidecar_bytes(catalogue.mapping, row), existing)
    changed, problems = 0, []
    for row in catalogue.rows:
        file = row.described.file
        try:
            changed += takes_values(file.path) and embed_into(file, values_of(catalogue.mapping, row), user)
        except BoxkiteError as error:
            problems.append(error.text)
    return changed, problems

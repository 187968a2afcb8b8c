"""Check finished files: there, whole, the same bytes; decode them and compare them with their sources."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from boxkite.cli.handover import add_delivery, bytes_progress, count_progress, note, unseen_lines
from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from collections.abc import Sequence

    from boxkite.core.handover.checking import Check, Checked
    from boxkite.core.render.comparing import Comparison

EXAMPLES = """\
examples:
  boxkite verify
  boxkite verify 2026-11-23.1 --deep
  boxkite verify /media/delivery/out
  boxkite verify out/review --deep --chart quality.png

Files are compared with the record of the batch that made them, and with every manifest
beside them: media hash lists (ASC MHL) and lists of checksums. Nothing is written there.
"""
_WORST = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, and how closely."""
    add_delivery(parser)
    parser.add_argument(
        "--deep", action="store_true",
        help="decode every file to its end and compare every frame with its source",
    )  # fmt: skip
    parser.add_argument("--chart", metavar="FILE", help="with --deep: draw the quality of every frame (.png)")
    parser.add_argument(
        "--workers", type=int, metavar="N", default=0, help="files decoded at a time (default: one per core)"
    )
    parser.add_argument("--json", action="store_true", help="print JSON instead of lines")


def run(arguments: argparse.Namespace) -> int:
    """Check, and name every fault; status 1 where there is one."""
    from boxkite.core.errors import RequestError
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.checking import check_files, check_of
    from boxkite.core.handover.delivery import delivery_of

    if arguments.chart and not arguments.deep:
        raise RequestError("--chart needs --deep", hint="quality is known once the files are decoded")
    if arguments.chart and path_from(arguments.chart).exists():
        raise RequestError("this file is there already", path=arguments.chart, hint="name another")
    screen = Screen(stderr=arguments.json)
    delivery = delivery_of(arguments.delivery)
    check = check_of(delivery)
    if not check.files:
        missing = f"; boxkite resume {delivery.label} makes them" if delivery.not_made else ""
        raise RequestError(f"there is no finished file in {delivery.label}{missing}")
    with bytes_progress(screen, "checking", check.size_bytes) as progress:
        checked = list(check_files(check, progress))
    compared: dict[Any, Comparison] = {}
    if arguments.deep or not check.is_known:
        checked, compared = _decoded(screen, checked, arguments.workers)
    if arguments.chart:
        from boxkite.core.preview.quality_chart import draw_quality

        path = path_from(arguments.chart)
        known = [one.file for one in checked if one.file.path in compared]
        draw_quality(path, [(delivery.label_of(file), compared[file.path]) for file in known])
    _show(screen, check, checked, compared)
    faults = sum(map(_is_faulty, checked))
    if arguments.chart:
        screen.print(f"chart: {arguments.chart}")
    how = "decoded" if compared else "checked"
    outcome = f"{len(checked)} files {how}, {faults or 'none'} with faults"
    note(screen, delivery, "verified", None, outcome)
    if arguments.json:
        _print_json(check, checked, compared)
    return int(bool(faults or delivery.unseen or check.known.notices))


def _is_faulty(one: Checked) -> bool:
    return bool(one.faults)


def _decoded(
    screen: Screen, checked: Sequence[Checked], workers: int
) -> tuple[list[Checked], dict[Any, Comparison]]:
    from boxkite.core.handover.deep_checking import decode_all

    by_path = {one.file.path: one for one in checked}
    compared = {}
    with (
        decode_all(checked, workers=workers) as decoded,  # before the progress, which has a thread
        count_progress(screen, "decoding", len(checked)) as progress,
    ):
        for one, found in decoded:
            by_path[one.file.path] = one
            compared[one.file.path] = found
            progress()
    return list(by_path.values()), compared


def _show(screen: Screen, check: Check, checked: Sequence[Checked], compared: dict[Any, Comparison]) -> None:
    from boxkite.cli.tables import counted
    from boxkite.core.notices.handover import NO_RECORD

    label_of = check.delivery.label_of
    if any(found.psnr_db for found in compared.values()):
        _show_quality(screen, check, checked, compared)
    for line in (*unseen_lines(check.delivery), *(notice.marked for notice in check.known.notices)):
        screen.print(f"! {line}", "yellow")
    if not check.is_known:
        screen.print(f"! {NO_RECORD().marked}", "yellow")
    for one in checked:
        for notice in one.notices:
            screen.print(f"! {label_of(one.file)}: {notice.marked}", "yellow")
    for record in check.delivery.not_made:
        screen.print(f"! {record.path.name}: it is not made yet ({record.state})", "yellow")
    for one in checked:
        for fault in one.faults:
            screen.print(f"fault: {label_of(one.file)}: {fault.marked}", "red")
    against = dict.fromkeys(label for one in checked for label in one.against)
    if against:
        screen.print(f"compared with {', '.join(against)}")
    faulty = sum(map(_is_faulty, checked))
    how = "decoded to the end" if compared and not check.is_known else "the same as recorded" if not compared else (
        "the same as recorded, and decoded")  # fmt: skip
    if faulty:
        screen.print(f"{counted(len(checked), 'file')}, {faulty} with faults", "bold red")
    else:
        screen.print(f"{counted(len(checked), 'file')}, every one {how}", "bold green")


def _show_quality(
    screen: Screen, check: Check, checked: Sequence[Checked], compared: dict[Any, Comparison]
) -> None:
    """A table: mean and worst closeness of each file's frames to its source."""
    from boxkite.cli.tables import Column, print_table

    rows, label_of = [], check.delivery.label_of
    for one in checked:
        found = compared.get(one.file.path)
        if not found or not found.psnr_db:
            continue
        at = ", ".join(
            f"{found.start + place if found.start else place} {_db(found.psnr_db[place])}"
            for place in found.worst(_WORST)
        )
        rows.append(
            [label_of(one.file), str(found.frames), _db(found.mean_psnr_db), f"{found.mean_ssim:.4f}", at]
        )
    columns = [Column("file", gives_way=True), Column("frames", right=True), Column("PSNR", right=True),
               Column("SSIM", right=True), Column("worst frames", optional=True)]  # fmt: skip
    print_table(screen, columns, rows)
    screen.print()


def _db(value: float) -> str:
    from boxkite.core.render.quality import BEST_DB

    return "same" if value >= BEST_DB else f"{value:.1f} dB"


def _print_json(check: Check, checked: Sequence[Checked], compared: dict[Any, Comparison]) -> None:
    from boxkite.cli.tables import print_json
    from boxkite.core.notices.notice import notice_as_json

    files = []
    for one in checked:
        found = compared.get(one.file.path)
        quality = None
        if found and found.psnr_db:
            quality = {
                "psnr_db": round(found.mean_psnr_db, 3),
                "ssim": round(found.mean_ssim, 6),
                "worst": [
                    {"frame": place, "timecode": str(found.start + place) if found.start else None,
                     "psnr_db": round(found.psnr_db[place], 3), "ssim": round(found.ssim[place], 6)}
                    for place in found.worst(_WORST)
                ],
            }  # fmt: skip
        files.append({
            "path": str(one.file.path), "against": list(one.against),
            "faults": [notice_as_json(fault) for fault in one.faults],
            "notices": [notice_as_json(notice) for notice in one.notices],
            "frames": found.frames if found else None, "quality": quality,
        })  # fmt: skip
    print_json(
        {
            "delivery": check.delivery.label,
            "files": files,
            "faults": sum(map(_is_faulty, checked)),
            "notices": [notice_as_json(notice) for notice in check.known.notices],
            "not_made": [str(record.path) for record in check.delivery.not_made],
            "unseen": [{"path": str(one.path), "reason": one.reason} for one in check.delivery.unseen],
        },
        "verify",
    )

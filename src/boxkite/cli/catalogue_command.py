"""Write a catalogue of finished files: a row for each, in the columns its receiver wants, within the limits."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from boxkite.cli.handover import add_delivery, add_existing, note
from boxkite.cli.screen import Screen

if TYPE_CHECKING:
    from pathlib import Path

    from boxkite.core.handover.catalogue import Catalogue
    from boxkite.core.handover.delivery import Delivery

EXAMPLES = """\
examples:
  boxkite catalogue --columns stock --into shots.csv
  boxkite catalogue out/stock --columns library.toml --metadata slates.csv --into shots.xlsx
  boxkite catalogue last --columns delivery --into list.csv --embed

Columns are a TOML file of patterns and limits; boxkite catalogue --show stock prints one to
begin with. What a receiver would not take is listed first, and then nothing is written.
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Of what, in which columns, where to."""
    add_delivery(parser)
    parser.add_argument(
        "--columns", metavar="FILE", default="delivery",
        help="the columns: a .toml file, or stock or delivery (default: delivery)",
    )  # fmt: skip
    parser.add_argument("--into", metavar="FILE", help="the file to write: .csv, .tsv or .xlsx")
    parser.add_argument(
        "--metadata", metavar="FILE", action="append", default=[],
        help="a table about the files or their sources; its columns become tokens (repeatable)",
    )  # fmt: skip
    parser.add_argument(
        "--embed", action="store_true",
        help="also write the values into MOV and MP4 files, and into an XMP sidecar beside each file",
    )  # fmt: skip
    add_existing(parser)
    parser.add_argument("--show", metavar="NAME", help="print built-in columns as TOML, and do nothing else")
    parser.add_argument("--json", action="store_true", help="print the rows as JSON")


def run(arguments: argparse.Namespace) -> int:
    """Fill in the columns, list every fault, or write the catalogue."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted
    from boxkite.core.errors import RequestError
    from boxkite.core.files.reading import path_from
    from boxkite.core.handover.catalogue import catalogue_bytes, catalogue_of, require_form
    from boxkite.core.handover.columns import mapping_path, read_mapping
    from boxkite.core.handover.delivery import delivery_of
    from boxkite.core.handover.described import describe
    from boxkite.core.handover.written import free_path, write

    screen = Screen(stderr=arguments.json)
    if arguments.show:
        lines = mapping_path(arguments.show).read_text().splitlines()
        screen.print_lines([(line, "") for line in lines], wrapped=False)
        return 0
    mapping = read_mapping(mapping_path(path_from(arguments.columns)))
    into = path_from(arguments.into) if arguments.into else None
    if into:
        require_form(into)
        into = free_path(into, arguments.existing)
    delivery = delivery_of(arguments.delivery)
    described = describe(delivery, [path_from(path) for path in arguments.metadata], user=current_user())
    catalogue = catalogue_of(described, mapping)
    if catalogue.faults:
        raise RequestError(
            f"{counted(len(catalogue.faults), 'fault')} that the receiver would not take; nothing was written",
            hint=f"change them in the metadata, or the limits in {mapping.path.name}",
            details=catalogue.faults,
        )
    for notice in described.notices:
        screen.print(f"! {notice.marked}", "yellow")
    status = _embed(screen, arguments, delivery, catalogue) if arguments.embed else 0
    _show(arguments, delivery, catalogue, into)
    if into:
        write(into, catalogue_bytes(catalogue, into.suffix.lower()), arguments.existing)
        note(screen, delivery, "catalogue", into.absolute(), counted(len(catalogue.rows), "row"))
        screen.print(f"{into}: {counted(len(catalogue.rows), 'row')}", "bold green")
    elif not arguments.json:
        screen.print(f"{counted(len(catalogue.rows), 'row')}; --into shots.csv writes them")
    return status


def _embed(screen: Screen, arguments: argparse.Namespace, delivery: Delivery, catalogue: Catalogue) -> int:
    """Bring the values into files and sidecars; status 1 where a file does not take them."""
    from boxkite.cli.options import current_user
    from boxkite.cli.tables import counted
    from boxkite.core.handover.embed_files import embed_all
    from boxkite.core.handover.sidecars import sidecar_path
    from boxkite.core.handover.written import free_path

    paths = [free_path(sidecar_path(row.described.file.path), arguments.existing) for row in catalogue.rows]
    changed, problems = embed_all(catalogue, paths, arguments.existing, current_user())
    note(screen, delivery, "sidecar", paths[0], also=paths[1:])
    for problem in problems:
        screen.print(f"! not embedded: {problem}", "yellow")
    screen.print(
        f"values embedded into {counted(changed, 'file')}; {counted(len(paths), 'sidecar')} beside them"
    )
    return int(bool(problems))


def _show(arguments: argparse.Namespace, delivery: Delivery, catalogue: Catalogue, into: Path | None) -> None:
    """The rows as JSON, or as a table where they are not written."""
    from boxkite.cli.tables import Column, print_json, print_table

    head = [column.name for column in catalogue.mapping.columns]
    texts = [catalogue.texts(row) for row in catalogue.rows]
    if arguments.json:
        rows = [dict(zip(head, row, strict=True)) for row in texts]
        print_json(
            {"delivery": delivery.label, "into": str(into) if into else None, "rows": rows}, "catalogue"
        )
    elif not into:
        columns = [Column(name, gives_way=True, optional=place > 1) for place, name in enumerate(head)]
        screen = Screen()
        print_table(screen, columns, texts)
        screen.print()

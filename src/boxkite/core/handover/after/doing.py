"""Doing one step of a batch: done again after it was cut short, it leaves what one go would have left."""

from __future__ import annotations

import glob
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from boxkite.core.errors import SendError, VerificationError
from boxkite.core.handover.after.planning import addresses_of, into_of, sheet_request
from boxkite.core.handover.catalogue import catalogue_bytes, catalogue_of
from boxkite.core.handover.checking import check_files, check_of
from boxkite.core.handover.columns import mapping_path, read_mapping
from boxkite.core.handover.deep_checking import decode_all
from boxkite.core.handover.delivery import Delivery
from boxkite.core.handover.described import Description, describe
from boxkite.core.handover.embed_files import embed_all
from boxkite.core.handover.manifests import write_manifests
from boxkite.core.handover.media_hash_lists import FOLDER
from boxkite.core.handover.relinking.relinking import relink
from boxkite.core.handover.review_page import check_place
from boxkite.core.handover.sending.everywhere import as_lines, planned_for, send_everywhere
from boxkite.core.handover.sending.sending import AT_ONCE, Sent
from boxkite.core.handover.sending.uploads import NEW, uploads_of, with_checksums
from boxkite.core.handover.sheets import PAGE_LINES, SECTION, PageRequest, make_page, make_sheet
from boxkite.core.handover.shot_folders.folders import make_all, plan_folders
from boxkite.core.handover.shot_folders.tree import read_tree, tree_path
from boxkite.core.handover.sidecars import sidecar_path
from boxkite.core.handover.written import Existing, free_path, write
from boxkite.core.job.after import Step
from boxkite.core.job.manifest_forms import MANIFEST_FORMS
from boxkite.core.naming.pattern import read_pattern
from boxkite.core.naming.saved import pattern_of
from boxkite.core.notices.notice import counted
from boxkite.core.records.handovers import MANIFEST, SHOT_FOLDERS


class Doing(Struct):
    """A step that is being done."""

    step: Step
    delivery: Delivery
    user: str
    settled: list[str] | None
    """What it settled on when it began before; None the first time."""
    settle: Callable[[list[str]], None]
    path: Path | None = None
    """Where it writes to, once that is settled; of pages that are numbered their common name."""

    @property
    def existing(self) -> Existing:
        """What becomes of a file that has the settled name: one from a go that was cut short is the step's own."""
        asked: Existing = self.step.get("existing", "stop")
        return "replace" if self.settled is not None or asked == "replace" else "stop"

    @property
    def has_written(self) -> bool:
        """Whether anything is there under the settled name."""
        if self.path is None:
            return True
        pages = self.path.parent.glob(f"{glob.escape(self.path.stem)}-*{self.path.suffix}")
        return self.path.exists() or any(pages)

    def into(self) -> Path:
        """Where it writes to, settled once. Raises PlanError where that is taken."""
        if self.settled:
            self.path = Path(self.settled[0])
        else:
            into = into_of(self.step, self.delivery.label, self.user)
            self.path = free_path(into, self.step.get("existing", "stop"))
            self.settle([str(self.path)])
        return self.path

    def described(self) -> Description:
        """The files with all that is known of them."""
        tables = [Path(path) for path in self.step.get("metadata", [])]
        return describe(self.delivery, tables, user=self.user)


class Done(Struct, frozen=True):
    """What came of a step."""

    outcome: str
    """In a few words."""
    kind: str = ""
    """Of the line in the log."""
    paths: tuple[Path, ...] = ()
    """What it wrote."""
    lines: tuple[str, ...] = ()
    """For the log, where there are several."""


def do_step(doing: Doing) -> Done:
    """Do it. Raises BoxkiteError with the reason where it fails."""
    return _DOERS[doing.step.kind](doing)


def _verify(doing: Doing) -> Done:
    check = check_of(doing.delivery)
    checked = list(check_files(check, lambda _: None))
    if doing.step.get("deep", False) or not check.is_known:
        by_path = {one.file.path: one for one in checked}
        with decode_all(checked) as decoded:
            by_path |= {one.file.path: one for one, _ in decoded}
        checked = list(by_path.values())
    faulty = [one for one in checked if one.faults]
    if faulty:
        raise VerificationError(
            f"{len(faulty)} of {counted(len(checked), 'file')} with faults, as {faulty[0].file.name}:"
            f" {faulty[0].faults[0]}",
            hint=f"boxkite verify {doing.delivery.label} names them all",
        )
    how = "decoded" if doing.step.get("deep", False) else "checked"
    return Done(f"{len(checked)} files {how}, none with faults", "verified")


def _manifest(doing: Doing) -> Done:
    form = doing.step.get("form", MANIFEST_FORMS[0])
    before, roots = ["before", *_generations(doing.delivery)], doing.delivery.roots
    settled = doing.settled or before
    if form == "mhl" and len(before) >= len(settled) + len(roots):
        return Done("written before it was cut short", MANIFEST, tuple(root / FOLDER for root in roots))
    doing.settle(settled)
    written = write_manifests(doing.delivery, form, author=doing.user)
    files = sum(one.files for one in written)
    return Done(counted(files, "file"), MANIFEST, tuple(one.path for one in written))


def _generations(delivery: Delivery) -> list[str]:
    return sorted(str(path) for root in delivery.roots for path in (root / FOLDER).glob("*.mhl"))


def _contact_sheet(doing: Doing) -> Done:
    description = doing.described()
    request = replace(sheet_request(doing.step, doing.into()), existing=doing.existing)
    paths, count = make_sheet(doing.delivery, description, request)
    return Done(counted(count, "file"), "contact sheet", tuple(paths))


def _review_page(doing: Doing) -> Done:
    step = doing.step
    into = Path(doing.settled[0]) if doing.settled else into_of(step, doing.delivery.label, doing.user)
    existing = "replace" if doing.settled is not None else step.get("existing", "stop")
    request = PageRequest(
        into,
        step.get("title", None),
        step.get("section", SECTION),
        step.get("line", None) or PAGE_LINES,
        existing,
    )
    if doing.settled is None:
        check_place(into, existing)
        doing.settle([str(into)])
    shots = make_page(doing.delivery, doing.described(), request)
    return Done(counted(len(shots), "shot"), "review page", (into,))


def _catalogue(doing: Doing) -> Done:
    mapping = read_mapping(mapping_path(doing.step.get("columns", "delivery")))
    catalogue = catalogue_of(doing.described(), mapping)
    if catalogue.faults:
        raise VerificationError(f"the receiver would not take it: {catalogue.faults[0]}",
                                hint=f"{counted(len(catalogue.faults), 'fault')}: boxkite catalogue")  # fmt: skip
    into = doing.into()
    if doing.step.get("embed", False):
        paths = [sidecar_path(row.described.file.path) for row in catalogue.rows]
        _, problems = embed_all(catalogue, paths, doing.existing, doing.user)
        if problems:
            raise VerificationError(f"not embedded: {problems[0]}")
    write(into, catalogue_bytes(catalogue, into.suffix.lower()), doing.existing)
    return Done(counted(len(catalogue.rows), "row"), "catalogue", (into,))


def _relink(doing: Doing) -> Done:
    step = doing.step
    into = doing.into()
    tracks = tuple(name.strip().upper() for name in step.get("tracks", "").split(",") if name.strip())
    found = relink(
        Path(step.get("edit")) if step.get("edit") else None, doing.delivery, into, preset=step.get("preset"),
        tracks=tracks, rate=step.get("rate") or None, existing=doing.existing, user=doing.user,
    )  # fmt: skip
    write(found.into, found.content, doing.existing)
    kept = f", {len(found.kept)} keep their media" if found.kept else ""
    return Done(f"{counted(found.pointing, 'clip')}{kept}", "edit", (into,))


def _shot_folders(doing: Doing) -> Done:
    into = into_of(doing.step, doing.delivery.label, doing.user)
    tree = read_tree(tree_path(doing.step.get("tree", "shots")))
    reviews = [Path(path) for path in doing.step.get("review", [])]
    plan = plan_folders(doing.described(), tree, into, reviews)
    doing.settle([str(into)])
    made = make_all(plan)
    return Done(f"{counted(plan.shots, 'shot')}, {made} things added", SHOT_FOLDERS, (into,))


def _send(doing: Doing) -> Done:
    step = doing.step
    only = step.get("only", [])
    names = pattern_of(step.get("names") or None)
    uploads = uploads_of(
        doing.delivery, only=[text for text in only if text != NEW], names=read_pattern(names) if names else None,
        tables=[Path(path) for path in step.get("metadata", [])], with_others=not step.get("files-only", False),
        user=doing.user,
    )  # fmt: skip
    uploads = with_checksums(uploads)
    sent: dict[object, list[Sent]] = {}
    with planned_for(
        addresses_of(step), uploads, existing=step.get("existing", "stop"), only_new=NEW in only
    ) as plans:
        happening = send_everywhere(
            plans, who=doing.user, check=step.get("check", "checksum"), at_once=step.get("workers", AT_ONCE)
        )
        for plan, event in happening:
            if isinstance(event, Sent):
                sent.setdefault(plan.address, []).append(event)
        lines = as_lines(plans, sent)  # type: ignore[arg-type]
        failed = [one for found in sent.values() for one in found if one.failure]
        if failed and failed[0].failure:
            raise SendError(f"{lines[0]}: {failed[0].planned.upload.name}: {failed[0].failure.reason}",
                            hint=failed[0].failure.hint)  # fmt: skip
        for address, failure in plans.failures.items():
            raise SendError(failure.reason, path=address.label, hint=failure.hint)
    return Done("; ".join(lines), "sent", (), tuple(lines))


_DOERS: dict[str, Callable[[Doing], Done]] = {
    "verify": _verify, "manifest": _manifest, "contact-sheet": _contact_sheet, "review-page": _review_page,
    "catalogue": _catalogue, "relink": _relink, "shot-folders": _shot_folders, "send": _send,
}  # fmt: skip

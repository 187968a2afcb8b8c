"""Manifests: ours and those of others, read by the standard's reference tool and by the system's checksum programs."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from boxkite.core.batch.recording import Batch, begin_batch
from boxkite.core.records.store import Records
from tests.builders import write_day
from tests.verification import boxkite, kinds

NAMES = ["Bütte 日本.mov", "a  b & <c>.mov", "two\nlines.mov", "paper 🎞.mov", "back\\slash.mov", " lead.mov"]


def tool(*words: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """The reference tool of ASC MHL, from the environment the tests run in."""
    program = Path(sys.executable).with_name(words[0])
    return subprocess.run([str(program), *words[1:]], cwd=cwd, capture_output=True, text=True, check=False)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Files of hostile names, which no batch has made."""
    place = tmp_path / "out" / "shots"
    (place / "scene 2").mkdir(parents=True)
    for number, name in enumerate(NAMES):
        (place / "scene 2" / name if number % 2 else place / name).write_bytes(os.urandom(2000 + number))
    return place


def faults(place: Path, what: str = "shots") -> dict[str, list[str]]:
    checked = boxkite("verify", what, "--json", cwd=place.parent)
    assert checked.status == int(bool(checked.json["faults"])), checked.err
    return {Path(one["path"]).name: kinds(one["faults"]) for one in checked.json["files"] if one["faults"]}


def test_the_reference_tool_verifies_our_lists_and_a_second_copy_adds_a_generation(folder: Path) -> None:
    first = boxkite("manifest", "shots", "--author", "Ada", "--json", cwd=folder.parent)
    assert first.json["manifests"][0]["generation"] == 1 and first.json["manifests"][0]["files"] == len(NAMES)
    assert tool("ascmhl", "diff", "shots", cwd=folder.parent).returncode == 0
    assert tool("ascmhl-debug", "verify", "shots", cwd=folder.parent).returncode == 0
    copy = folder.parent / "second"
    shutil.copytree(folder, copy)
    again = boxkite("manifest", "second", "--json", cwd=folder.parent)
    assert (again.json["manifests"][0]["generation"], again.json["manifests"][0]["read"]) == (2, len(NAMES))
    assert tool("ascmhl-debug", "verify", "second", cwd=folder.parent).returncode == 0
    assert len(list((folder / "ascmhl").glob("*.mhl"))) == 1 and faults(folder) == {} == faults(
        folder, "second"
    )
    (copy / NAMES[0]).write_bytes(b"other")
    refused = boxkite("manifest", "second", cwd=folder.parent)
    assert refused.status == 2 and NAMES[0] in refused.err and len(list((copy / "ascmhl").glob("*.mhl"))) == 2
    assert faults(folder, "second") == {NAMES[0]: ["file-other-bytes"]}


@pytest.mark.parametrize("form", ["md5", "sha1", "xxh64", "xxh3", "xxh128", "c4"])
def test_lists_of_the_reference_tool_verify_here_and_go_on_here(folder: Path, form: str) -> None:
    assert tool("ascmhl", "create", "shots", "-h", form, cwd=folder.parent).returncode == 0
    assert faults(folder) == {}
    assert boxkite("manifest", "shots", cwd=folder.parent).status == 0
    moved = folder / NAMES[4]
    moved.rename(folder / "other name.mov")
    flipped = bytearray((folder / "scene 2" / NAMES[3]).read_bytes())
    flipped[700] ^= 1
    (folder / "scene 2" / NAMES[3]).write_bytes(flipped)
    found = faults(folder)
    assert found.pop(NAMES[4]) == ["file-missing"] and found.pop("other name.mov") == ["file-extra"]
    assert set(found) == {NAMES[3]} and set(found[NAMES[3]]) == {"file-other-bytes"}


def test_plain_lists_are_read_by_the_systems_programs_and_theirs_are_read_here(folder: Path) -> None:
    for form in ("md5", "sha1", "sha256"):
        assert boxkite("manifest", "shots", "--form", form, cwd=folder.parent).status == 0
        subprocess.run([f"{form}sum", "-c", "--quiet", f"checksums.{form}"], cwd=folder, check=True)
    for form in ("xxh64", "xxh3", "xxh128"):
        assert boxkite("manifest", "shots", "--form", form, cwd=folder.parent).status == 0
    assert faults(folder) == {}
    for path in folder.glob("checksums.*"):
        path.unlink()
    names = [str(path.relative_to(folder)) for path in folder.rglob("*.mov")]
    for words, into in (
        (["md5sum", "-b"], "MD5SUMS"),
        (["sha256sum", "--tag"], "set.sha256"),
        (["sha1sum"], "sums.sha1.txt"),
    ):
        listed = subprocess.run([*words, "--", *names], cwd=folder, capture_output=True, check=True).stdout
        (folder / into).write_bytes(listed)
    assert faults(folder) == {}
    (folder / NAMES[0]).unlink()
    (folder / "left over.txt").touch()
    assert faults(folder) == {NAMES[0]: ["file-missing"], "left over.txt": ["file-extra"]}


def test_a_list_that_a_file_no_longer_fits_is_not_written_over_and_other_lines_stay(folder: Path) -> None:
    listed = folder / "checksums.md5"
    assert boxkite("manifest", "shots", "--form", "md5", cwd=folder.parent).status == 0
    first = listed.read_bytes()
    listed.write_bytes(b"# by hand\n" + first + b"0" * 32 + b"  gone.mov\nSHA256 (x) = " + b"0" * 64 + b"\n")
    assert boxkite("manifest", "shots", "--form", "md5", cwd=folder.parent).status == 0
    again = listed.read_bytes()
    assert again.startswith(b"# by hand\n" + first) and b"gone.mov" in again and b"SHA256 (x)" in again
    (folder / NAMES[0]).write_bytes(b"broken since")
    refused = boxkite("manifest", "shots", "--form", "md5", cwd=folder.parent)
    assert refused.status == 2 and NAMES[0] in refused.err and listed.read_bytes() == again


def test_manifests_that_do_harm_are_named_and_do_none(folder: Path) -> None:
    outside = folder.parent / "secret.txt"
    outside.write_text("secret")
    (folder / "checksums.md5").write_text(f"{'0' * 32}  ../secret.txt\n{'0' * 32}  /etc/passwd\nrubbish\n")
    checked = boxkite("verify", "shots", "--json", cwd=folder.parent)
    assert checked.status == 1 and "secret" not in str([one["path"] for one in checked.json["files"]])
    assert kinds(checked.json["notices"]) == [
        "file-names-outside",
        "file-names-outside",
        "file-manifest-unreadable",
    ]
    (folder / "checksums.md5").unlink()
    boxkite("manifest", "shots", cwd=folder.parent)
    chain = folder / "ascmhl" / "ascmhl_chain.xml"
    whole = chain.read_text()
    bomb = '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><a>&x;</a>'
    for broken in (bomb, whole[:-40], whole.replace("c4>c4", "c4>c5")):
        chain.write_text(broken)
        checked = boxkite("verify", "shots", "--json", cwd=folder.parent)
        assert checked.status == 1 and kinds(checked.json["notices"]) == ["file-chain-broken"], broken
        assert boxkite("manifest", "shots", cwd=folder.parent).status == 2
    assert chain.read_text() == whole.replace("c4>c4", "c4>c5")


def test_a_job_asks_for_a_manifest_and_what_was_hashed_is_not_hashed_again(tmp_path: Path) -> None:
    write_day(tmp_path / "day", (96, 64))
    (tmp_path / "job.toml").write_text('by = "files"\nto = ["copy:out"]\nmanifest = "mhl"\n')
    done = boxkite("gather", "day/card", "--into", "originals", "--job", "job.toml", cwd=tmp_path)
    assert done.status == 0, done.err
    for place in ("originals/card", "out"):
        assert tool("ascmhl-debug", "verify", place, cwd=tmp_path).returncode == 0
    checked = boxkite("verify", "originals", "--json", cwd=tmp_path)
    assert checked.json["faults"] == 0 and not checked.json["notices"]
    assert "checksums.xxh128" in checked.json["files"][0]["against"]
    again = boxkite("manifest", "last", "--form", "xxh128", "--json", cwd=tmp_path)
    assert again.json["manifests"][0]["read"] == 0 < again.json["manifests"][0]["files"]
    made = next(path for path in (tmp_path / "out").iterdir() if path.suffix == ".mov")
    made.write_bytes(made.read_bytes())  # written to since: not taken on trust
    os.utime(made, (made.stat().st_atime + 9, made.stat().st_mtime + 9))
    assert (
        boxkite("manifest", "last", "--form", "xxh128", "--json", cwd=tmp_path).json["manifests"][0]["read"]
        == 1
    )
    log = boxkite("log", "last", cwd=tmp_path).out
    assert "manifest by" in log and "checksums.xxh128" in log
    status = boxkite("status", "last", "--json", cwd=tmp_path).json
    assert [one["kind"] for one in status["handovers"]] == ["manifest", "manifest", "manifest"]
    listed = boxkite("inspect", "originals", "--json", cwd=tmp_path).json
    assert not [one for one in listed["unreadable"] if "ascmhl" in one["path"]]


def test_a_manifest_is_written_by_resume_and_by_the_library(tmp_path: Path) -> None:
    import boxkite as library

    write_day(tmp_path / "day", (96, 64))
    plan = library.plan(
        library.Job(tmp_path / "day/card", [library.Output("copy", tmp_path / "made")], by="files")
    )
    made = library.run(plan, workers=1, manifest="md5")
    assert made.is_complete and (tmp_path / "made/checksums.md5").is_file()
    plan = library.plan(
        library.Job(tmp_path / "day/card", [library.Output("copy", tmp_path / "late")], by="files")
    )
    with Records() as records:
        begin_batch(plan, Batch(manifest="sha1"), records, 1)
    done = boxkite("resume", "last", cwd=tmp_path)
    assert done.status == 0 and "manifest: " in done.out and (tmp_path / "late/checksums.sha1").is_file()
    (tmp_path / "late/checksums.sha1").unlink()
    assert boxkite("resume", "last", cwd=tmp_path).status == 0  # it was written once: that is on record
    assert not (tmp_path / "late/checksums.sha1").exists()


def test_a_chain_that_cannot_be_written_stays_as_it_was(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from boxkite.core.errors import PlanError
    from boxkite.core.handover import media_hash_lists
    from boxkite.core.handover.delivery import delivery_of_folder
    from boxkite.core.handover.manifests import write_manifests

    write_manifests(delivery_of_folder(folder), "mhl")
    before = {path.name: path.read_bytes() for path in (folder / "ascmhl").iterdir()}

    def full(*_: object, **__: object) -> None:
        raise OSError(28, "no space left on device")

    monkeypatch.setattr(media_hash_lists, "give_name", full)
    with pytest.raises(PlanError, match="no space"):
        write_manifests(delivery_of_folder(folder), "mhl")
    assert {path.name: path.read_bytes() for path in (folder / "ascmhl").iterdir()} == before
    assert not [path for path in folder.iterdir() if path.name.startswith(".boxkite")]

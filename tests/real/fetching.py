"""Fetches clips that nobody here made from Debian's packages, by the checksums of Debian's own index."""

from __future__ import annotations

import gzip
import hashlib
import io
import lzma
import subprocess
import tarfile
import urllib.request
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

MIRROR = "http://deb.debian.org/debian"
SUITE = "bookworm"
BINARY_PACKAGES = (
    "opencv-doc", "gnome-user-docs", "gnome-devel-docs", "planetblupi-common", "lebiniou-data", "linphone-common",
    "python3-mecavideo", "gem-doc", "psychtoolbox-3-common", "python3-imageio", "visp-images-data", "tupi-data",
    "hollywood", "minetest-data", "splint-data", "forensics-samples-files",
)  # fmt: skip
SOURCE_PACKAGES = (
    "gst-plugins-base1.0", "gst-plugins-good1.0", "gst-plugins-bad1.0", "libwebm", "halide", "pytorch-vision",
    "libimage-exiftool-perl", "libextractor", "qt6-multimedia", "tracker-miners", "meep", "shared-mime-info",
    "lomiri-thumbnailer", "mediascanner2", "mat2", "dlib",
)  # fmt: skip
LARGE_SOURCE_PACKAGES = ("firefox-esr",)
"""Half a gigabyte each: several hundred clips, many of them broken on purpose."""
SUFFIXES = frozenset(
    [
        ".3g2",
        ".3gp",
        ".asf",
        ".avi",
        ".divx",
        ".dv",
        ".flv",
        ".m2ts",
        ".m2v",
        ".m4v",
        ".mkv",
        ".mov",
        ".mp4",
        ".mpeg",
        ".mpg",
        ".mts",
        ".mxf",
        ".ogv",
        ".ts",
        ".vob",
        ".webm",
        ".wmv",
    ]
)
LARGEST_BYTES = 40_000_000


def fetch(folder: Path, *, large: bool) -> list[Path]:
    """The clips of all packages, in a folder per package; what is there already is not fetched again."""
    folder.mkdir(parents=True, exist_ok=True)
    packages = [(name, "binary") for name in BINARY_PACKAGES]
    packages += [(name, "source") for name in SOURCE_PACKAGES + (LARGE_SOURCE_PACKAGES if large else ())]
    missing = [(name, kind) for name, kind in packages if not (folder / name / "fetched").exists()]
    indexes = {kind: _index(kind) for kind in {kind for _, kind in missing}}
    for name, kind in missing:
        (folder / name).mkdir(exist_ok=True)
        try:
            for path, checksum in indexes[kind].get(name, []):
                _unpack(_verified(path, checksum), path, folder / name)
        except OSError as error:  # a mirror may hold back single files
            print(f"{name}: not fetched ({error})", flush=True)
            continue
        (folder / name / "fetched").touch()
        print(f"{name}: {sum(1 for _ in _clips(folder / name))} clips", flush=True)
    return sorted(clip for name, _ in packages for clip in _clips(folder / name))


def _clips(folder: Path) -> Iterator[Path]:
    return (path for path in folder.rglob("*") if path.suffix.lower() in SUFFIXES and path.is_file())


def _index(kind: str) -> dict[str, list[tuple[str, str]]]:
    """(path, SHA-256) of the files of each package, from the index of the suite (Debian policy, 5.3 and 5.4)."""
    name = "source/Sources.xz" if kind == "source" else "binary-amd64/Packages.xz"
    text = lzma.decompress(_read(f"dists/{SUITE}/main/{name}")).decode()
    found: dict[str, list[tuple[str, str]]] = {}
    for paragraph in text.split("\n\n"):
        package, files = _files_of(paragraph, kind)
        found[package] = files  # of several versions the last, which is the newest
    return found


def _files_of(paragraph: str, kind: str) -> tuple[str, list[tuple[str, str]]]:
    fields: dict[str, str] = {}
    key = ""
    for line in paragraph.splitlines():
        if line.startswith(" "):
            fields[key] += line + "\n"
        else:
            key, _, value = line.partition(": ")
            fields[key.rstrip(":")] = value
            key = key.rstrip(":")
    if kind == "binary":
        return fields.get("Package", ""), [(fields.get("Filename", ""), fields.get("SHA256", ""))]
    lines = [line.split() for line in fields.get("Checksums-Sha256", "").splitlines()]
    files = [(f"{fields['Directory']}/{line[2]}", line[0]) for line in lines if len(line) == 3]
    return fields.get("Package", ""), [file for file in files if _is_upstream(file[0])]


def _is_upstream(path: str) -> bool:
    return ".orig.tar." in path and not path.endswith(".asc")


def _read(path: str) -> bytes:
    with urllib.request.urlopen(f"{MIRROR}/{path}", timeout=300) as answer:
        return bytes(answer.read())


def _verified(path: str, checksum: str) -> bytes:
    data = _read(path)
    if hashlib.sha256(data).hexdigest() != checksum:
        raise ValueError(f"{path} is not what Debian's index says")
    return data


def _unpack(data: bytes, path: str, folder: Path) -> None:
    """Write the clips of an archive, by their path with its slashes replaced."""
    if path.endswith(".deb"):
        done = subprocess.run(
            ["dpkg-deb", "--fsys-tarfile", "/dev/stdin"], input=data, capture_output=True, check=True
        )
        data = done.stdout
    with tarfile.open(fileobj=io.BytesIO(data)) as archive:
        for member in archive:
            name = PurePosixPath(member.name.removesuffix(".gz"))
            if member.isfile() and name.suffix.lower() in SUFFIXES and 0 < member.size <= LARGEST_BYTES:
                content = archive.extractfile(member)
                assert content
                clip = content.read()
                if member.name.endswith(".gz"):
                    clip = gzip.decompress(clip)
                if (
                    name.suffix.lower() != ".ts" or clip[0:377:188] == b"GGG"
                ):  # most are programs or translations
                    (folder / "_".join(name.parts[1:])).write_bytes(clip)

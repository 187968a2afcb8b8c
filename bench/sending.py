"""What sending costs beside the protocol library's own put of the same files: to real servers on this machine.

    python bench/sending.py [GB of the large file, default 2] [small|large]

One run, the two in turn; the library's put does not check what it sent, ours is measured with and without checking.
"""

from __future__ import annotations

import os
import resource
import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.servers import PASSWORD, USER, s3_server, ssh_server, webdav_server

from boxkite.core.handover.delivery import delivery_of_folder
from boxkite.core.handover.sending.address import Address, read_address
from boxkite.core.handover.sending.everywhere import planned_for, send_everywhere
from boxkite.core.handover.sending.places import connect
from boxkite.core.handover.sending.sending import Check, Sent
from boxkite.core.handover.sending.uploads import uploads_of, with_checksums

ROUNDS = 3
SMALL, SMALL_BYTES, MIDDLING_BYTES = 1000, 20_000, 200_000_000


def ours(folder: Path, address: Address, check: Check) -> float:
    """Seconds to send a folder to a destination where nothing is."""
    uploads = with_checksums(uploads_of(delivery_of_folder(folder)))
    started = time.monotonic()
    with planned_for([address], uploads) as plans:
        sent = [
            event for _, event in send_everywhere(plans, who="bench", check=check) if isinstance(event, Sent)
        ]
    assert not any(one.failure for one in sent), next(one.failure for one in sent if one.failure)
    return time.monotonic() - started


def theirs(folder: Path, address: Address, *, synced: bool) -> float:
    """The same by the library's own put, file by file, four at a time as ours.

    synced: whether each file is on the disk before the next, as ours are in folders.
    """
    from concurrent.futures import ThreadPoolExecutor

    files = sorted(folder.iterdir())
    started = time.monotonic()
    connections = [connect(address) for _ in range(min(4, len(files)))]
    connections[0].make_folder("")

    def put(number: int) -> None:
        place = connections[number]
        for path in files[number :: len(connections)]:
            place.fs.put_file(str(path), place.at(path.name))
            if synced:
                with Path(place.at(path.name)).open("rb+") as file:
                    os.fsync(file)

    with ThreadPoolExecutor(len(connections)) as pool:
        list(pool.map(put, range(len(connections))))
    for place in connections:
        place.close()
    return time.monotonic() - started


def main(gigabytes: float, parts: Sequence[str]) -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        for folder in ("dav", "home", "small", "large", "middling"):
            (place / folder).mkdir()
        (place / "middling" / "middling.mov").write_bytes(os.urandom(MIDDLING_BYTES))
        for number in range(SMALL):
            (place / "small" / f"{number:04d}.bin").write_bytes(os.urandom(SMALL_BYTES))
        with (place / "large" / "large.mov").open("wb") as file:
            for _ in range(int(gigabytes * 64)):
                file.write(os.urandom(1 << 24))
        (place / "home" / ".netrc").write_text(f"machine 127.0.0.1 login {USER} password {PASSWORD}\n")
        (place / "home" / ".netrc").chmod(0o600)
        os.environ |= {"HOME": str(place / "home"), "BOXKITE_STATE": str(place / "state"), "SSH_AUTH_SOCK": "",
                       "AWS_ACCESS_KEY_ID": "k", "AWS_SECRET_ACCESS_KEY": "s",
                       "PYTHON_KEYRING_BACKEND": "keyring.backends.null.Keyring"}  # fmt: skip
        with webdav_server(place / "dav") as dav, ssh_server(place / "home") as ssh, s3_server() as objects:
            os.environ["AWS_ENDPOINT_URL"] = f"http://127.0.0.1:{objects}"
            urls: dict[str, Callable[[str], str]] = {
                "folder": lambda to: f"{place}/there/{to}",
                "WebDAV": lambda to: f"http://127.0.0.1:{dav}/{to}",
                "SFTP": lambda to: f"sftp://root@127.0.0.1:{ssh}{place}/sftp/{to}",
                "S3": lambda to: f"s3://mill/{to}",
            }
            for what in parts:
                for kind, url in urls.items():
                    files = place / what
                    if kind == "S3" and what == "large":  # that server keeps all in memory
                        files = place / "middling"
                    _compare(files, kind, what, url)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"most memory, servers of this process included: {peak:.0f} MB")


def _compare(folder: Path, kind: str, what: str, url: Callable[[str], str]) -> None:
    import shutil

    ratios: dict[Check, list[float]] = {"size": [], "checksum": []}
    for number in range(ROUNDS):
        bare = theirs(folder, read_address(url(f"{what}-bare{number}"), {}), synced=kind == "folder")
        for check, found in ratios.items():
            address = read_address(url(f"{what}-{check}{number}"), {})
            found.append(bare / ours(folder, address, check))
        for to in ("there", "dav", "sftp"):
            for one in (folder.parent / to).glob(f"{what}-*"):
                shutil.rmtree(one)
    unchecked, checked = (statistics.median(ratios[check]) for check in ratios)
    spread = f"{min(ratios['size']):.2f} to {max(ratios['size']):.2f}"
    print(
        f"{kind:<7} {what:<6} speed {unchecked:.2f} of the library's put{' and sync' if kind == 'folder' else ''}"
        f" ({spread}), {checked:.2f} read back",
        flush=True,
    )


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 2, sys.argv[2:] or ("small", "large"))

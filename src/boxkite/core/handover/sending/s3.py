"""Sending to S3 and servers that speak it: an object is there whole or not at all, and is checked by its entity tag."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from boxkite.core.handover.sending.place import Content, Place, Source, Tick, file_system, reading

_PART_BYTES = 8 << 20
_MOST_PARTS = 9_000
_PARTS_AT_ONCE = 3
_SECONDS = 60


class S3Place(Place):
    """A bucket, or a folder in one. Parts of an object stay at the server until it is whole, and are not sent again."""

    has_login = True

    def connect(self) -> Any:
        """With the keys that AWS's own tools would use: profile, environment, machine."""
        options: dict[str, Any] = {
            "profile": self.address.profile or None,
            "use_listings_cache": False,
            "endpoint_url": self.address.endpoint or None,
            "config_kwargs": {
                "retries": {"max_attempts": 1}, "connect_timeout": _SECONDS // 2, "read_timeout": _SECONDS,
            },
        }  # fmt: skip
        fs = file_system("s3", **options)
        fs.retries = 1  # ours are enough
        return fs

    def at(self, name: str) -> str:
        """Bucket and key."""
        return f"{self.address.host}/{self._key(name)}"

    def _key(self, name: str) -> str:
        return f"{self.address.path}/{name}".lstrip("/")

    def _object(self, name: str) -> dict[str, str]:
        return {"Bucket": self.address.host, "Key": self._key(name)}

    def make_folder(self, folder: str) -> None:
        """There are none."""

    def remove_partial(self, name: str) -> None:
        """Parts are kept under the final name, and resumed or left to the bucket's own rules."""

    def files_in(self, folder: str) -> dict[str, Any]:
        """By name; the bucket has to be there."""
        self.fs.call_s3("head_bucket", Bucket=self.address.host)
        return super().files_in(folder)

    def deliver(self, content: Content, name: str, tick: Tick, *, replace: bool) -> str:
        """Send an object and compare its entity tag; how it was checked, empty where the tag says nothing.

        Raises FileExistsError where the name is taken meanwhile and not to be replaced.
        """
        condition = {} if replace else {"IfNoneMatch": "*"}
        if content.size_bytes <= _PART_BYTES:
            expected, found = self._in_one(content, name, tick, condition)
        else:
            expected, found = self._in_parts(content, name, tick, condition)
        return "checked by the server" if found.strip('"') == expected else ""

    def _in_one(
        self, content: Content, name: str, tick: Tick, condition: Mapping[str, str]
    ) -> tuple[str, str]:
        with reading(content) as source:
            body = source.read(_PART_BYTES + 1)
            source.require_whole()
        answer = self.fs.call_s3("put_object", **self._object(name), Body=body, **condition)
        tick(len(body))
        return _md5(body).hexdigest(), str(answer.get("ETag", ""))

    def _in_parts(
        self, content: Content, name: str, tick: Tick, condition: Mapping[str, str]
    ) -> tuple[str, str]:
        size = max(_PART_BYTES, -(-content.size_bytes // _MOST_PARTS))
        upload, there = self._begun(name)
        tags: dict[int, str] = {}
        sums: list[bytes] = []
        with reading(content) as source, ThreadPoolExecutor(_PARTS_AT_ONCE) as pool:
            waiting: dict[int, Any] = {}
            try:
                while part := _read_fully(source, size):
                    number = len(sums) + 1
                    digest = _md5(part)
                    sums.append(digest.digest())
                    if there.get(number) == (digest.hexdigest(), len(part)):
                        tags[number] = f'"{digest.hexdigest()}"'
                        tick(len(part))
                        continue
                    if len(waiting) == _PARTS_AT_ONCE:
                        oldest = min(waiting)
                        tags[oldest] = waiting.pop(oldest).result()
                    waiting[number] = pool.submit(self._send_part, name, upload, number, part, tick)
                tags |= {number: done.result() for number, done in waiting.items()}
            except BaseException:
                for future in waiting.values():
                    future.cancel()
                raise
            source.require_whole()
        parts = [{"PartNumber": number, "ETag": tags[number]} for number in sorted(tags)]
        answer = self.fs.call_s3("complete_multipart_upload", **self._object(name), UploadId=upload,
                                 MultipartUpload={"Parts": parts}, **condition)  # fmt: skip
        return f"{_md5(b''.join(sums)).hexdigest()}-{len(sums)}", str(answer.get("ETag", ""))

    def _send_part(self, name: str, upload: str, number: int, part: bytes, tick: Tick) -> str:
        answer = self.fs.call_s3(
            "upload_part", **self._object(name), UploadId=upload, PartNumber=number, Body=part
        )
        tick(len(part))
        return str(answer["ETag"])

    def _begun(self, name: str) -> tuple[str, dict[int, tuple[str, int]]]:
        """The upload of this object that was begun before with its parts, (md5, bytes) by number; else a new one."""
        key = self._key(name)
        with contextlib.suppress(OSError):  # not every server lists them, and not everybody may ask
            answer = self.fs.call_s3("list_multipart_uploads", Bucket=self.address.host, Prefix=key)
            ours = [one["UploadId"] for one in answer.get("Uploads", ()) if one["Key"] == key]
            if ours:
                return ours[-1], self._parts(name, ours[-1])
        return self.fs.call_s3("create_multipart_upload", **self._object(name))["UploadId"], {}

    def _parts(self, name: str, upload: str) -> dict[int, tuple[str, int]]:
        found: dict[int, tuple[str, int]] = {}
        marker: dict[str, int] = {}
        while True:
            answer = self.fs.call_s3("list_parts", **self._object(name), UploadId=upload, **marker)
            found |= {
                one["PartNumber"]: (one["ETag"].strip('"'), one["Size"]) for one in answer.get("Parts", ())
            }
            if not answer.get("IsTruncated"):
                return found
            marker = {"PartNumberMarker": answer["NextPartNumberMarker"]}


def _md5(content: bytes) -> Any:
    return hashlib.md5(content, usedforsecurity=False)


def _read_fully(source: Source, size: int) -> bytes:
    """So many bytes, fewer only at the end: a part has one size."""
    parts, length = [], 0
    while length < size and (part := source.read(size - length)):
        parts.append(part)
        length += len(part)
    return b"".join(parts)

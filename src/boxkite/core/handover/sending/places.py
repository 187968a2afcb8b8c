"""Which kind of place an address is."""

from __future__ import annotations

from boxkite.core.handover.sending.address import FOLDER, S3, SFTP, WEBDAV, Address
from boxkite.core.handover.sending.place import FolderPlace, Place


def connect(address: Address) -> Place:
    """A connection to a place. Raises RequestError where a package is missing, and what the library raises."""
    if address.protocol == FOLDER:
        return FolderPlace(address)
    if address.protocol == WEBDAV:
        from boxkite.core.handover.sending.webdav import WebDavPlace

        return WebDavPlace(address)
    if address.protocol == SFTP:
        from boxkite.core.handover.sending.sftp import SftpPlace

        return SftpPlace(address)
    if address.protocol == S3:
        from boxkite.core.handover.sending.s3 import S3Place

        return S3Place(address)
    return Place(address)

"""The forms of manifests, as jobs and commands name them."""

MANIFEST_FORMS = ("mhl", "xxh128", "xxh3", "xxh64", "md5", "sha1", "sha256")
"""A media hash list, or a plain list of one kind of checksum; the first is the default of a command."""

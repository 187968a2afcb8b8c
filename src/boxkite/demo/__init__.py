"""Made-up footage whose every frame says which it is, and the round on it."""

from boxkite.demo.barcode import BarcodeError, read_barcode
from boxkite.demo.ticks import find_ticks

__all__ = ["BarcodeError", "find_ticks", "read_barcode"]

"""What samples.c does; None where it could not be built, and whoever uses it does the same in another way."""

from __future__ import annotations

from collections.abc import Callable

change_colours: Callable[..., None] | None = None
lay_over: Callable[..., None] | None = None
print_of: Callable[..., bytes] | None = None
closeness: Callable[..., tuple[int, float]] | None = None
has_avx512: bool | None = None
"""Whether this processor has AVX-512; None where nobody could ask it."""

try:
    from boxkite.core.picture import samples as _samples
except ImportError:
    pass
else:
    change_colours, lay_over, print_of = _samples.change_colours, _samples.lay_over, _samples.print_of
    has_avx512 = bool(_samples.HAS_AVX512)
    closeness = getattr(_samples, "closeness", None)

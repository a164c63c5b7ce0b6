"""How many threads the kernels use: one in `shard`, as other processes use the other cores."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import numba

from isbjorn.core.runtime.parallel import use_threads

# As many as there are cores.
MANY = 64


@contextmanager
def threads(count: int) -> Iterator[None]:
    """Use this number of threads, and then as many as before."""
    before = numba.get_num_threads()
    use_threads(count)
    try:
        yield
    finally:
        use_threads(before)

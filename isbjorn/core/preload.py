"""Loads every kernel that is stored when it is imported: for processes from which others are forked, so that they share them. What
is not compiled yet is compiled when it is called."""

from isbjorn.core import frame, show
from isbjorn.core.inspect import guides
from isbjorn.core.jit import KERNELS
from isbjorn.core.runtime.kernels import is_complete
from isbjorn.core.runtime.loading import end

__all__ = ["frame", "guides", "show"]

_everything = is_complete()
for kernel in KERNELS:
    if _everything or kernel.is_stored():
        kernel.load()
end()

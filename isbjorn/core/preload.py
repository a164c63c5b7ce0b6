"""Loads the kernels that every picture calls when it is imported: for processes from which others are forked, so that they share
them. The others come when they are called."""

from isbjorn.core import frame, show
from isbjorn.core.inspect import guides
from isbjorn.core.jit import KERNELS
from isbjorn.core.runtime.kernels import FIRST, is_complete
from isbjorn.core.runtime.loading import end

__all__ = ["frame", "guides", "show"]

_everything = is_complete()
for kernel in KERNELS:
    if kernel.full_name.removeprefix("isbjorn.core.") in FIRST and (_everything or kernel.is_stored()):
        kernel.load()
end()

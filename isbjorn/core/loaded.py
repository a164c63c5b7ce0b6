"""Loads every kernel when it is imported: for processes from which others are forked, so that they share them."""

from isbjorn.core import frame, show
from isbjorn.core.inspect import guides
from isbjorn.core.jit import load_all
from isbjorn.core.runtime.loading import end

__all__ = ["frame", "guides", "show"]

load_all()
end()

"""What a disk has room for."""

from __future__ import annotations

import shutil
from pathlib import Path


def free_bytes(place: Path) -> int:
    """What is free where a folder lies, or will lie; 0 where nobody knows."""
    while not place.exists() and place != place.parent:
        place = place.parent
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return 0

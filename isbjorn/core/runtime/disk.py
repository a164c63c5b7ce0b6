"""What a disk has room for."""

from __future__ import annotations

import shutil
from pathlib import Path


def free_bytes(place: Path) -> int:
    """Free bytes on the disk of a folder, which may not exist yet; 0 if unknown."""
    while not place.exists() and place != place.parent:
        place = place.parent
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return 0

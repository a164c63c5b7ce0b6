"""Checks of the installation."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

from isbjorn.core.caching import CacheReport, cache_reports
from isbjorn.core.runtime.memory import budget_bytes
from isbjorn.core.warm_up import warm


def examine() -> Iterator[tuple[str, bool, str]]:
    """Name, whether it is fine, and a note, of each thing that is needed."""
    yield "Python", sys.version_info >= (3, 11), sys.version.split()[0]
    try:
        import av
        import OpenImageIO as oiio
        import PyOpenColorIO as ocio

        codecs = [n for n in ("libx264", "prores_ks", "libvpx-vp9") if n not in av.codecs_available]
        yield (
            "Movies",
            not codecs,
            f"PyAV {av.__version__}" + (f", missing {', '.join(codecs)}" if codecs else ""),
        )
        yield (
            "Pictures",
            "openexr" in oiio.get_string_attribute("format_list"),
            f"OpenImageIO {oiio.VERSION_STRING}",
        )
        yield "Colour", True, f"OpenColorIO {ocio.__version__}"
    except ImportError as error:
        yield "Media", False, str(error)
    page = Path(__file__).parent / "studio" / "page" / "index.html"
    yield "Page", page.is_file(), "built" if page.is_file() else "not built; run `make page`"
    free = shutil.disk_usage(Path.home()).free / 2**30
    yield "Disk", free > 1, f"{free:.0f} GiB free at home"
    yield "Kernels", True, f"ready in {warm():.1f} s"
    yield "Caches", True, f"{budget_bytes() >> 20} MB in all (ISBJORN_MEMORY_MB)"
    groups: dict[str, list[CacheReport]] = {}
    for one in cache_reports():
        groups.setdefault(one.group, []).append(one)
    for group, some in groups.items():
        entries, hits, misses = (sum(getattr(one, name) for one in some) for name in ("entries", "hits", "misses"))
        held, most = sum(one.bytes for one in some) / 2**20, sum(one.limit_bytes or 0 for one in some) / 2**20
        yield f"Cache of {group}", True, f"{entries} entries, {held:.1f} of {most:.0f} MB, {hits} hits, {misses} misses"

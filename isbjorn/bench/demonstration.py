"""Measurements of the demonstration's shots, as they are looked at: the time of a frame, and the first play."""

from __future__ import annotations

import json
import statistics
import time
import urllib.request
from collections import Counter
from pathlib import Path
from typing import Any

from websockets.sync.client import connect

from isbjorn.bench.end_to_end import heard, running
from isbjorn.core.document import Shot
from isbjorn.studio.demonstration import ensure_demo
from isbjorn.studio.plates import StudioPlates
from isbjorn.studio.preview import Preview, Wish, digest_of
from isbjorn.studio.store import Store

WIDTHS = (784, 1280)
_FRAMES, _WARM, _AT = 11, 2, 100
_PLAYED_S = 6.0


def _shots(folder: Path) -> list[tuple[int, Shot]]:
    ensure_demo(folder)
    store = Store(folder)
    return [(row.id, store.document(row.id)) for p in store.projects() for row in store.shots(p.id or 0) if row.id]


def shot_ms(folder: Path) -> dict[str, dict[str, float]]:
    """Milliseconds of a frame of each shot in one process, by width: the median of 11 in a row that were not drawn before."""
    found: dict[str, dict[str, float]] = {}
    for row, shot in _shots(folder):
        first = max(shot.first_frame, min(shot.first_frame + _AT, shot.last_frame - _FRAMES - _WARM))
        preview, digest, times = Preview(StudioPlates(Store(folder))), digest_of(shot), {}
        for width in WIDTHS:
            taken = []
            for number in range(_FRAMES + _WARM):
                wish = Wish(first + number, width, moving=True)
                start = time.perf_counter()
                preview.draw(shot, digest, wish, lane=row)
                taken.append(time.perf_counter() - start)
            times[str(width)] = round(statistics.median(taken[_WARM:]) * 1e3, 1)
        found[shot.name] = times
    return found


def play(folder: Path) -> dict[str, dict[str, Any]]:
    """The first play of each shot at 784 px, six seconds from the wish on: pictures a second after the first second, frames that
    were dropped, and the sizes at which it was played, as shares of the width with the pictures shown so."""
    shots, found = _shots(folder), {}
    with running(folder) as address:
        # The processes that draw ahead are there some seconds after the start.
        time.sleep(4)
        for row, shot in shots:
            urllib.request.urlopen(f"http://{address}/api/shots/{row}").close()
            span = {"frame": shot.first_frame, "first": shot.first_frame, "last": shot.last_frame, "width": WIDTHS[0]}
            with connect(f"ws://{address}/api/shots/{row}/live", max_size=None) as live:
                live.send(json.dumps({"kind": "see", **span}))
                while not (heard(live) or {}).get("exact"):
                    pass
                live.send(json.dumps({"kind": "play", **span}))
                begun, late, sizes, dropped = time.perf_counter(), 0, Counter[float](), 0
                while (now := time.perf_counter() - begun) < _PLAYED_S:
                    header = heard(live, _PLAYED_S - now)
                    if header and header.get("playing"):
                        late += time.perf_counter() - begun > 1
                        sizes[header["reduced"]] += 1
                        dropped = header["dropped"]
                live.send(json.dumps({"kind": "stop"}))
            found[shot.name] = {
                "fps": round(late / (_PLAYED_S - 1), 1), "dropped": dropped,
                "sizes": {str(size): sizes[size] for size in sorted(sizes, reverse=True)},
            }  # fmt: skip
    return found

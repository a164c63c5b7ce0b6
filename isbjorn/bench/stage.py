"""Measurements of the stage: how late a picture is behind a hand, and what becomes of a long show."""

from __future__ import annotations

import json
import os
import socket
import statistics
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import simplejpeg
from websockets.sync.client import ClientConnection, connect

from isbjorn import standins
from isbjorn.bench.end_to_end import import_shot, running
from isbjorn.bench.shots import fountain
from isbjorn.core.document import Control, Number, Shot
from isbjorn.core.document.fields.values import Source
from isbjorn.core.document.model.controls import Incoming
from isbjorn.studio.sockets import unpacked

_WARM_S, _MEASURED_S, _SOAK_MINUTES = 8.0, 20.0, 30.0


def led_fountain(alive: int, size_px: float = 4.0) -> Shot:
    """A fountain of plain particles. A fader moves its source."""
    shot = fountain(alive, 2.0, size_px)
    source = Source(measure="number", thing="hand.value", low=0, high=1, makes_low=-400, makes_high=400, combine="add")
    emitter = shot.emitters[0].model_copy(update={"across": Number(value=0, source=source)})
    control = Control(id="hand", name="Hand", comes_from=Incoming(address="/desk/1"))
    return shot.model_copy(update={"emitters": (emitter,), "controls": (control,)})


class Page:
    """A page that shows a show: it takes each picture apart as a browser does, and confirms it."""

    def __init__(self, live: ClientConnection, width: int) -> None:
        self.live = live
        live.send(json.dumps({"kind": "width", "width": width}))

    def next(self) -> dict[str, Any]:
        """The header of the next picture."""
        while True:
            data = self.live.recv(timeout=60)
            if isinstance(data, bytes):
                header, jpeg = unpacked(data)
                simplejpeg.decode_jpeg(jpeg)
                self.live.send(json.dumps({"kind": "shown", "serial": header["serial"]}))
                return header


@contextmanager
def staged(folder: Path, shot: Shot, width: int, seconds: float) -> Iterator[Page]:
    """A studio that performs a shot while the stand-in for a fader desk moves it, for a given time."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with (
        running(folder, ISBJORN_OSC=str(port)) as address,
        connect(f"ws://{address}/api/shots/{import_shot(address, shot)}/stage") as live,
    ):
        threading.Thread(target=standins.faders, args=("127.0.0.1", port, seconds), daemon=True).start()
        yield Page(live, width)


def live_latency_ms(folder: Path) -> dict[str, float]:
    """From the arrival of a fader's number to the page's word that a picture with it was shown: 25,000 plain particles at
    1280 × 720, faders at 60 messages a second. p95: of the last 512; fps, and the share of the width that is drawn, at the end."""
    with staged(folder, led_fountain(25_000), 1280, _WARM_S + _MEASURED_S + 30) as page:
        page.next()
        begun = time.monotonic()
        seen = []
        while time.monotonic() - begun < _WARM_S + _MEASURED_S:
            header = page.next()
            if time.monotonic() - begun > _WARM_S:
                seen.append(header)
    return {
        "p95": statistics.median(one["latency_ms"] for one in seen[len(seen) // 2 :]),
        "fps": round(statistics.median(one["fps"] for one in seen), 1),
        "share": statistics.median(one["reduced"] for one in seen),
        "alive": statistics.median(one["figures"]["alive"] for one in seen),
        "ms": statistics.median(one["figures"]["ms"] for one in seen),
    }


def live_soak(folder: Path) -> dict[str, float]:
    """Half an hour (ISBJORN_SOAK_MINUTES) of a show that a fader moves, 3,000 particles at 640 × 360: memory of its process after
    two minutes and at the end, MB; how far its clock went from the wall's, in ms; pictures not drawn in time, and all of them."""
    minutes = float(os.environ.get("ISBJORN_SOAK_MINUTES", _SOAK_MINUTES))
    with staged(folder, led_fountain(3000), 640, 60 * minutes + 60) as page:
        first = page.next()
        begun = time.monotonic() - first["seconds"]
        early: dict[str, Any] = {}
        count, apart = 0, []
        while time.monotonic() - begun < 60 * minutes:
            last = page.next()
            count += 1
            apart.append(time.monotonic() - begun - last["seconds"])
            if not early and time.monotonic() - begun > min(120.0, 20 * minutes):
                early = last
    return {
        "mb_early": early["figures"]["memory_bytes"] >> 20,
        "mb_end": last["figures"]["memory_bytes"] >> 20,
        "drift_ms": round(1e3 * (statistics.median(apart[-200:]) - statistics.median(apart[:200])), 1),
        "dropped": last["dropped"],
        "pictures": count,
        "p95_ms": last["latency_ms"],
    }

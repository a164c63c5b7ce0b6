"""Measurements of the demonstration's shots, as they are looked at: the time of a frame, and the first play."""

from __future__ import annotations

import json
import os
import statistics
import tempfile
import threading
import time
import urllib.request
from collections import Counter
from functools import partial
from pathlib import Path
from typing import Any

from websockets.sync.client import connect

from isbjorn.bench.end_to_end import delivered_fps, heard, running
from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.document import Shot
from isbjorn.core.inspect.delivery_preview import delivery_preview
from isbjorn.core.inspect.forecast import speed
from isbjorn.core.inspect.guides import guides
from isbjorn.studio.preview.plates import StudioPlates, shared_plates
from isbjorn.studio.preview.preview import Preview, Wish, digest_of
from isbjorn.studio.setup.demonstration import ensure_demo
from isbjorn.studio.storage.store import Store

WIDTHS = (784, 1280)
_FRAMES, _WARM, _AT = 11, 2, 100
_PLAYED_S = 6.0
_LESS = ("", " shut", " shut, fewer")
_DRAGGED_S, _FILLED_S = 4.0, 7.0


def demo_shots(folder: Path) -> list[tuple[int, Shot]]:
    """The shots of the demonstration, which is made if it is not there, with their numbers."""
    ensure_demo(folder)
    store = Store(folder)
    return [(row.id, store.document(row.id)) for p in store.projects() for row in store.shots(p.id or 0) if row.id]


def shot_ms(folder: Path) -> dict[str, dict[str, float]]:
    """Milliseconds of a frame of each shot in one process, by width: the median of 11 in a row that were not drawn before."""
    found: dict[str, dict[str, float]] = {}
    for row, shot in demo_shots(folder):
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


def forecast_ratio(folder: Path) -> dict[str, float]:
    """The time that is forecast for a frame of each shot over the time that it takes, in one process."""
    found = {}
    for row, shot in demo_shots(folder):
        first = max(shot.first_frame, min(shot.first_frame + 60, shot.last_frame - _FRAMES - _WARM))
        cost = guides(shot, first + _FRAMES).cost
        assert cost is not None
        width, taken = WIDTHS[0], []
        preview, digest = Preview(StudioPlates(Store(folder))), digest_of(shot)
        for number in range(_FRAMES + _WARM):
            start = time.perf_counter()
            preview.draw(shot, digest, Wish(first + number, width, moving=True), lane=row)
            taken.append(time.perf_counter() - start)
        forecast_ms = cost.ms(width, width * shot.height // shot.width) * speed()
        found[shot.name] = round(forecast_ms / (statistics.median(taken[_WARM:]) * 1e3), 2)
    return found


def demo_deliver_fps(folder: Path) -> dict[str, dict[str, dict[str, float]]]:
    """Frames a second of each shot as PNG, EXR, H.264 and ProRes (see `delivered_fps`)."""
    found = {}
    for _, shot in demo_shots(folder):
        with tempfile.TemporaryDirectory() as place:
            plates = partial(shared_plates, folder)
            first = max(shot.first_frame, min(shot.first_frame + _AT, shot.last_frame - 144))
            found[shot.name] = delivered_fps(shot, Path(place), plates, ("png8", "exr-half", "mp4", "prores-hq"), first)
    return found


def estimate_ratio(folder: Path) -> dict[str, float]:
    """The estimated time of a delivery divided by the time it takes: 72 frames of each shot as PNG."""
    found = {}
    for _, shot in demo_shots(folder):
        plates = shared_plates(folder)
        first = min(shot.first_frame + _AT // 5, max(shot.first_frame, shot.last_frame - 71))
        with tempfile.TemporaryDirectory() as place:
            frames = {"first": first, "last": min(first + 71, shot.last_frame), "format": "png8"}
            order = Order.model_validate({"folder": place, "name": "{frame}", **frames})
            seconds = delivery_preview(shot, order, guides(shot).far_px, plates).seconds or 0.0
            begin = time.perf_counter()
            Delivery(shot, order, plates, worker_plates=partial(shared_plates, folder)).run()
            found[shot.name] = round(seconds / (time.perf_counter() - begin), 2)
    return found


def play(folder: Path) -> dict[str, dict[str, Any]]:
    """The first play of each shot at 784 px, six seconds from the wish on: pictures a second after the first second, frames that
    were dropped, and the sizes at which it was played, as shares of the width with the pictures shown so, and what was left out."""
    shots, found = demo_shots(folder), {}
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
                begun, late, sizes, dropped = time.perf_counter(), 0, Counter[tuple[float, int]](), 0
                while (now := time.perf_counter() - begun) < _PLAYED_S:
                    header = heard(live, _PLAYED_S - now)
                    if header and header.get("playing"):
                        late += time.perf_counter() - begun > 1
                        sizes[header["reduced"], header["rough"]] += 1
                        dropped = header["dropped"]
                live.send(json.dumps({"kind": "stop"}))
            found[shot.name] = {
                "fps": round(late / (_PLAYED_S - 1), 1), "dropped": dropped,
                "sizes": {
                    f"{size}{_LESS[rough]}": sizes[size, rough]
                    for size, rough in sorted(sizes, key=lambda at: (at[1], -at[0]))
                },
            }  # fmt: skip
    return found


def _edited(address: str, row: int, value: float, having: list[int]) -> list[int]:
    """An edit as the page makes it: it says which guides it has."""
    change = {"op": "replace", "path": "/emitters/0/size/value", "value": value}
    body = json.dumps({"changes": [change], "gesture": "drag", "having": having}).encode()
    request = urllib.request.Request(
        f"http://{address}/api/shots/{row}", body, {"content-type": "application/json"}, method="PATCH"
    )
    with urllib.request.urlopen(request) as answer:
        return list(json.load(answer)["marks"].values())


def drag(folder: Path) -> dict[str, dict[str, float]]:
    """A number of the first emitter dragged for some seconds at 784 px, on a frame in the middle: pictures per second during the
    drag, and the median time from sending a single edit to its first and to its exact picture."""
    shots, found = demo_shots(folder), {}
    with running(folder) as address:
        for row, shot in shots:
            urllib.request.urlopen(f"http://{address}/api/shots/{row}").close()
            frame, size = shot.first_frame + shot.frame_count // 2, shot.emitters[0].size.value
            with connect(f"ws://{address}/api/shots/{row}/live", max_size=None) as live:
                live.send(json.dumps({"kind": "see", "frame": frame, "width": WIDTHS[0]}))
                while not (heard(live) or {}).get("exact"):
                    pass
                times, firsts, marks = [], [], list[int]()
                for number in range(7):
                    start, first = time.perf_counter(), 0.0
                    marks = _edited(address, row, size * (1 + 0.01 * number), marks)
                    while True:
                        header = heard(live, 20) or {}
                        first = first or ("serial" in header) * (time.perf_counter() - start)
                        if header.get("exact"):
                            break
                    times.append(time.perf_counter() - start)
                    firsts.append(first)
                done = threading.Event()

                def turn(
                    done: threading.Event = done, row: int = row, size: float = size, marks: list[int] = marks
                ) -> None:
                    number = 0
                    while not done.is_set():
                        number += 1
                        marks = _edited(address, row, size * (1 + 0.001 * (number % 200)), marks)

                hand = threading.Thread(target=turn)
                hand.start()
                begun, seen = time.perf_counter(), 0
                while (now := time.perf_counter() - begun) < _DRAGGED_S:
                    seen += "serial" in (heard(live, _DRAGGED_S - now) or {})
                done.set()
                hand.join()
            _edited(address, row, size, [])
            found[shot.name] = {
                "fps": round(seen / _DRAGGED_S, 1), "edit_ms": round(statistics.median(times[2:]) * 1e3, 1),
                "first_ms": round(statistics.median(firsts[2:]) * 1e3, 1),
            }  # fmt: skip
    return found


def opened(folder: Path) -> dict[str, Any]:
    """Each shot opened for the first time: ms to its state, and to its first picture at 784 px; MB of the studio after all."""
    shots, found = demo_shots(folder), {}
    with running(folder) as address:
        for row, shot in shots:
            start = time.perf_counter()
            urllib.request.urlopen(f"http://{address}/api/shots/{row}").read()
            state = time.perf_counter() - start
            with connect(f"ws://{address}/api/shots/{row}/live", max_size=None) as live:
                live.send(json.dumps({"kind": "see", "frame": shot.first_frame, "width": WIDTHS[0]}))
                header = heard(live) or {}
                while not header.get("exact"):
                    header = heard(live) or {}
            found["memory_mb"] = round(header["figures"]["memory_bytes"] / 2**20)
            found[shot.name] = {
                "state": round(state * 1e3, 1), "picture": round((time.perf_counter() - start) * 1e3, 1)
            }  # fmt: skip
    return found


def cores(folder: Path) -> dict[str, Any]:
    """Frames a second of a shot that are drawn ahead, by how many processes draw; and how much each more of them brings."""
    ensure_demo(folder)
    row, shot = next((row, shot) for row, shot in demo_shots(folder) if shot.name == "Net lights")
    rates: dict[str, float] = {}
    for count in range(1, (os.cpu_count() or 1) + 1):
        with running(folder, ISBJORN_FRAME_WORKERS=str(count)) as address:
            time.sleep(4)
            with connect(f"ws://{address}/api/shots/{row}/live", max_size=None) as live:
                span = {"first": shot.first_frame, "last": shot.last_frame}
                live.send(json.dumps({"kind": "see", "frame": shot.first_frame, "width": WIDTHS[0], **span}))
                samples: list[tuple[float, int]] = []
                begun = time.perf_counter()
                while time.perf_counter() - begun < _FILLED_S:
                    message = heard(live, 1) or {}
                    if message.get("kind") == "computed":
                        samples.append((time.perf_counter(), sum(b - a + 1 for a, b in message["ranges"])))
            rates[str(count)] = round(
                (samples[-1][1] - samples[1][1]) / (samples[-1][0] - samples[1][0]),
                1,
            )
    return {"fps": rates, "each": round(rates[str(os.cpu_count())] / rates["1"] / (os.cpu_count() or 1), 2)}

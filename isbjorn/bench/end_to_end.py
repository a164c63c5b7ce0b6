"""Measurements through the running studio: its socket, its store, its deliveries."""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import statistics
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import av
from websockets.sync.client import ClientConnection, connect

from isbjorn.bench.shots import fountain
from isbjorn.core import Solver
from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.deliver.chunks import Job, Maker
from isbjorn.core.deliver.farm.client import Farm
from isbjorn.core.deliver.worker_pool import WorkerPool
from isbjorn.core.document import Plate, Shot
from isbjorn.core.document.files import shot_to_text
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.demo.harbour import frames
from isbjorn.studio.sockets import unpacked

_PREVIEW_S = 4.0


@contextmanager
def running(folder: Path, **env: str) -> Iterator[str]:
    """A studio over a new data folder; the address it answers at."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = [sys.executable, "-m", "isbjorn", "serve", "--port", str(port), "--data", str(folder)]
    studio = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=os.environ | env)
    try:
        address = f"127.0.0.1:{port}"
        for _ in range(200):
            try:
                urllib.request.urlopen(f"http://{address}/api/health", timeout=1)
                break
            except OSError:
                time.sleep(0.1)
        time.sleep(2)
        yield address
    finally:
        studio.terminate()
        studio.wait(10)


def _send(address: str, method: str, path: str, body: bytes) -> Any:
    head = {"content-type": "application/json"}
    with urllib.request.urlopen(urllib.request.Request(f"http://{address}{path}", body, head, method=method)) as answer:
        return json.load(answer)


def import_shot(address: str, shot: Shot) -> int:
    project = _send(address, "POST", "/api/projects", b'{"name": "Bench"}')["id"]
    path = f"/api/projects/{project}/shots/import"
    return int(_send(address, "POST", path, shot_to_text(shot).encode())["id"])


def heard(live: ClientConnection, wait_s: float = 30) -> dict[str, Any] | None:
    """The next message: its text, or the header of a picture, which is confirmed at once; None if none comes in time."""
    try:
        data = live.recv(timeout=wait_s)
    except TimeoutError:
        return None
    if not isinstance(data, bytes):
        message: dict[str, Any] = json.loads(data)
        return message
    header, _ = unpacked(data)
    live.send(json.dumps({"kind": "shown", "serial": header["serial"]}))
    return header


def _picture(live: ClientConnection) -> dict[str, Any]:
    """The header of the next picture."""
    while True:
        header = heard(live)
        if header is None:
            raise TimeoutError("no picture arrived")
        if "serial" in header:
            return header


def preview_fps(folder: Path) -> float:
    """Pictures a second that are drawn ahead in full: 50,000 turbulent particles at 1280 × 720, none of them drawn before."""
    shot = fountain(50_000, 3.0, frames=4000, stirred=True)
    with running(folder) as address, connect(f"ws://{address}/api/shots/{import_shot(address, shot)}/live") as live:
        live.send(json.dumps({"kind": "see", "frame": 0, "width": 1280, "first": 0, "last": 3999}))
        samples: list[tuple[float, int]] = []
        begun = time.perf_counter()
        while time.perf_counter() - begun < 2 * _PREVIEW_S + 2 or len(samples) < 4:
            message = heard(live)
            if message and message.get("kind") == "computed":
                samples.append((time.perf_counter(), sum(b - a + 1 for a, b in message["ranges"])))
        # The first frames bring each process its tables.
        first, last = samples[1], samples[-1]
        return round((last[1] - first[1]) / (last[0] - first[0]), 1)


def edit_to_picture_ms(folder: Path) -> dict[str, float]:
    """From sending an edit to having its picture, at frame 250 with 20,000 particles, 1280 × 720, in a full picture."""
    found: dict[str, float] = {}
    with running(folder) as address:
        shot_id = import_shot(address, fountain(20_000, 3.0))
        with connect(f"ws://{address}/api/shots/{shot_id}/live") as live:
            live.send(json.dumps({"kind": "see", "frame": 250, "width": 1280}))
            _picture(live)
            for name, field, base in (("look", "size", 5.0), ("motion", "speed", 300.0)):
                times, firsts = [], []
                for number in range(9):
                    value = base + number * 0.5
                    change = {"op": "replace", "path": f"/emitters/0/{field}/value", "value": value}
                    start = time.perf_counter()
                    _send(address, "PATCH", f"/api/shots/{shot_id}", json.dumps({"changes": [change]}).encode())
                    header = _picture(live)
                    firsts.append(time.perf_counter() - start)
                    while not header["exact"]:
                        header = _picture(live)
                    times.append(time.perf_counter() - start)
                found[name] = round(statistics.median(times[1:]) * 1e3, 1)
                found["first"] = round(statistics.median(firsts[1:]) * 1e3, 1)
    return found


def deliver_fps(folder: Path) -> dict[str, dict[str, float]]:
    """Frames per second of a delivery at 1280 × 720 over a movie, 20,000 particles: in this process with all cores, and by several
    processes at once, without their start."""
    folder.mkdir()
    plate = folder / "plate.mp4"
    paint = frames(8)
    with av.open(str(plate), "w") as container:
        stream = container.add_stream("libx264", rate=Fraction(25))
        stream.width, stream.height, stream.pix_fmt = 1280, 720, "yuv420p"
        for number in range(8):
            container.mux(stream.encode(av.VideoFrame.from_ndarray(paint(number), format="rgb24")))
        container.mux(stream.encode(None))
    shot = fountain(20_000, 3.0).model_copy(update={"plate": Plate(media=str(plate), beyond="loop")})
    return delivered_fps(shot, folder, partial(PlateReader, None), ("png8", "exr-half", "mp4", "mov"))


def delivered_fps(
    shot: Shot,
    folder: Path,
    plates: Callable[[], PlateReader],
    forms: tuple[str, ...],
    first: int = 0,
    count: int = 144,
) -> dict[str, dict[str, float]]:
    """Frames a second of some formats: `here`, in this process with all cores; by one process and by two, once they are there."""
    found: dict[str, dict[str, float]] = {}
    for form in forms:
        found[form] = {}
        for processes in (0, 1, 2):
            order = Order.model_validate({
                "format": form, "first": first, "last": first + count - 1, "folder": str(folder), "name": f"{form}-{processes}",
                "sound": False,
            })  # fmt: skip
            job = Job(shot, order, folder / f"{form}-{processes}")
            job.folder.mkdir(exist_ok=True)
            # What begins them is not measured.
            warm, rest = job.parts[:processes], job.parts[max(1, processes) :]
            made = sum(len(part) for part in rest)
            if processes:
                with WorkerPool(processes, plates) as pool:
                    pool.run(job, warm, lambda _: None, None)
                    start = time.perf_counter()
                    pool.run(job, rest, lambda _: None, None)
                    took = time.perf_counter() - start
            else:
                maker = Maker(job, plates())
                maker.make(job.parts[0])
                start = time.perf_counter()
                for part in rest:
                    maker.make(part)
                took = time.perf_counter() - start
            found[form][str(processes) if processes else "here"] = round(made / took, 1)
            shutil.rmtree(job.folder)
    return found


@contextmanager
def farming(folder: Path, workers: int) -> Iterator[str]:
    """A scheduler and workers of one process each on this machine; the address."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        address = f"tcp://127.0.0.1:{free.getsockname()[1]}"
    here = [sys.executable, "-m", "isbjorn"]
    env = os.environ | {"ISBJORN_WORKER_CACHE": str(folder / "cache")}
    started = []
    try:
        for words in (
            ("scheduler", "--address", address),
            ("worker", "--scheduler", address, "--processes", str(workers)),
        ):
            silence = subprocess.DEVNULL
            started.append(
                subprocess.Popen([*here, *words], env=env, start_new_session=True, stdout=silence, stderr=silence)
            )
            time.sleep(6)
        yield address
    finally:
        for one in started:
            os.killpg(one.pid, signal.SIGKILL)
            one.wait()


def farm_efficiency(folder: Path) -> dict[str, float]:
    """Frames a second as PNG at 1280 × 720 by 1 and by 2 workers of a farm on this machine, and what the second one adds, as a
    share of the first."""
    folder.mkdir()
    shot, found = fountain(20_000, 3.0), {}
    for workers in (1, 2):
        with farming(folder, workers) as address:
            farm = Farm(address)
            while len(farm.workers()) < workers:
                time.sleep(0.2)
            for name, count in (("warm", 24), ("run", 96)):
                order = Order.model_validate(
                    {"first": 0, "last": count - 1, "folder": str(folder), "name": f"{name}-{workers}"}
                )
                delivery = Delivery(shot, order, farm=farm)
                start = time.perf_counter()
                farm.run(delivery.job, delivery.job.parts, delivery.plates, lambda _: None, None)
                found[str(workers)] = round(count / (time.perf_counter() - start), 1)
            farm.close()
    return found | {"added": round(found["2"] / found["1"] - 1, 2)}


def usd_points_per_s(folder: Path) -> int:
    """Particles a second written as OpenUSD points, of 50 frames of 20,000."""
    folder.mkdir()
    shot = fountain(20_000, 3.0)
    order = Order.model_validate({"format": "usd", "first": 100, "last": 149, "folder": str(folder), "name": "a"})
    delivery = Delivery(shot, order, processes=1)
    delivery.run()
    start = time.perf_counter()
    delivery.run()
    return round(50 * len(Solver(shot).at(120)) / (time.perf_counter() - start))

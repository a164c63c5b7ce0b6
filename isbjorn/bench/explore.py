"""What looking for a look costs, through the running studio."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

from websockets.sync.client import ClientConnection, connect

from isbjorn.bench.demonstration import demo_shots
from isbjorn.bench.end_to_end import import_shot, running
from isbjorn.demo.beacon import first_shot
from isbjorn.studio.sockets import unpacked

_CELL_PX, _LOOP, _FRAME = 300, 18, 100


def _swept(socket: ClientConnection, ask: dict[str, Any]) -> dict[str, float]:
    """ms until the first picture of the sheet, until every cell has one, and until it is complete."""
    begun, seen = time.perf_counter(), set()
    found: dict[str, float] = {}
    socket.send(json.dumps({"kind": "sweep", "frame": _FRAME, "width": _CELL_PX, **ask}))
    cells = 0
    while True:
        data = socket.recv(timeout=120)
        at = round((time.perf_counter() - begun) * 1e3)
        if isinstance(data, bytes):
            seen.add(unpacked(data)[0]["cell"])
            found.setdefault("first", at)
            if len(seen) == cells:
                found.setdefault("every_cell", at)
            continue
        message = json.loads(data)
        if message["kind"] == "sheet":
            cells = len(message["cells"])
        elif message["kind"] == "done":
            return found | {"complete": at}
        else:
            raise ValueError(message)


def sweep_ms(folder: Path) -> dict[str, dict[str, float]]:
    """Sheets with loops of 18 pictures, of a new shot and of Beacon: nine values of a number, nine in another range, and 25 of two
    numbers."""
    beacon = next(number for number, shot in demo_shots(folder) if shot.name == "Beacon")
    found: dict[str, dict[str, float]] = {}
    with running(folder) as address:
        for name, number in (("plain", import_shot(address, first_shot("Plain"))), ("beacon", beacon)):
            with connect(f"ws://{address}/api/shots/{number}/sheet") as socket:
                rate, speed = ({"path": f"/emitters/0/{field}"} for field in ("rate", "speed"))
                # The first one brings each process its tables.
                _swept(socket, {"columns": {"path": "/emitters/0/size"}, "count": 2})
                found[f"{name}_9"] = _swept(socket, {"columns": rate, "count": 3, "loop": _LOOP})
                found[f"{name}_9_again"] = _swept(
                    socket, {"columns": {**rate, "start": 100, "end": 300}, "count": 3, "loop": _LOOP}
                )
                found[f"{name}_25"] = _swept(socket, {"columns": rate, "rows": speed, "count": 5, "loop": _LOOP})
    return found

"""Mixed use for as long as you like, and what it took. By hand: `.venv/bin/python -m tests.soak --minutes 20`.

Three viewers look at two shots while both are edited without a pause; pictures are fetched, shots copied and thrown
away, particles pressed on, deliveries made. Each minute one line: pictures seen, calls, answers of 5xx, MB of the studio
and of its worker.
"""

import argparse
import json
import random
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from pathlib import Path
from typing import Any

from websockets.exceptions import ConnectionClosed
from websockets.sync.client import connect

from isbjorn.studio.sockets import unpacked
from tests.browser.chromium import Running


class Soak:
    def __init__(self, running: Running, seed: int) -> None:
        self.running, self.chance = running, random.Random(seed)
        self.counts: Counter[str] = Counter()
        self.over = threading.Event()

    def ask(self, method: str, path: str, body: object = None) -> Any:
        content = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.running.address + path, content, {"content-type": "application/json"})
        request.method = method
        self.counts["calls"] += 1
        try:
            with urllib.request.urlopen(request, timeout=120) as answer:
                found = answer.read()
                return json.loads(found) if found and answer.headers.get_content_type() == "application/json" else found
        except urllib.error.HTTPError as error:
            self.counts[f"{error.code // 100}xx"] += 1
            return None

    def view(self, shot: int) -> None:
        """Look at random frames, now and then at some in a row; confirm each picture."""
        while not self.over.is_set():
            try:
                with connect(f"ws://127.0.0.1:{self.running.port}/api/shots/{shot}/live", max_size=None) as socket:
                    self._view(socket)
            except ConnectionClosed:
                self.counts["cut"] += 1

    def _view(self, socket: Any) -> None:
        until = 0.0
        while not self.over.is_set():
            if time.monotonic() > until:
                first = self.chance.randrange(100)
                wish = {"kind": self.chance.choice(("see", "play")), "frame": first, "first": first, "last": first + 50}
                socket.send(json.dumps({**wish, "width": self.chance.choice((480, 960, 1280))}))
                until = time.monotonic() + 3
            try:
                message = socket.recv(timeout=0.5)
            except TimeoutError:
                continue
            if isinstance(message, bytes):
                socket.send(json.dumps({"kind": "shown", "serial": unpacked(message)[0]["serial"]}))
                self.counts["pictures"] += 1

    def edit(self, shot: int) -> None:
        while not self.over.is_set():
            field, value = self.chance.choice((("rate", 900), ("size", 40), ("lifespan", 6), ("brightness", 200)))
            change = {
                "op": "replace",
                "path": f"/emitters/0/{field}/value",
                "value": self.chance.uniform(0.5, 1) * value,
            }
            self.ask("PATCH", f"/api/shots/{shot}", {"changes": [change], "label": "Soak"})
            time.sleep(0.2)

    def use(self, shots: list[int]) -> None:
        while not self.over.is_set():
            shot, frame = self.chance.choice(shots), self.chance.randrange(200)
            turn = self.chance.randrange(6)
            if turn == 0:
                copied = self.ask("POST", f"/api/shots/{shot}/copy", {})
                self.ask("GET", f"/api/shots/{copied['id']}/thumb")
                self.ask("DELETE", f"/api/shots/{copied['id']}")
            elif turn == 1:
                self.ask("GET", f"/api/shots/{shot}/particle?frame={frame}&x=640&y=360")
            elif turn == 2:
                self.ask("POST", f"/api/shots/{shot}/undo", {})
            elif turn == 3:
                self.ask("GET", f"/api/shots/{shot}/lookout?frame={frame}")
            else:
                self.ask("GET", f"/api/shots/{shot}/frame?frame={frame}&width=1280")
            time.sleep(0.5)

    def deliver(self, shot: int, folder: Path) -> None:
        while not self.over.is_set():
            number = self.counts["ordered"] = self.counts["ordered"] + 1
            order = {"folder": str(folder), "name": f"soak{number}", "format": ("png8", "mov")[number % 2], "first": 0}
            placed = self.ask("POST", f"/api/shots/{shot}/deliveries", {**order, "last": 24})
            while placed and not self.over.is_set():
                time.sleep(1)
                now = next((d for d in self.ask("GET", "/api/deliveries") if d["id"] == placed["id"]), None)
                if now is None or now["state"] not in ("waiting", "working"):
                    self.counts[f"deliveries {now['state'] if now else 'gone'}"] += 1
                    break
            self.over.wait(1)


def memory_mb(pid: int) -> tuple[int, list[int]]:
    """True resident memory of a process, and of its children, in MB; from /proc."""

    def resident(one: int) -> int:
        fields = dict(line.split(":", 1) for line in Path(f"/proc/{one}/status").read_text().splitlines())
        return int(fields["VmRSS"].split()[0]) // 1024

    children = [one for task in Path(f"/proc/{pid}/task").iterdir() for one in (task / "children").read_text().split()]
    return resident(pid), sorted((resident(int(child)) for child in children), reverse=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    running = Running(ISBJORN_FILL="1")
    soak = Soak(running, options.seed)
    shots: list[int] = [s["id"] for s in soak.ask("GET", "/api/projects")[0]["shots"]]
    with tempfile.TemporaryDirectory() as out:
        work: list[tuple[Any, ...]] = [
            (soak.view, shots[0]), (soak.view, shots[0]), (soak.view, shots[1]), (soak.edit, shots[0]), (soak.edit, shots[1]),
            (soak.use, shots), (soak.deliver, shots[2], Path(out)),
        ]  # fmt: skip
        threads = [threading.Thread(target=task, args=more, daemon=True) for task, *more in work]
        for thread in threads:
            thread.start()
        try:
            for minute in range(1, options.minutes + 1):
                time.sleep(60)
                own, children = memory_mb(running.process.pid)
                print(
                    f"{minute:3} min  studio {own} MB  processes below {children} MB  {dict(soak.counts)}", flush=True
                )
        finally:
            soak.over.set()
            for thread in threads:
                thread.join(10)
            running.close()


if __name__ == "__main__":
    main()

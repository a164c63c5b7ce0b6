"""What controllers and trackers send: OSC 1.0 over UDP, on the loopback unless the user opens it, bounded in size, rate and kinds.

A number of a message is known by its address; its second number by `address#2`, and so on. Of TUIO 1.1 the cursors are known as
`/tuio/2Dcur/x` and `/tuio/2Dcur/y` (of the one that was set last).
"""

from __future__ import annotations

import contextlib
import logging
import math
import socket
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from dataclasses import dataclass, field

from pythonosc.osc_packet import OscPacket

from isbjorn.core.errors import IsbjornError
from isbjorn.studio.midi_in import Midi, Ports

_LARGEST, _MOST_ADDRESSES, _MOST_A_SECOND, _KEPT_S, _MOST_KEPT = 8192, 256, 4000, 1800.0, 400_000
_MOST_NUMBERS = 16
HOST, PORT = "127.0.0.1", 8331


# What the library would say of each packet that is none: they are counted, and a shower of them must not fill a log.
logging.getLogger().addFilter(lambda record: "pythonosc" not in record.pathname)


def listening(text: str, where: str = "ISBJORN_OSC") -> tuple[str, int]:
    """Host and port of `PORT` or `HOST:PORT`; without a host the loopback, port 0 for none. Raises IsbjornError for other words."""
    host, _, port = text.rpartition(":")
    if not text:
        return HOST, 0
    if not port.isascii() or not port.isdigit() or int(port) > 65_535:
        raise IsbjornError(
            f"'{text[:60]}' is no port.", where, f"Write {PORT}, or 0.0.0.0:{PORT} for all of the network."
        )
    return host or HOST, int(port)


@dataclass
class Arrived:
    """What came last to an address, and when (monotonic seconds)."""

    value: float
    at: float
    count: int = 1


@dataclass
class Log:
    """All that came while something was recorded: by address, moments (monotonic s) and values."""

    began: float
    lanes: dict[str, list[tuple[float, float]]] = field(default_factory=dict)
    count: int = 0


class Inbox:
    """Listens to OSC on a port; 0: on none. bad: packets that were none; dropped: beyond what is taken in a second."""

    def __init__(self, host: str = HOST, port: int = 0) -> None:
        self.host, self.port, self.bad, self.dropped = host, 0, 0, 0
        self.latest: OrderedDict[str, Arrived] = OrderedDict()
        self._logs: list[Log] = []
        self._heard: list[Callable[[str, float, float], object]] = []
        self._recent: deque[float] = deque()
        self._lock, self._ended = threading.Lock(), threading.Event()
        self.midi = Midi(self.put)
        self.ports = Ports(self._played)
        self._socket: socket.socket | None = None
        if port:
            self._open(host, port)

    def _open(self, host: str, port: int) -> None:
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            one.bind((host, port))
        except OSError:
            # Another studio listens there: this one does without.
            one.close()
            return
        one.settimeout(0.2)
        self._socket, self.port = one, one.getsockname()[1]
        threading.Thread(target=self._listen, name="osc", daemon=True).start()

    def _listen(self) -> None:
        assert self._socket is not None
        while not self._ended.is_set():
            with contextlib.suppress(OSError):
                content, _ = self._socket.recvfrom(_LARGEST + 1)
                self.take(content)

    def close(self) -> None:
        """Listen no more."""
        self._ended.set()
        self.ports.close()
        if self._socket is not None:
            self._socket.close()

    def take(self, content: bytes) -> None:
        """Take a packet; one that is none is counted, never raised."""
        now = time.monotonic()
        with self._lock:
            while self._recent and now - self._recent[0] > 1:
                self._recent.popleft()
            if len(self._recent) >= _MOST_A_SECOND:
                self.dropped += 1
                return
            self._recent.append(now)
        if len(content) > _LARGEST:
            self.bad += 1
            return
        try:
            found = [(m.message.address, list(m.message.params)) for m in OscPacket(content).messages]
        except Exception:  # whatever a stranger sends
            self.bad += 1
            return
        for address, params in found:
            self._message(address, params, now)

    def _message(self, address: str, params: list[object], now: float) -> None:
        if address == "/tuio/2Dcur":
            if len(params) >= 4 and params[0] == "set":
                self._number(f"{address}/x", params[2], now)
                self._number(f"{address}/y", params[3], now)
            return
        for param in params[:_MOST_NUMBERS]:
            if isinstance(param, tuple) and len(param) == 4:
                # OSC's own type for MIDI: port, status and two bytes.
                self.midi.take([int(byte) for byte in param[1:]], now)
                return
        # One that says nothing but its name is a touch.
        numbers = [p for p in params[:_MOST_NUMBERS] if isinstance(p, (int, float))] or ([] if params else [1.0])
        for n, number in enumerate(numbers):
            self._number(address if n == 0 else f"{address}#{n + 1}", number, now)

    def _number(self, address: str, value: object, now: float) -> None:
        if not isinstance(value, (int, float)) or not math.isfinite(value) or not 0 < len(address) <= 200:
            self.bad += 1
            return
        if any(ord(c) < 32 for c in address):
            self.bad += 1
            return
        number = min(1e6, max(-1e6, float(value)))
        with self._lock:
            before = self.latest.get(address)
            self.latest[address] = Arrived(number, now, before.count + 1 if before else 1)
            self.latest.move_to_end(address)
            while len(self.latest) > _MOST_ADDRESSES:
                self.latest.popitem(last=False)
            for log in self._logs:
                if log.count < _MOST_KEPT and now - log.began < _KEPT_S:
                    log.lanes.setdefault(address, []).append((now, number))
                    log.count += 1

            heard = list(self._heard)
        for tell in heard:
            tell(address, number, now)

    def _played(self, content: list[int]) -> None:
        """Bytes of a MIDI port, of any thread."""
        with contextlib.suppress(Exception):  # whatever a device sends
            self.midi.take(content, time.monotonic())

    def put(self, address: str, value: float) -> None:
        """Take a number that came another way than by OSC."""
        self._number(address, value, time.monotonic())

    def listen(self, heard: Callable[[str, float, float], object]) -> Callable[[], None]:
        """Be told of every number at once: its address, itself, and when it came (monotonic s). Call the result to be told no
        more."""
        with self._lock:
            self._heard.append(heard)

        def stop() -> None:
            with self._lock:
                self._heard.remove(heard)

        return stop

    def record(self) -> Log:
        """Keep all that comes from now on."""
        now = time.monotonic()
        with self._lock:
            # Where each is when it begins.
            log = Log(now, {address: [(now, one.value)] for address, one in self.latest.items()})
            self._logs.append(log)
        return log

    def stop(self, log: Log) -> None:
        """Keep no more."""
        with self._lock:
            if log in self._logs:
                self._logs.remove(log)

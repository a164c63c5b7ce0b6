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
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from pythonosc.osc_packet import OscPacket

from isbjorn.core.errors import IsbjornError
from isbjorn.studio.control.midi_in import Midi, Ports

_LARGEST, _MOST_ADDRESSES, _KEPT_S, _MOST_KEPT = 8192, 256, 1800.0, 400_000
_MOST_NUMBERS, _DEEPEST_BUNDLE = 16, 8
# Packets that are read in a second: of an address that was heard more than once; and of all others together, so that a flood of
# strangers does not push out what is followed.
_MOST_KNOWN, _MOST_OTHERS = 4000, 1000
_BUNDLE = b"#bundle\0"
# A packet is read in microseconds: a listener that reads one for so long is stuck, and another takes its place.
_STUCK_S, _WATCHED_EVERY_S = 5.0, 1.0
HOST, PORT = "127.0.0.1", 8331


# The library would log each invalid packet: they are counted, and a flood of them must not fill a log.
logging.getLogger().addFilter(lambda record: "pythonosc" not in record.pathname)


def listening(text: str, where: str = "ISBJORN_OSC") -> tuple[str, int]:
    """Host and port of `PORT` or `HOST:PORT`; without a host the loopback, port 0 for none. Raises IsbjornError for other words."""
    host, _, port = text.rpartition(":")
    if not text:
        return HOST, 0
    if not port.isascii() or not port.isdigit() or int(port) > 65_535:
        raise IsbjornError(
            f"'{text[:60]}' is not a port.", where, f"Write {PORT}, or 0.0.0.0:{PORT} for the whole network."
        )
    return host or HOST, int(port)


def is_whole(content: bytes, depth: int = 0) -> bool:
    """Whether a packet is an OSC message, or a bundle whose elements, nested ones too, have the sizes that they declare: OSC 1.0
    aligns each to four bytes, and a reader that trusts a negative size never ends."""
    if not content.startswith(_BUNDLE):
        return content.startswith(b"/") and len(content) % 4 == 0
    at = 16
    if len(content) < at or depth >= _DEEPEST_BUNDLE:
        return False
    while at < len(content):
        if at + 4 > len(content):
            return False
        size = int.from_bytes(content[at : at + 4], "big", signed=True)
        at += 4
        if size <= 0 or size % 4 or at + size > len(content) or not is_whole(content[at : at + size], depth + 1):
            return False
        at += size
    return True


@dataclass
class InputState:
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
    """Listens to OSC on a port; 0: on none. bad: packets that were none; dropped: beyond what is taken in a second; restarted: how
    often a listener that was stuck was replaced. clock: monotonic seconds."""

    def __init__(self, host: str = HOST, port: int = 0, clock: Callable[[], float] = time.monotonic) -> None:
        self.host, self.port, self.bad, self.dropped, self.restarted = host, 0, 0, 0, 0
        self.clock = clock
        self.latest: dict[str, InputState] = {}
        self._logs: list[Log] = []
        self._heard: list[Callable[[str, float, float], object]] = []
        # When packets were read recently: of known addresses, and of others.
        self._recent: dict[bool, deque[float]] = {True: deque(), False: deque()}
        # Since when a packet is read; the listener that may go on.
        self._reading_since: float | None = None
        self._listener = 0
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
        self._start()
        threading.Thread(target=self._watch, name="osc watchdog", daemon=True).start()

    def _start(self) -> None:
        self._listener += 1
        threading.Thread(target=self._listen, args=(self._listener,), name="osc", daemon=True).start()

    def _listen(self, number: int) -> None:
        assert self._socket is not None
        while not self._ended.is_set() and number == self._listener:
            with contextlib.suppress(OSError):
                content, _ = self._socket.recvfrom(_LARGEST + 1)
                self._reading_since = self.clock()
                self.take(content)
            if number == self._listener:
                self._reading_since = None

    def _watch(self) -> None:
        while not self._ended.wait(_WATCHED_EVERY_S):
            self.restart_if_stuck()

    def restart_if_stuck(self) -> bool:
        """Let another listener take over from one that reads a packet for too long; whether it was."""
        since = self._reading_since
        if since is None or self.clock() - since < _STUCK_S:
            return False
        self._reading_since = None
        self.restarted += 1
        self._start()
        return True

    def close(self) -> None:
        """Listen no more."""
        self._ended.set()
        self.ports.close()
        if self._socket is not None:
            self._socket.close()

    def take(self, content: bytes) -> None:
        """Take a packet; an invalid one is counted, never raised."""
        now = self.clock()
        address = content[:200].partition(b"\0")[0].decode("ascii", "replace")
        with self._lock:
            known = self.latest.get(address)
            followed = known is not None and known.count > 1
            recent, most = self._recent[followed], _MOST_KNOWN if followed else _MOST_OTHERS
            while recent and now - recent[0] > 1:
                recent.popleft()
            if len(recent) >= most:
                self.dropped += 1
                return
            recent.append(now)
        if len(content) > _LARGEST or not is_whole(content):
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
            # The last one of a dict is the latest.
            before = self.latest.pop(address, None)
            self.latest[address] = InputState(number, now, before.count + 1 if before else 1)
            if len(self.latest) > _MOST_ADDRESSES:
                # Those that were heard once go first: a flood of strangers does not push out what is followed.
                once = next((name for name, one in self.latest.items() if one.count == 1 and name != address), None)
                del self.latest[next(iter(self.latest)) if once is None else once]
            for log in self._logs:
                if log.count < _MOST_KEPT and now - log.began < _KEPT_S:
                    log.lanes.setdefault(address, []).append((now, number))
                    log.count += 1

            heard = list(self._heard)
        for notify in heard:
            notify(address, number, now)

    def _played(self, content: list[int]) -> None:
        """Bytes of a MIDI port, of any thread."""
        with contextlib.suppress(Exception):  # whatever a device sends
            self.midi.take(content, self.clock())

    def put(self, address: str, value: float) -> None:
        """Take a number that came another way than by OSC."""
        self._number(address, value, self.clock())

    def listen(self, heard: Callable[[str, float, float], object]) -> Callable[[], None]:
        """Subscribe to every number: its address, its value, and when it arrived (monotonic s). Call the result to unsubscribe."""
        with self._lock:
            self._heard.append(heard)

        def stop() -> None:
            with self._lock:
                self._heard.remove(heard)

        return stop

    def record(self) -> Log:
        """Keep all that comes from now on."""
        now = self.clock()
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

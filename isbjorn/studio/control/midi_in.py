"""Live MIDI: messages of ports, and of OSC, which can carry them, as numbers with addresses. The clock becomes a tempo, MTC becomes
seconds."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

_PER_BEAT, _TICKS = 24, 49
_SCAN_EVERY_S, _MOST_PORTS = 4.0, 16
# Frames a second of MIDI timecode, by the two bits that say so.
RATES = (24.0, 25.0, 30000 / 1001, 30.0)
# A sequencer of this system is a file; where it is missing there are no ports.
_SEQUENCER = Path("/dev/snd/seq")


class Midi:
    """Bytes of MIDI in, numbers out: `/midi/1/cc/7`, `/midi/1/note/60` (velocity, 0 when it ends), `/midi/1/note` and
    `/midi/1/pitch` of the note that sounds last, `/midi/1/bend`, `/midi/1/pressure`, `/midi/1/program`, `/midi/clock/bpm`,
    `/midi/clock/running`, `/timecode/s`."""

    def __init__(self, put: Callable[[str, float], object]) -> None:
        self._put = put
        self._ticks: deque[float] = deque(maxlen=_TICKS)
        self._pieces: dict[int, int] = {}
        self._lock = threading.Lock()

    def take(self, content: list[int], at: float) -> None:
        """Take the bytes of whole messages, which arrived at a moment (s). Invalid ones are ignored."""
        # Loaded with the first message: a start needs none of it.
        import mido

        parser = mido.Parser()
        parser.feed([byte & 0xFF for byte in content[:1024]])
        with self._lock:
            for message in parser:
                self._message(message, at)

    def _message(self, message: Any, at: float) -> None:
        channel = f"/midi/{getattr(message, 'channel', 0) + 1}"
        match message.type:
            case "control_change":
                self._put(f"{channel}/cc/{message.control}", message.value)
            case "note_on" | "note_off":
                velocity = message.velocity if message.type == "note_on" else 0
                self._put(f"{channel}/note/{message.note}", velocity)
                self._put(f"{channel}/note", velocity)
                if velocity:
                    self._put(f"{channel}/pitch", message.note)
            case "pitchwheel":
                self._put(f"{channel}/bend", message.pitch)
            case "aftertouch" | "polytouch":
                self._put(f"{channel}/pressure", message.value)
            case "program_change":
                self._put(f"{channel}/program", message.program)
            case "clock":
                self._tick(at)
            case "start" | "continue" | "stop":
                self._ticks.clear()
                self._put("/midi/clock/running", float(message.type != "stop"))
            case "quarter_frame":
                self._quarter(message.frame_type, message.frame_value)
            case "sysex":
                self._full(list(message.data))

    def _tick(self, at: float) -> None:
        if self._ticks and at - self._ticks[-1] > 1:
            self._ticks.clear()
        self._ticks.append(at)
        if len(self._ticks) > _PER_BEAT and (lasted := self._ticks[-1] - self._ticks[0]) > 0:
            self._put("/midi/clock/bpm", 60 * (len(self._ticks) - 1) / _PER_BEAT / lasted)

    def _quarter(self, piece: int, value: int) -> None:
        """Eight pieces of two frames make a timecode; it is that of the first piece, seven quarters of a frame ago."""
        if piece == 0:
            self._pieces = {}
        self._pieces[piece] = value
        if piece != 7 or len(self._pieces) < 8:
            return
        p = self._pieces
        frames, seconds, minutes = p[0] | (p[1] & 1) << 4, p[2] | (p[3] & 3) << 4, p[4] | (p[5] & 3) << 4
        hours, kind = p[6] | (p[7] & 1) << 4, p[7] >> 1 & 3
        self._timecode(hours, minutes, seconds, frames + 7 / 4, RATES[kind])

    def _full(self, data: list[int]) -> None:
        # Universal real time, timecode, full message.
        if len(data) == 8 and data[0] == 0x7F and data[2:4] == [1, 1]:
            self._timecode(data[4] & 31, data[5], data[6], data[7], RATES[data[4] >> 5 & 3])

    def _timecode(self, hours: int, minutes: int, seconds: int, frames: float, rate: float) -> None:
        self._put("/timecode/s", hours * 3600 + minutes * 60 + seconds + frames / rate)


class Ports:
    """All MIDI ports in of this machine, opened as they come and go; none where the machine has no MIDI."""

    def __init__(self, take: Callable[[list[int]], object]) -> None:
        self._take = take
        self._open: dict[str, Any] = {}
        self._ended = threading.Event()
        self._lock = threading.Lock()
        if not sys.platform.startswith("linux") or _SEQUENCER.exists():
            threading.Thread(target=self._watch, name="midi", daemon=True).start()

    @property
    def names(self) -> list[str]:
        """Of the ports that are open."""
        with self._lock:
            return list(self._open)

    def _watch(self) -> None:
        with contextlib.suppress(Exception):  # without a driver there is nothing to look for
            import rtmidi

            looking = rtmidi.MidiIn()
            while True:
                self._look(rtmidi, looking.get_ports()[:_MOST_PORTS])
                if self._ended.wait(_SCAN_EVERY_S):
                    return

    def _look(self, rtmidi: Any, there: list[str]) -> None:
        with self._lock:
            for name in [name for name in self._open if name not in there]:
                self._open.pop(name).close_port()
            for number, name in enumerate(there):
                if name not in self._open:
                    port = rtmidi.MidiIn()
                    port.open_port(number)
                    port.ignore_types(sysex=False, timing=False)
                    port.set_callback(lambda event, _: self._take(event[0]))
                    self._open[name] = port

    def close(self) -> None:
        """Listen no more."""
        self._ended.set()
        with self._lock:
            for port in self._open.values():
                with contextlib.suppress(Exception):
                    port.close_port()
            self._open = {}

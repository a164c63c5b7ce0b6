"""Stand-ins for devices, which speak the real protocols over the loopback: a fader desk, a keyboard with pads, a tracked walker,
and a clock that sends timecode."""

from __future__ import annotations

import math
import time

from pythonosc.osc_message_builder import OscMessageBuilder
from pythonosc.udp_client import SimpleUDPClient

_PER_S = 60


def faders(host: str, port: int, seconds: float, count: int = 4) -> int:
    """Faders that go up and down, each at its own pace, as `/desk/1` …; returns the number of messages."""
    client, begin, sent = SimpleUDPClient(host, port), time.monotonic(), 0
    while (t := time.monotonic() - begin) < seconds:
        for n in range(1, count + 1):
            client.send_message(f"/desk/{n}", 0.5 - 0.5 * math.cos(2 * math.pi * t * (0.15 + 0.1 * n)))
            sent += 1
        time.sleep(max(0.0, (sent // count) / _PER_S - (time.monotonic() - begin)))
    client.close()
    return sent


def walker(host: str, port: int, seconds: float) -> int:
    """A person who walks a figure of eight, as a TUIO 1.1 cursor and as `/walker` x y; returns the number of messages."""
    client, begin, sent = SimpleUDPClient(host, port), time.monotonic(), 0
    while (t := time.monotonic() - begin) < seconds:
        x, y = 0.5 + 0.4 * math.sin(0.7 * t), 0.5 + 0.3 * math.sin(1.4 * t)
        client.send_message("/tuio/2Dcur", ["alive", 1])
        client.send_message("/tuio/2Dcur", ["set", 1, x, y, 0.28 * math.cos(0.7 * t), 0.42 * math.cos(1.4 * t), 0.0])
        client.send_message("/tuio/2Dcur", ["fseq", sent // 4])
        client.send_message("/walker", [x, y])
        sent += 4
        time.sleep(max(0.0, sent / 4 / _PER_S - (time.monotonic() - begin)))
    client.close()
    return sent


def _midi(client: SimpleUDPClient, *content: int) -> None:
    """Send a MIDI message as OSC carries it."""
    one = OscMessageBuilder("/midi")
    one.add_arg((0, *content, *(0,) * (3 - len(content))), OscMessageBuilder.ARG_TYPE_MIDI)
    client.send(one.build())


def notes(host: str, port: int, seconds: float, bpm: float = 120.0) -> int:
    """A keyboard that plays a scale, a note a beat, with its clock: MIDI within OSC; how many notes were played."""
    client, begin, ticks, sounding = SimpleUDPClient(host, port), time.monotonic(), 0, 0
    scale = (60, 62, 64, 65, 67, 69, 71, 72)
    _midi(client, 0xFA)
    while time.monotonic() - begin < seconds:
        if ticks % 24 == 0:
            sounding = scale[ticks // 24 % len(scale)]
            _midi(client, 0x90, sounding, 60 + ticks // 24 % 8 * 8)
        if ticks % 24 == 18:
            _midi(client, 0x80, sounding, 0)
        _midi(client, 0xF8)
        ticks += 1
        time.sleep(max(0.0, begin + ticks * 60 / bpm / 24 - time.monotonic()))
    _midi(client, 0xFC)
    client.close()
    return (ticks + 23) // 24


def timecode(host: str, port: int, seconds: float, start_s: float = 3600.0) -> int:
    """A machine that runs, and sends its timecode (MTC, 25 frames a second) as MIDI within OSC; how many quarters were sent."""
    client, begin, sent = SimpleUDPClient(host, port), time.monotonic(), 0
    while (t := sent / 100) < seconds:
        frames = round((start_s + (sent - sent % 8) / 100) * 25)
        parts = (frames % 25, frames // 25 % 60, frames // 1500 % 60, frames // 90_000 % 24)
        piece = sent % 8
        value = parts[piece // 2] >> (4 * (piece % 2)) & 15
        _midi(client, 0xF1, piece << 4 | (value | 2 if piece == 7 else value))
        sent += 1
        time.sleep(max(0.0, begin + t + 0.01 - time.monotonic()))
    client.close()
    return sent

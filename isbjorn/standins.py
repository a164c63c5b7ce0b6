"""Stand-ins for devices, which speak the real protocols over the loopback: a desk of faders, and a walker who is tracked."""

from __future__ import annotations

import math
import time

from pythonosc.udp_client import SimpleUDPClient

_PER_S = 60


def faders(host: str, port: int, seconds: float, count: int = 4) -> int:
    """Faders that go up and down, each at its own pace, as `/desk/1` …; how many messages were sent."""
    client, begin, sent = SimpleUDPClient(host, port), time.monotonic(), 0
    while (t := time.monotonic() - begin) < seconds:
        for n in range(1, count + 1):
            client.send_message(f"/desk/{n}", 0.5 - 0.5 * math.cos(2 * math.pi * t * (0.15 + 0.1 * n)))
            sent += 1
        time.sleep(max(0.0, (sent // count) / _PER_S - (time.monotonic() - begin)))
    return sent


def walker(host: str, port: int, seconds: float) -> int:
    """Someone who walks a figure of eight, as a TUIO 1.1 cursor and as `/walker` x y; how many messages were sent."""
    client, begin, sent = SimpleUDPClient(host, port), time.monotonic(), 0
    while (t := time.monotonic() - begin) < seconds:
        x, y = 0.5 + 0.4 * math.sin(0.7 * t), 0.5 + 0.3 * math.sin(1.4 * t)
        client.send_message("/tuio/2Dcur", ["alive", 1])
        client.send_message("/tuio/2Dcur", ["set", 1, x, y, 0.28 * math.cos(0.7 * t), 0.42 * math.cos(1.4 * t), 0.0])
        client.send_message("/tuio/2Dcur", ["fseq", sent // 4])
        client.send_message("/walker", [x, y])
        sent += 4
        time.sleep(max(0.0, sent / 4 / _PER_S - (time.monotonic() - begin)))
    return sent

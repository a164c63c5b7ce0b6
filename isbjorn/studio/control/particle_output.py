"""Output while a shot plays: figures of its particles as OSC, so that lights and sound can follow them."""

from __future__ import annotations

import contextlib
import socket
import time

from pythonosc.osc_bundle_builder import IMMEDIATELY, OscBundleBuilder
from pythonosc.osc_message_builder import OscMessageBuilder

from isbjorn.studio.control.controller_input import HOST, listening
from isbjorn.studio.preview.preview import Figures

_MOST_A_SECOND = 60


class Outbox:
    """Sends to a port; 0: nowhere. It never waits for a receiver."""

    def __init__(self, host: str = HOST, port: int = 0) -> None:
        self.to = (host, port)
        self._last = 0.0
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM) if port else None
        if self._socket is not None:
            self._socket.setblocking(False)

    def send(self, shot: int, frame: int, figures: Figures) -> None:
        """Send the figures of a frame that is on its way to a screen; at most a limited number per second."""
        now = time.monotonic()
        if self._socket is None or now - self._last < 1 / _MOST_A_SECOND:
            return
        self._last = now
        bundle = OscBundleBuilder(IMMEDIATELY)
        for name, values in (
            ("frame", (frame,)), ("alive", (figures.alive,)), ("born", (figures.born,)), ("centre", figures.centre),
        ):  # fmt: skip
            one = OscMessageBuilder(f"/isbjorn/{shot}/{name}")
            for value in values:
                one.add_arg(value)
            bundle.add_content(one.build())
        with contextlib.suppress(OSError):
            self._socket.sendto(bundle.build().dgram, self.to)

    def close(self) -> None:
        """Stop sending."""
        if self._socket is not None:
            self._socket.close()


def telling(text: str) -> Outbox:
    """The output to `HOST:PORT`; none for an empty text. Raises IsbjornError for anything else."""
    return Outbox(*listening(text, "ISBJORN_OSC_OUT"))

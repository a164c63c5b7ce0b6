"""A show in a separate process: it steps at the clock's pace, draws with all cores, and never waits for clients."""

from __future__ import annotations

import contextlib
import math
import os
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import cv2
import simplejpeg

from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.performed import Performance
from isbjorn.core.frame import shades_over_ground
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.runtime.memory import release_memory, share_of
from isbjorn.core.runtime.parallel import init_worker, use_threads
from isbjorn.core.show import Show
from isbjorn.studio.preview.plates import StudioPlates
from isbjorn.studio.preview.preview import Figures, figures_of, scale_for
from isbjorn.studio.storage.store import Store

# This many pictures may be on their way.
ON_THEIR_WAY = 2
# What can be drawn: pictures a second, and shares of the width that is asked for; the best first.
_SHARES = (1.0, 0.75, 0.56, 0.42)
_LEVELS = ((60, 1.0), *((rate, share) for rate in (30, 20, 15, 10, 5) for share in _SHARES))
_BEGINS_AT = 1
# Share of the time between two pictures that a picture may take; a better one is tried where it would take at most the second
# share.
_SETTLES, _BETTER = 0.92, 0.78
# Number of pictures that are measured, and that are skipped first; and how long the measured time of another size is valid.
_LOOKS, _WARM, _KNOWN_S = 12, 6, 20.0
# Share of a picture's time that does not depend on its size.
_FIXED = 0.4
_MOST_ARRIVALS, _TRY_AGAIN_S = 64, 1.0
# Seconds of difference from a timecode at which a show jumps; largest correction per message; silence after which it pauses.
TIMECODE = "/timecode/s"
_JUMPS_S, _SLEWS_S, _SILENT_S = 0.3, 0.001, 0.4


@dataclass(frozen=True)
class ShowPicture:
    """A picture of a show. arrived: when (monotonic s) what came arrived that is first seen in it."""

    jpeg: bytes
    width: int
    height: int
    seconds: float
    frame: float
    fps: float
    reduced: float
    dropped: int
    figures: Figures
    arrived: list[float]


class Quality:
    """What is drawn in time: where that is not all, first smaller pictures, then fewer."""

    def __init__(self) -> None:
        self.level = _BEGINS_AT
        self._busy: list[float] = []
        self._left_out = _WARM
        # How long a picture took, and when that was known, by its share of the width.
        self._took: dict[float, tuple[float, float]] = {}

    @property
    def share(self) -> float:
        """The share of the width."""
        return _LEVELS[self.level][1]

    def stride(self, hz: int) -> int:
        """Lattice steps from one picture to the next."""
        return max(1, round(hz / _LEVELS[self.level][0]))

    def drew(self, seconds: float) -> None:
        """A picture took so long."""
        if self._left_out > 0:
            self._left_out -= 1
            return
        self._busy.append(seconds)
        if len(self._busy) < _LOOKS:
            return
        now, usual = time.monotonic(), sorted(self._busy)[_LOOKS * 3 // 4]
        self._busy.clear()
        self._took = {share: one for share, one in self._took.items() if now - one[1] < _KNOWN_S}
        self._took[self.share] = usual, now
        for level, (rate, share) in enumerate(_LEVELS):
            guess = usual * (_FIXED + (1 - _FIXED) * (share / self.share) ** 2)
            would = self._took[share][0] if share in self._took else guess
            if would < (_BETTER if level < self.level else _SETTLES) / rate or level == len(_LEVELS) - 1:
                self._left_out = 2 if share != self.share else 0
                self.level = level
                return


class Performer:
    """The process of a show: receives messages, steps, draws, sends pictures. clock: the seconds by which arrivals are stamped;
    only the cost of a picture is measured by another clock."""

    def __init__(
        self,
        studio: Connection,
        plates: PlateReader,
        shot: Shot,
        width: int,
        rounds: bool,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.studio, self.plates, self.width, self.rounds, self.clock = studio, plates, width, rounds, clock
        self.show = Show(shot, plates, share_of("states"))
        self.began = self.clock()
        self.frozen: float | None = None
        self.quality = Quality()
        self.on_their_way, self.dropped, self.ended = 0, 0, False
        self._arrived: deque[float] = deque(maxlen=4096)
        self._sent: deque[float] = deque(maxlen=32)
        self._table = shade_table("srgb")
        # When a timecode last arrived, if the show follows one; whether it pauses for want of it.
        self._timecode_at: float | None = None
        self._waits, self._drawn = False, -1
        # The last whole round of a show that comes round.
        self._round: Performance | None = None
        self._send_lock = threading.Lock()
        self._sender = ThreadPoolExecutor(1, "sending")
        self._sending: Future[None] | None = None

    def run(self) -> None:
        """Until the studio says so, or is gone."""
        self._drawn = -1
        while not self.ended:
            self._hear(0)
            self._await()
            hz, stride = self.show.hz, self.quality.stride(self.show.hz)
            if self.frozen is not None or self.on_their_way >= ON_THEIR_WAY:
                self._hear(0.1)
                continue
            length_s = float(self.show.shot.length_s)
            if self.rounds and self.clock() - self.began >= length_s:
                # It restarts where it ends.
                self._round = self.show.kept()
                self.show.again()
                self.began = max(self.began + length_s, self.clock() - length_s / 2)
                self._drawn = -1
            now = math.floor((self.clock() - self.began) * hz)
            due = now - now % stride
            if self._drawn - stride <= due <= self._drawn:
                if now >= self.show.performance.count and self.show.step(now / hz):
                    # There is time until the next picture.
                    self.show.settle()
                    continue
                next_at = max(self.show.performance.count, self._drawn + 1) / hz
                self._hear(max(0.0002, self.began + next_at - self.clock()))
                continue
            self.dropped += max(0, (due - self._drawn) // stride - 1) if self._drawn >= 0 else 0
            self._drawn = due
            try:
                started = self.show.performance.count
                self.show.step(due / hz)
                if self.show.performance.count < started:
                    self._restart()
                    self._drawn = -1
                    continue
                self._draw()
            except IsbjornError as error:
                self._send("problem", {"what": error.what, "where": error.where, "remedy": error.remedy})
                self._hear(_TRY_AGAIN_S)

    def _restart(self) -> None:
        self.began = self.clock()
        self.dropped = 0

    def _draw(self) -> None:
        began = time.perf_counter()
        show = self.show
        scale = scale_for(show.shot, max(16, round(self.width * self.quality.share)))
        layers, frame, shot = show.draw(scale), show.frame, show.shot
        arrived, seen = [], self.began + show.now_s
        while self._arrived and self._arrived[0] <= seen:
            arrived.append(self._arrived.popleft())
        self._sent.append(self.clock())
        lasted = self._sent[-1] - self._sent[0]
        fps = round((len(self._sent) - 1) / lasted, 1) if lasted > 0 else 0.0
        self.on_their_way += 1
        share, dropped, drawn_s = self.quality.share, self.dropped, time.perf_counter() - began

        def send() -> None:
            began = time.perf_counter() - drawn_s
            if layers.grounded:
                rgb = to_shades(layers.picture, self._table)
            else:
                rgb = shades_over_ground(layers.picture, shot, frame, scale, self.plates, self._table)
            jpeg = simplejpeg.encode_jpeg(rgb, quality=86, colorspace="RGB", colorsubsampling="420", fastdct=True)
            seconds = float(frame - shot.first_frame) / float(shot.frame_rate)
            height, width = rgb.shape[:2]
            figures = figures_of(layers, began)
            picture = (
                jpeg,
                width,
                height,
                seconds,
                float(frame),
                fps,
                share,
                dropped,
                figures,
                arrived[:_MOST_ARRIVALS],
            )
            self._send("picture", ShowPicture(*picture))

        before, self._sending = self._sending, None
        try:
            if before is not None:
                before.result()
        except BaseException:
            # That picture and this one will never be confirmed.
            self.on_their_way = max(0, self.on_their_way - 2)
            raise
        # The next picture is begun meanwhile.
        self._sending = self._sender.submit(send)
        self.quality.drew(time.perf_counter() - began)
        release_memory()

    def _send(self, kind: str, what: Any) -> None:
        with self._send_lock:
            self.studio.send((kind, what))

    def _hear(self, most_s: float) -> None:
        """Take what the studio says, and wait for it no longer than some seconds."""
        while not self.ended and self.studio.poll(most_s):
            most_s = 0
            kind, what = self.studio.recv()
            getattr(self, f"_on_{kind}")(what)

    def _on_arrive(self, some: list[tuple[str, float, float]]) -> None:
        for address, value, at in some:
            if address == TIMECODE:
                self._chase(value, at)
            # While it pauses, controls still move.
            heard = self.show.arrive(address, value, (at if self.frozen is None else self.frozen) - self.began)
            if heard and self.frozen is None:
                self._arrived.append(at)

    def _chase(self, timecode_s: float, at: float) -> None:
        """Go with a timecode: its hours are left aside. Small differences are made good unseen, large ones at once."""
        if self.frozen is not None and not self._waits:
            return
        if self.frozen is not None:
            self._on_freeze(False)
        self._waits, self._timecode_at = False, self.clock()
        aim = timecode_s % 3600
        if self.rounds:
            aim %= float(self.show.shot.length_s)
        apart = aim - (at - self.began)
        if abs(apart) > _JUMPS_S:
            self.show.again()
            self.began, self.dropped, self._drawn = at - aim, 0, -1
        else:
            self.began -= max(-_SLEWS_S, min(_SLEWS_S, apart))

    def _await(self) -> None:
        """Pause while the timecode does."""
        if self._timecode_at is not None and self.clock() - self._timecode_at > _SILENT_S:
            self._timecode_at = None
            self._on_freeze(True)
            self._waits = True

    def _on_edit(self, text: str) -> None:
        try:
            if self.show.edit(Shot.model_validate_json(text)):
                self._restart()
                self._send("restarted", None)
        except IsbjornError as error:
            self._send("problem", {"what": error.what, "where": error.where, "remedy": error.remedy})

    def _on_shown(self, _: None) -> None:
        self.on_their_way = max(0, self.on_their_way - 1)

    def _on_width(self, width: int) -> None:
        self.width = width
        self.quality = Quality()

    def _on_freeze(self, on: bool) -> None:
        now = self.clock()
        if on and self.frozen is None:
            self.frozen = now
        elif not on and self.frozen is not None:
            # The clock stood still meanwhile.
            self.began += now - self.frozen
            self.frozen = None

    def _on_again(self, _: None) -> None:
        self.show.again()
        self._restart()

    def _on_keep(self, _: None) -> None:
        kept = self.show.kept()
        if self._round is not None and kept.lanes == self._round.lanes and kept.count < self._round.count / 2:
            # A round has only just begun: the timecode means the previous one.
            kept = self._round
        # Beside the show: a long one is a long text.
        threading.Thread(target=lambda: self._send("kept", kept.text()), name="keeping", daemon=True).start()

    def _on_end(self, _: None) -> None:
        self.ended = True


def perform(studio: Connection, folder: str, text: str, asked: tuple[int, bool], parent: int, budget_mb: int) -> None:
    """What the process runs. asked: the width in px, and whether it comes round."""
    init_worker(parent, budget_mb)
    cores = os.cpu_count() or 1
    use_threads(cores)
    cv2.setNumThreads(cores)
    with contextlib.suppress(EOFError, BrokenPipeError, ConnectionResetError):
        try:
            plates = StudioPlates(Store(Path(folder)), shared=True)
            performer = Performer(studio, plates, Shot.model_validate_json(text), *asked)
        except IsbjornError as error:
            studio.send(("problem", {"what": error.what, "where": error.where, "remedy": error.remedy}))
            return
        performer.run()

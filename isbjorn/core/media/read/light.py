"""The plate's brightness, as births, drivers and surfaces need it: small, and as it looks."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import numpy.typing as npt

from isbjorn.core.appearance.particles import ParticleSolver
from isbjorn.core.arrays import Floats
from isbjorn.core.caching import RecentCache
from isbjorn.core.colour import brightness
from isbjorn.core.document import Camera, Matte, Shot
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.render.composite.mattes import KINDS, matte_of
from isbjorn.core.render.draw.context import RenderContext

_WIDTH, _KEPT, _MATTE_WIDTH = 320, 96, 640


def light_of(shot: Shot, plates: PlateReader, known: object = None) -> PlateLight:
    """The brightness of a shot's plate; the one that is known, if it is of the same plate."""
    same = isinstance(known, PlateLight) and known.plates is plates and known.serves(shot)
    return known if same else PlateLight(shot, plates)  # type: ignore[return-value]


class PlateLight:
    """Brightness of a shot's plate by moments; black where there is no plate. Sheets are 320 wide."""

    def __init__(self, shot: Shot, plates: PlateReader) -> None:
        self.shot, self.plates = shot, plates
        self.width, self.height = float(shot.width), float(shot.height)
        self._kept: RecentCache[int, tuple[Floats, Floats]] = RecentCache(_KEPT)

    def serves(self, shot: Shot) -> bool:
        """Whether another shot has the same plate, and reads it the same way."""
        mine = self.shot
        return mine is shot or all(
            getattr(mine, name) == getattr(shot, name)
            for name in ("plate", "width", "height", "rate", "first_frame", "last_frame", "loop")
        )

    @property
    def _rows(self) -> int:
        return max(1, round(_WIDTH * self.shot.height / self.shot.width))

    def numbers(self, t: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
        """The frame that the plate shows at moments t (n,) of shot time; -1 where it shows none."""
        at, which = np.unique(np.round(np.asarray(t, np.float64), 6), return_inverse=True)
        step = float(1 / self.plates.rate(self.shot))
        # The frame changes only where a period of the plate begins: one look for each.
        cells, cell = np.unique(np.floor(at / step + 1e-6), return_inverse=True)
        found = [self.plates.number(self.shot, Fraction((c + 0.5) * step).limit_denominator(10**6)) for c in cells]
        return np.array([-1 if n is None else n for n in found], np.int64)[cell][which]

    def sheet(self, number: int) -> Floats:
        """Brightness of a frame in [0, 1] with a display's gamma, float32 (h, 320); black for -1."""
        return np.zeros((self._rows, _WIDTH), np.float32) if number < 0 else self._frame(number)[0]

    def grey(self, media: str) -> Floats:
        """Brightness of a picture file that fills the shot's frame, in [0, 1] with a display's gamma, float32 (h, 320)."""
        picture = self.plates.filling(media, 0, _WIDTH, self._rows)
        return np.asarray(brightness(np.ascontiguousarray(picture[..., :3])), np.float32)

    def matte(self, matte: Matte, t: float, readings: Readings) -> Floats:
        """How full a matte is at a moment of shot time, without the camera, float32 (h, 640) in [0, 1]."""
        shot = self.shot.model_copy(update={"emitters": (), "links": (), "camera": Camera()})
        alone = ParticleSolver(shot, light=self)
        alone.readings = readings
        moment = Fraction(t).limit_denominator(10**6)
        context = RenderContext(shot, alone, moment, _MATTE_WIDTH / shot.width, self.plates)
        plate = None
        if shot.plate is not None and KINDS[matte.kind].reads_plate:
            plate = self.plates.kept_at(shot, moment, context.view.width, context.view.height)
        return matte_of(matte, context, plate)

    def picture(self, media: str, frame: int, width: int, height: int) -> Floats:
        """The linear colours of a frame of a picture file that fills a size, float32 (height, width, 3)."""
        number = min(frame, max(0, self.plates.count(media) - 1))
        return np.ascontiguousarray(self.plates.filling(media, number, width, height)[..., :3])

    def colours(self, number: int) -> Floats:
        """Linear colours of a frame, float32 (h, 320, 3); black for -1."""
        return np.zeros((self._rows, _WIDTH, 3), np.float32) if number < 0 else self._frame(number)[1]

    def _frame(self, number: int) -> tuple[Floats, Floats]:
        found = self._kept.peek(number)
        if found is None:
            colours = np.ascontiguousarray(self.plates.frame(self.shot, number, _WIDTH, self._rows)[..., :3])
            found = brightness(colours), colours
            self._kept.put(number, found)
        return found

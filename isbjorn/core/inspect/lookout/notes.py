"""What a note is, and what the checks look at."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.document import Emitter, Number, Shot
from isbjorn.core.frame import Layers, Solver, draw_particles, ground
from isbjorn.core.imaging.display_encoding import over
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.simulate.track import Track, shares_of

_FLIGHTS, _SAMPLES = 32, 40
_LOOK_WIDTH = 320


class Mend(BaseModel):
    """What would mend it: steps of RFC 6902 on the document, or another setting of the delivery."""

    label: str
    changes: list[dict[str, Any]] = Field(default=[], description="op, path, value.")
    order: dict[str, Any] = Field(default={}, description="Fields of the delivery to change.")


class Note(BaseModel):
    """One thing that was recognised."""

    kind: str
    thing: str | None = Field(default=None, description="Id of the thing that the note is about.")
    level: Literal["trouble", "hint", "fine"]
    what: str
    why: str
    mend: Mend | None = None


def put(path: str, value: Any, op: str = "replace") -> dict[str, Any]:
    return {"op": op, "path": path, "value": value}


@dataclass
class Watch:
    """A shot at a frame, as the checks look at it."""

    solver: Solver
    frame: int

    @property
    def shot(self) -> Shot:
        return self.solver.shot

    @cached_property
    def seconds(self) -> Fraction:
        return self.shot.seconds(self.frame)

    @cached_property
    def context(self) -> RenderContext:
        return RenderContext(
            self.shot, self.solver, self.seconds, min(1.0, _LOOK_WIDTH / self.shot.width), self.solver.plates
        )

    @cached_property
    def layers(self) -> Layers:
        """The frame, drawn small."""
        return draw_particles(self.solver, self.frame, self.context.scale, over_plate=True)

    @cached_property
    def picture(self) -> npt.NDArray[np.float32]:
        """The frame over its ground, small."""
        below = ground(self.shot, self.frame, self.context.scale, self.solver.plates)
        return self.layers.picture if self.layers.grounded or below is None else over(self.layers.picture, below)

    def read(self, number: Number) -> float:
        return self.context.read(number)

    @cached_property
    def shares(self) -> dict[str, int]:
        return shares_of(self.shot, self.solver.readings)


@dataclass
class Case:
    """An emitter that is looked at."""

    watch: Watch
    number: int
    emitter: Emitter

    @property
    def path(self) -> str:
        return f"/emitters/{self.number}"

    @cached_property
    def track(self) -> Track:
        return self.watch.solver.tracks[self.number]

    @cached_property
    def particles(self) -> Particles:
        return self.watch.solver.every(self.number, self.watch.seconds)

    def note(self, kind: str, what: str, why: str, level: Any = "hint", mend: Mend | None = None) -> Note:
        return Note(
            kind=kind, thing=self.emitter.id, level=level, what=f"{self.emitter.name}: {what}", why=why, mend=mend
        )

    @cached_property
    def flights(self) -> tuple[np.ndarray, np.ndarray]:
        """Places (samples, n, 3) of some particles born now, to the end of their lives, and their lifespans (n,) s."""
        births, t = self.track.source.some(_FLIGHTS), float(self.watch.seconds)
        lives = np.minimum(self.track.source.lifespans(births, np.full(_FLIGHTS, t)), 30).astype(np.float32)
        stride = max(1, math.ceil(float(lives.max()) * self.track.hz / _SAMPLES))
        count = math.ceil(float(lives.max()) * self.track.hz / stride)
        places, taken = self.track.flight(births, t, lives, stride, count)
        ends = np.minimum(lives, taken)
        at = np.arange(len(places))[:, None] * stride / self.track.hz
        places = np.where((at <= ends + stride / self.track.hz)[..., None], places.transpose(0, 2, 1), np.nan)
        return places, ends

    @cached_property
    def lives(self) -> np.ndarray:
        """Lifespans of some particles born now, (n,) s."""
        births, t = self.track.source.some(_FLIGHTS), float(self.watch.seconds)
        return self.track.source.lifespans(births, np.full(_FLIGHTS, t))

    @cached_property
    def met_at(self) -> np.ndarray:
        """When each of some that leave now would be taken, or first touch something, if they lived three times as long: (n,) s of
        age, infinite if never."""
        births, t = self.track.source.some(_FLIGHTS), float(self.watch.seconds)
        lives = np.minimum(3 * self.lives, 30).astype(np.float32)
        stride = max(1, math.ceil(float(lives.max()) * self.track.hz / _SAMPLES))
        count = math.ceil(float(lives.max()) * self.track.hz / stride)
        _, taken, touched = self.track.flight_met(births, t, lives, stride, count)
        met = np.minimum(taken, touched)
        return np.where(met <= lives, met, np.inf)


Checks = Iterator[Note]

"""One particle of an emitter at even ages, side by side, drawn as the picture draws it: its life at a glance."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from isbjorn.core.appearance.looks import dress
from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Floats
from isbjorn.core.document import Burst, Camera, Emitter, Number, Point, Shot, Use
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.evaluate import curves
from isbjorn.core.frame import Solver
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.draw.emitters import EmitterRasteriser
from isbjorn.core.render.models.bodies import has_models
from isbjorn.core.simulate.state import State
from isbjorn.core.simulate.state_layout import ROWS

_ENDLESS_S = 10.0
_FILLED, _MOST_MAGNIFIED = 0.82, 6.0
_DRAWN = (
    "size",
    "opacity",
    "brightness",
    "red",
    "green",
    "blue",
    "angle",
    "spin",
    "stretch",
    "hue",
    "saturation",
    "lightness",
)


def _middle(emitter: Emitter) -> Emitter:
    """The emitter's particle without spreads, alone: no trail, no layer, no light to wait for."""
    even = {
        name: getattr(emitter, name).model_copy(update={"spread": 0.0, "over_life_to": None}) for name in _DRAWN
    }  # fmt: skip
    alone = {
        "on": True, "trail": None, "heads": None, "lines": None, "group": None, "use": Use(), "finish": (), "hidden_by": (),
        "lit": Number(value=0),
    }  # fmt: skip
    return emitter.model_copy(update={**even, **alone})


def body_picture(emitter: Emitter, side: int, plates: PlateReader | None = None) -> Floats:
    """The body of an emitter as it is drawn, white and turned a little, in a square of `side` px: float32 (side, side, 4)."""
    turned = {"turn_x": Number(value=24), "turn_y": Number(value=-32)} if has_models(emitter) else {}
    alone = _middle(emitter).model_copy(
        update={
            "size": Number(value=(0.6 if has_models(emitter) else _FILLED) * side),
            "rate": Number(value=0),
            "bursts": (Burst(count=1),),
            "shape": Point(),
            "speed": Number(value=0),
            "lifespan": Number(value=0),
        }
        | turned
    )
    shot = Shot(emitters=(alone,), width=side, height=side)
    context = RenderContext(shot, Solver(shot, plates=plates), Fraction(0), 1.0, plates or PlateReader())
    picture = np.zeros((side, side, 4), np.float32)
    context.draw(0, picture)
    return picture


def portrait(
    shot: Shot, number: int, seconds: Fraction, count: int = 13, cell: int = 48, plates: PlateReader | None = None
) -> Floats:
    """A particle of the emitter `number` at `count` even ages from birth to death, each in a square of `cell` px: the centre of its
    square marks its age on an axis that spans all squares.

    Returns float32 (cell, count * cell, 4), linear, premultiplied. Small bodies are magnified, up to 6 times. The particle looks as
    if it reached each age at the given moment, and flies to the right.
    """
    shot = effective_shot(shot)
    others = tuple(e.model_copy(update={"on": False}) for e in shot.emitters)
    cast = (*others[:number], _middle(shot.emitters[number]), *others[number + 1 :])
    board = shot.model_copy(
        update={"emitters": cast, "width": count * cell, "height": cell, "camera": Camera(), "mattes": (), "finish": ()}
    )
    solver = Solver(board, plates=plates)
    track, e, now = solver.tracks[number], cast[number], float(seconds)
    life = e.lifespan.value or _ENDLESS_S
    age01 = ((np.arange(count) + 0.5) / count).astype(np.float32)
    values = np.zeros((ROWS, count), np.float32)
    values[0] = (np.arange(count) + 0.5 - count / 2) * cell
    values[3] = (
        e.speed.value * np.maximum(0, curves.evaluate(e.speed.over_life, age01)) if e.speed.over_life else e.speed.value
    )
    values[6] = life
    state = State(np.zeros(count, np.int64), now - age01.astype(np.float64) * life, values)
    looks = dress(track.source, state, age01, now, float(board.length_s))
    context = RenderContext(board, solver, seconds, 1.0, solver.plates)
    pen = EmitterRasteriser(context, e, number, e.blend)
    p = Particles(
        id=state.births, emitter=np.full(count, number, np.int32), position=state.place.T,
        velocity=state.velocity.T, age=(age01 * life).astype(np.float32), life=state.lives, age01=age01, size=looks.size,
        opacity=looks.opacity, colour=looks.colour, angle=looks.angle, touched=np.full(count, -1, np.float32),
        caught=np.full(count, -1, np.float32), refused={},
    )  # fmt: skip
    largest = float((looks.size * np.maximum(1.0, pen.stretch(p, state.births))).max())
    picture = np.zeros((cell, count * cell, 4), np.float32)
    pen.bodies(p, picture, size=min(_MOST_MAGNIFIED, _FILLED * cell / max(largest, 1e-6)))
    return picture

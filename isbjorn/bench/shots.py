"""The shots that are measured."""

from __future__ import annotations

from isbjorn.core.document import Curve, CurvePoint, Disc, Drag, Emitter, Gravity, Link, Number, Shot, Turbulence


def fountain(alive: int, life_s: float, size_px: float = 6.0, frames: int = 300, stirred: bool = False) -> Shot:
    """A fountain of about `alive` particles from its first frame on, that stay in the picture.

    stirred: by turbulence of one octave.
    """
    fade = Curve(points=(CurvePoint(at=0, value=0), CurvePoint(at=0.2, value=1), CurvePoint(at=1, value=0)))
    emitter = Emitter(
        id="fountain", name="Fountain", shape=Disc(radius=Number(value=60)), up=Number(value=-200),
        rate=Number(value=alive / life_s), pre_roll_s=life_s, lifespan=Number(value=life_s), spread=Number(value=90),
        speed=Number(value=320, spread=160), size=Number(value=size_px, spread=size_px / 2),
        opacity=Number(value=60, over_life=fade),
    )  # fmt: skip
    forces: tuple[Gravity | Drag | Turbulence, ...] = (
        Gravity(id="down", strength=Number(value=1.2)),
        Gravity(id="side", strength=Number(value=0.2, spread=0.1), direction=Number(value=0)),
        Drag(id="air", strength=Number(value=0.3, spread=0.1)),
    )
    if stirred:
        # One octave of moving air.
        forces += (Turbulence(id="eddies", strength=Number(value=90)),)
    links = tuple(Link(force=f.id, emitter="fountain") for f in forces)
    return Shot(name="Fountain", last_frame=frames - 1, emitters=(emitter,), forces=forces, links=links)

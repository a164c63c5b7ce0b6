"""Small words in which the demonstration is written."""

from __future__ import annotations

from isbjorn.core.document import ColourStop, Curve, CurvePoint, Gradient, Key, Link, Number, OpacityStop
from isbjorn.core.document.fields.curves import Joint


def curve(*points: tuple[float, float] | tuple[float, float, Joint]) -> Curve:
    """A curve from (age, value) or (age, value, joint)."""
    return Curve(points=tuple(CurvePoint(at=p[0], value=p[1], joint=p[2] if len(p) == 3 else "smooth") for p in points))


def ramp(colours: dict[float, str], opacities: dict[float, float]) -> Gradient:
    """A gradient from colour stops and opacity stops."""
    return Gradient(
        colours=tuple(ColourStop(at=at, colour=c) for at, c in colours.items()),
        opacities=tuple(OpacityStop(at=at, opacity=o) for at, o in opacities.items()),
    )


def keyed(*keys: tuple[float, float], joint: Joint = "smooth") -> Number:
    """A number keyed at (seconds, value)."""
    return Number(value=keys[0][1], keys=tuple(Key(at_s=at, value=value, joint=joint) for at, value in keys))


def reach(reached: dict[str, tuple[str, ...]]) -> tuple[Link, ...]:
    """Links from emitters to the forces that reach them."""
    return tuple(Link(force=force, emitter=emitter) for emitter, forces in reached.items() for force in forces)

"""Curves and ramps to start from, shown by their pictures."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel

from isbjorn.core.document.fields.curves import ColourStop, Curve, CurvePoint, Gradient, Joint, OpacityStop
from isbjorn.core.evaluate.curves import TABLE, evaluate
from isbjorn.core.evaluate.gradients import linear_to_hex, table

_Points = list[tuple[float, float, Joint]]


class CurvePreset(BaseModel):
    """A curve over life, and its values at even ages for the picture of it."""

    name: str
    curve: Curve
    picture: list[float]


class RampPreset(BaseModel):
    """A gradient over life, and its colours at even ages for the picture of it."""

    name: str
    gradient: Gradient
    picture: list[str]


class Presets(BaseModel):
    """All presets."""

    curves: list[CurvePreset]
    ramps: list[RampPreset]


_CURVES: dict[str, _Points] = {
    "Level": [(0, 1, "straight"), (1, 1, "straight")],
    "Shrink": [(0, 1, "straight"), (1, 0, "straight")],
    "Grow": [(0, 0, "straight"), (1, 1, "straight")],
    "Swell": [(0, 0, "smooth"), (0.5, 1, "smooth"), (1, 0, "smooth")],
    "In and out": [(0, 0, "straight"), (0.12, 1, "smooth"), (0.8, 1, "smooth"), (1, 0, "straight")],
    "Quick in, slow out": [(0, 0, "straight"), (0.08, 1, "smooth"), (1, 0, "smooth")],
    "Slow in, quick out": [(0, 0, "smooth"), (0.92, 1, "smooth"), (1, 0, "straight")],
    "Settle": [(0, 1, "straight"), (0.2, 0.1, "smooth"), (1, 0.1, "straight")],
    "Flare at the end": [(0, 0.4, "smooth"), (0.75, 0.3, "smooth"), (0.92, 1, "smooth"), (1, 0, "straight")],
    "Twinkle": [
        (0, 0, "straight"),
        (0.1, 1, "smooth"),
        (0.3, 0.3, "smooth"),
        (0.5, 1, "smooth"),
        (0.7, 0.3, "smooth"),
        (0.85, 0.9, "smooth"),
        (1, 0, "straight"),
    ],
    "Steps": [(0, 1, "hold"), (0.25, 0.7, "hold"), (0.5, 0.4, "hold"), (0.75, 0.15, "hold"), (1, 0, "hold")],
    "Late": [(0, 0, "hold"), (0.5, 1, "hold"), (1, 1, "hold")],
}

_RAMPS: dict[str, tuple[dict[float, str], dict[float, float]]] = {
    "Ember": ({0: "#fff0c8", 0.16: "#ffc163", 0.5: "#ff6a2b", 1: "#6b1a14"}, {}),
    "Spark": ({0: "#ffffff", 0.3: "#ffe59a", 1: "#ff8a1f"}, {0.7: 1, 1: 0}),
    "Vapour": ({0: "#59636b", 0.5: "#aab4bb", 1: "#e9eef0"}, {0: 0, 0.15: 0.7, 1: 0}),
    "Sea spray": ({0: "#ffffff", 0.4: "#cfe9f0", 1: "#6fa3b5"}, {0.5: 0.9, 1: 0}),
    "Plankton": ({0: "#d9fff6", 0.35: "#4ff0d8", 1: "#0a4f9e"}, {0: 0, 0.1: 1, 1: 0}),
    "Aurora": ({0: "#b8ffd9", 0.4: "#3fd6a8", 0.75: "#4a7bd8", 1: "#6b3fa0"}, {0: 0, 0.2: 1, 1: 0}),
    "Frost": ({0: "#ffffff", 1: "#9cc9e8"}, {}),
    "Ash": ({0: "#8a7468", 1: "#3a3a40"}, {0: 1, 1: 0.5}),
}


def presets() -> Presets:
    """The presets, with their pictures made by the engine."""
    curves = []
    for name, points in _CURVES.items():
        curve = Curve(points=tuple(CurvePoint(at=at, value=value, joint=joint) for at, value, joint in points))
        curves.append(
            CurvePreset(name=name, curve=curve, picture=evaluate(curve, np.linspace(0, 1, 49)).round(4).tolist())
        )
    ramps = []
    for name, (colours, opacities) in _RAMPS.items():
        gradient = Gradient(
            colours=tuple(ColourStop(at=at, colour=c) for at, c in colours.items()),
            opacities=tuple(OpacityStop(at=at, opacity=o) for at, o in opacities.items()),
        )
        ramps.append(
            RampPreset(
                name=name,
                gradient=gradient,
                picture=[linear_to_hex(c[:3]) for c in table(gradient)[:: TABLE // 16]],
            )
        )
    return Presets(curves=curves, ramps=ramps)

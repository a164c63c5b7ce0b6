"""Gradients over age, mixed in Oklab (Ottosson 2020, "A perceptual color space for image processing") or linear light."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document.fields.curves import Gradient
from isbjorn.core.evaluate.curves import TABLE
from isbjorn.core.runtime.memory import cached

_TO_LMS = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
_FROM_LMS, _FROM_LAB = np.linalg.inv(_TO_LMS), np.linalg.inv(_TO_LAB)


def srgb_to_linear(encoded: npt.ArrayLike) -> Doubles:
    """IEC 61966-2-1: encoded [0, 1] to linear light."""
    e = np.asarray(encoded, dtype=np.float64)
    return np.where(e <= 0.04045, e / 12.92, ((np.maximum(e, 0) + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(linear: npt.ArrayLike) -> Doubles:
    """IEC 61966-2-1: linear light to encoded, clipped to [0, 1]."""
    v = np.clip(np.asarray(linear, dtype=np.float64), 0, 1)
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * v ** (1 / 2.4) - 0.055)


def hex_to_linear(colour: str) -> Doubles:
    """`#rrggbb` to linear light, float64 (3,)."""
    return srgb_to_linear([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])


def linear_to_hex(linear: npt.ArrayLike) -> str:
    """Linear light (3,) to `#rrggbb`."""
    return "#" + "".join(f"{round(float(c) * 255):02x}" for c in linear_to_srgb(linear))


def linear_to_hexes(linear: npt.ArrayLike) -> list[str]:
    """Linear light (n, 3) to `#rrggbb` each."""
    shades = np.rint(linear_to_srgb(linear) * 255).astype(np.uint8)
    return ["#" + bytes(row).hex() for row in shades]


def oklab(linear: Doubles) -> Doubles:
    """Linear sRGB (..., 3) to Oklab."""
    return np.cbrt(linear @ _TO_LMS.T) @ _TO_LAB.T


def from_oklab(lab: Doubles) -> Doubles:
    """Oklab (..., 3) to linear sRGB, not clipped."""
    return (lab @ _FROM_LAB.T) ** 3 @ _FROM_LMS.T


def stops_at(gradient: Gradient, at: npt.ArrayLike) -> npt.NDArray[np.int64]:
    """Which colour of a stepped gradient lasts at places (n,) in [0, 1]."""
    places = np.array([stop.at for stop in gradient.colours])
    return np.maximum(0, np.searchsorted(places, np.asarray(at, np.float64), side="right") - 1).astype(np.int64)


def stops_dealt(gradient: Gradient, u: npt.ArrayLike) -> npt.NDArray[np.int64]:
    """Which colour each of even draws (n,) in [0, 1) gets, by the weights of the colours; evenly if all have none."""
    weights = np.array([stop.weight for stop in gradient.colours])
    weights = weights if weights.sum() > 0 else np.ones(len(weights))
    ends = np.cumsum(weights) / weights.sum()
    return np.minimum(np.searchsorted(ends, np.asarray(u, np.float64), side="right"), len(ends) - 1).astype(np.int64)


@cached("tables", "Tables of gradients", "the gradient", 0.25)
def table(gradient: Gradient) -> Floats:
    """A gradient as float32 (1024, 4): linear, not premultiplied red, green, blue in [0, 1], and opacity."""
    t = np.linspace(0, 1, TABLE)
    at = [stop.at for stop in gradient.colours]
    colours = np.array([hex_to_linear(stop.colour) for stop in gradient.colours])
    if gradient.mix == "stepped":
        mixed = colours[stops_at(gradient, t)]
    else:
        mixed = oklab(colours) if gradient.mix == "oklab" else colours
        mixed = np.stack([np.interp(t, at, mixed[:, c]) for c in range(3)], axis=1)
    if gradient.mix == "oklab":
        mixed = np.clip(from_oklab(mixed), 0, 1)
    opacity = np.ones(TABLE)
    if gradient.opacities:
        opacity = np.interp(t, [s.at for s in gradient.opacities], [s.opacity for s in gradient.opacities])
    return np.concatenate([mixed, opacity[:, None]], axis=1).astype(np.float32)

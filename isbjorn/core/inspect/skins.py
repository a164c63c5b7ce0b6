"""Skins that are chosen by their pictures."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from isbjorn.core.document.emitter_parts.skin import Skin
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import render_frame
from isbjorn.core.imaging.colour import shade_table
from isbjorn.core.imaging.display_encoding import to_shades
from isbjorn.core.runtime.memory import cached

PRESETS: dict[str, dict[str, Any]] = {
    "Milk": {"material": "milk", "shade": 45, "shade_colour": "#8fa3b8", "highlight": 45, "gloss": 40},
    "Metal": {
        "material": "metal", "shade": 50, "highlight": 140, "gloss": 90, "surroundings": 60, "sky_colour": "#dfe9f2",
        "ground_colour": "#30343a", "smoothing": 2,
    },
    "Water": {
        "material": "water", "level": 30, "clarity": 88, "refraction": 22, "highlight": 120, "gloss": 110, "shade": 30,
        "surroundings": 70, "sky_colour": "#cfe6f5", "ground_colour": "#16303a", "colours": "by thickness",
        "thin_colour": "#9fd3e4", "thick_colour": "#2f7f99", "thick_at": 2.5,
    },
    "Glass": {
        "material": "glass", "level": 40, "clarity": 82, "refraction": 40, "highlight": 160, "gloss": 160, "shade": 40,
        "surroundings": 45, "sky_colour": "#ffffff", "ground_colour": "#223038", "bulge": 130, "colours": "by thickness",
        "thin_colour": "#dff2ee", "thick_colour": "#6fa8a0", "thick_at": 3,
    },
    "Honey": {
        "material": "glass", "level": 34, "clarity": 38, "refraction": 18, "highlight": 110, "gloss": 70, "shade": 35,
        "shade_colour": "#5a2a06", "colours": "by thickness", "thin_colour": "#ffce5a", "thick_colour": "#a8560f", "thick_at": 2,
    },
    "Ink": {
        "material": "milk", "level": 28, "shade": 75, "shade_colour": "#05060d", "highlight": 90, "gloss": 60, "smoothing": 5,
        "colours": "by thickness", "thin_colour": "#31418f", "thick_colour": "#0b0f2e", "thick_at": 1.4,
    },
}  # fmt: skip


def skin_of(name: str) -> Skin:
    """A preset as a part of the document."""
    return Skin.model_validate(PRESETS[name])


@cached("tables", "Pictures of skins", "the preset and the size", 0.05)
def skin_picture(name: str, width: int, height: int) -> npt.NDArray[np.uint8]:
    """Some drops under a preset, over stripes that what bends them shows; shades (height, width, 3)."""
    balls = ((-0.3, 0.08, 0.4), (-0.05, -0.12, 0.5), (0.2, 0.1, 0.38), (0.41, -0.2, 0.2))
    still = {"shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0}
    stripes = [
        {
            "id": f"s{n}", **still, "across": (n - 4.5) * width / 9, "size": {"value": 1.5 * height, "spread": 0}, "angle": 58,
            "body": {"kind": "square", "softness": 0, "aspect": 6}, "colour": {"colours": [{"at": 0, "colour": "#4d7480"}]},
        }
        for n in range(10)
    ]  # fmt: skip
    drops = [
        {
            "id": f"d{n}", **still, "group": "g", "across": x * width, "up": y * height,
            "size": {"value": size * height * 1.2, "spread": 0}, "colour": {"colours": [{"at": 0, "colour": "#eef2f5"}]},
        }
        for n, (x, y, size) in enumerate(balls)
    ]  # fmt: skip
    shot = parse_shot({
        "width": width, "height": height, "background": "#182126", "emitters": [*stripes, *drops],
        "groups": [{"id": "g", "skin": skin_of(name).model_dump(mode="json")}],
    })  # fmt: skip
    return to_shades(render_frame(shot, 2), shade_table("srgb"))

"""Colour spaces to deliver in: of OpenColorIO's built-in configuration, or of a `config.ocio` of the user's."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Any

import numpy as np
import PyOpenColorIO as ocio
from pydantic import Field

from isbjorn.core.arrays import Floats
from isbjorn.core.document.fields.base import Part
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import SPACES

_WORKING = "lin_rec709_scene"
_LARGEST_CONFIG = 64 << 20
# Red, green, blue and white (x, y), by the part of an interop id (Color Interop Forum) that names them.
PRIMARIES: dict[str, tuple[float, ...]] = {
    "rec709": (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290),
    "rec2020": (0.708, 0.292, 0.170, 0.797, 0.131, 0.046, 0.3127, 0.3290),
    "p3d65": (0.680, 0.320, 0.265, 0.690, 0.150, 0.060, 0.3127, 0.3290),
    "adobergb": (0.64, 0.33, 0.21, 0.71, 0.15, 0.06, 0.3127, 0.3290),
    "ap0": (0.7347, 0.2653, 0.0, 1.0, 0.0001, -0.0770, 0.32168, 0.33767),
    "ap1": (0.713, 0.293, 0.165, 0.830, 0.128, 0.044, 0.32168, 0.33767),
}
# Code points of ITU-T H.273; 2: not said.
_PRIMARIES_CODES = {"rec709": 1, "rec2020": 9, "p3d65": 12}
_TRANSFER_CODES = {"srgb": 13, "g24": 1, "g22": 4, "pq": 16, "lin": 8, "hlg": 18, "srgbe": 13}
NOT_SAID = 2


@functools.lru_cache(maxsize=8)
def _read(path: str, changed: float) -> Any:  # noqa: ARG001
    try:
        if path and Path(path).stat().st_size > _LARGEST_CONFIG:
            raise IsbjornError(
                "this file is too large for a colour configuration (limit 64 MB).", path, "Select another file."
            )
        config = ocio.Config.CreateFromFile(path or "ocio://default")
        config.validate()
    except (ocio.Exception, OSError) as error:
        words = str(error).splitlines()[0][:300] if str(error) else "it cannot be read"
        raise IsbjornError(
            f"this is not a colour configuration ({words}).", path, "Select a config.ocio file."
        ) from None
    return config


def config_of(path: str) -> Any:
    """An OpenColorIO configuration: the built-in one, or a file's. Raises IsbjornError for an invalid file."""
    try:
        changed = Path(path).stat().st_mtime if path else 0.0
    except (OSError, ValueError) as error:
        raise IsbjornError(
            f"the colour configuration cannot be read ({getattr(error, 'strerror', error)}).",
            path,
            "Check that the file exists.",
        ) from None
    return _read(path, changed)


def spaces_of(path: str) -> tuple[list[str], list[tuple[str, str]]]:
    """What a configuration offers: its colour spaces, and its displays with their views."""
    config = config_of(path)
    spaces = [s.getName() for s in config.getColorSpaces() if not s.isData()]
    views = [(d, v) for d in config.getDisplays() for v in config.getViews(d) if v != "Raw"]
    return spaces, views


class Target(Part):
    """What the values of a file mean: a colour space, or what a view makes of it for a display."""

    space: str = Field(default="", max_length=200, description="A colour space of the configuration.")
    display: str = Field(default="", max_length=200, description="Display, instead of a colour space …")
    view: str = Field(default="", max_length=200, description="… and its view.")
    config: str = Field(
        default="", max_length=4096, description="Path of a config.ocio; empty: the built-in configuration."
    )

    @property
    def title(self) -> str:
        return f"{self.view} · {self.display}" if self.display else self.space

    def check(self) -> None:
        """Raise IsbjornError for a space or view that the configuration has not."""
        _processors(self)

    @property
    def interop_id(self) -> str:
        """What the Color Interop Forum calls it; empty where it is not known."""
        config = config_of(self.config)
        name = config.getDisplayViewColorSpaceName(self.display, self.view) if self.display else self.space
        if name == "<USE_DISPLAY_NAME>":
            name = self.display
        space = config.getColorSpace(name)
        return "" if space is None else str(space.getInteropID())

    @property
    def linear(self) -> bool:
        """Whether its values are light: then they stay premultiplied as they are."""
        if self.display:
            return False
        space = config_of(self.config).getColorSpace(self.space)
        return space is not None and (
            space.getEncoding() == "scene-linear" or self.interop_id.startswith("lin_") or _is_matrix(self)
        )

    @property
    def primaries(self) -> tuple[float, ...] | None:
        """Chromaticities of red, green, blue and white; None where they are not known."""
        return next((xy for part, xy in PRIMARIES.items() if f"_{part}_" in self.interop_id + "_"), None)

    @property
    def codes(self) -> tuple[int, int]:
        """Primaries and transfer as ITU-T H.273 numbers them; 2 for what it has no number for."""
        parts = self.interop_id.split("_")
        if len(parts) < 2:
            return NOT_SAID, NOT_SAID
        return _PRIMARIES_CODES.get(parts[1], NOT_SAID), _TRANSFER_CODES.get(parts[0], NOT_SAID)

    def applied(self, picture: Floats) -> Floats:
        """Values of linear Rec.709 light (height, width, 3 or 4), not premultiplied; a copy."""
        out = np.ascontiguousarray(picture, dtype=np.float32).copy()
        for one in _processors(self):
            one.applyRGB(out) if out.shape[-1] == 3 else one.applyRGBA(out)
        return out


@functools.lru_cache(maxsize=64)
def _is_matrix(target: Target) -> bool:
    """Whether black is black and double light doubles all values."""
    probe = np.array([[[0, 0, 0], [0.1, 0.2, 0.05], [0.2, 0.4, 0.1], [1.6, 3.2, 0.8]]], np.float32)
    found = target.applied(probe)[0]
    return bool(np.allclose(found[0], 0, atol=1e-6) and np.allclose(found[1:], found[1] * [[1], [2], [16]], rtol=1e-4))


@functools.lru_cache(maxsize=64)
def _processors(target: Target) -> tuple[Any, ...]:
    config = config_of(target.config)
    try:
        middle = config.getColorSpace(ocio.ROLE_SCENE_LINEAR)
        if not target.display:
            if not target.space or config.getColorSpace(target.space) is None:
                raise IsbjornError(
                    f"the colour configuration has no space '{target.space[:80]}'.",
                    "colour",
                    "Select one that it contains.",
                )
            if not target.config:
                return (config.getProcessor(SPACES["linear"], target.space).getDefaultCPUProcessor(),)
            into = ocio.Config.GetProcessorFromBuiltinColorSpace(_WORKING, config, target.space)
            return (into.getDefaultCPUProcessor(),)
        if (target.display, target.view) not in spaces_of(target.config)[1]:
            raise IsbjornError(
                f"the colour configuration has no view '{target.view[:80]}' for '{target.display[:80]}'.",
                "colour",
                "Select one that it contains.",
            )
        source = middle.getName() if target.config and middle is not None else SPACES["linear"]
        shown = ocio.DisplayViewTransform(source, target.display, target.view)
        last = config.getProcessor(shown).getDefaultCPUProcessor()
        if not target.config:
            return (last,)
        into = ocio.Config.GetProcessorFromBuiltinColorSpace(_WORKING, config, source)
        return into.getDefaultCPUProcessor(), last
    except ocio.Exception as error:
        raise IsbjornError(
            f"the colour configuration cannot convert it ({str(error).splitlines()[0][:300]}).",
            target.config or "colour",
            "Select another colour space.",
        ) from None

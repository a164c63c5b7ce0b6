"""What is taken from the plate: a colour, a palette, its grain."""

from __future__ import annotations

from typing import Annotated

import cv2
import numpy as np
import numpy.typing as npt
from fastapi import APIRouter, Depends, Query
from pydantic import BaseModel

from isbjorn.core.document import ColourStop
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.gradients import from_oklab, linear_to_hex, oklab
from isbjorn.core.frame import ground
from isbjorn.core.media.exchange.tracking import grain_of
from isbjorn.studio.context import Frame, Id, Studio, studio_of
from isbjorn.studio.preview.preview import scale_for

router = APIRouter(prefix="/api", tags=["plate"])
Px = Annotated[float, Query(ge=-1e6, le=1e6)]
Here = Annotated[Studio, Depends(studio_of)]
_MOST_SAMPLES = 4000


class Picked(BaseModel):
    """A colour of the plate."""

    colour: str


class Palette(BaseModel):
    """Colours of a region of the plate, from dark to light, as stops of a gradient."""

    stops: list[ColourStop]


class GrainFound(BaseModel):
    """The plate's grain: deviation in % of white as encoded, and the size of a grain in px."""

    amount: float
    size: float


def _region(
    studio: Studio, shot_id: int, frame: int, x0: float, y0: float, x1: float, y1: float
) -> npt.NDArray[np.float32]:
    """Linear colours (n, 3) of the plate in a rectangle of px from the top left corner; at least one pixel."""
    shot = studio.store.document(shot_id)
    held = shot.nearest_frame(frame)
    below = ground(shot, held, scale_for(shot, shot.width), studio.plates)
    if below is None:
        raise IsbjornError("the shot has no plate.", "plate", "Add a plate first.")
    height, width = below.shape[:2]
    x0, y0, x1, y1 = (
        x0 * width / shot.width,
        y0 * height / shot.height,
        x1 * width / shot.width,
        y1 * height / shot.height,
    )
    left, right = (int(max(0, min(width - 1, v))) for v in sorted((x0, x1)))
    top, bottom = (int(max(0, min(height - 1, v))) for v in sorted((y0, y1)))
    return np.asarray(below[top : bottom + 1, left : right + 1, :3].reshape(-1, 3))


@router.get("/shots/{shot_id}/pick")
def pick(studio: Here, shot_id: Id, frame: Frame, x: Px, y: Px, radius: Px = 2.0) -> Picked:
    """The mean colour of the plate around a place (px of the design size, from the top left), averaged in linear light."""
    reach = max(0.5, min(radius, 64))
    patch = _region(studio, shot_id, frame, x - reach, y - reach, x + reach, y + reach)
    return Picked(colour=linear_to_hex(patch.mean(axis=0)))


@router.get("/shots/{shot_id}/palette")
def palette(
    studio: Here,
    shot_id: Id,
    frame: Frame,
    x0: Px,
    y0: Px,
    x1: Px,
    y1: Px,
    count: Annotated[int, Query(ge=2, le=12)] = 5,
) -> Palette:
    """The colours that make up a region of the plate: k-means in Oklab, from dark to light."""
    region = _region(studio, shot_id, frame, x0, y0, x1, y1).astype(np.float64)
    step = max(1, len(region) // _MOST_SAMPLES)
    lab = oklab(np.maximum(region[::step], 0)).astype(np.float32)
    different = np.unique(lab, axis=0)
    if len(different) <= count:
        # Fewer colours than are asked for: all of them.
        return _stops(different)
    criteria = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 40, 1e-4)
    cv2.setRNGSeed(1)
    _, _, centres = cv2.kmeans(lab, count, np.empty((len(lab), 1), np.int32), criteria, 3, cv2.KMEANS_PP_CENTERS)
    return _stops(np.asarray(centres))


def _stops(lab: npt.NDArray[np.floating]) -> Palette:
    """Colours (n, 3) in Oklab as stops, from dark to light."""
    ordered = lab[np.argsort(lab[:, 0])].astype(np.float64)
    colours = [linear_to_hex(c) for c in np.maximum(0, from_oklab(ordered))]
    at = np.linspace(0, 1, len(colours)) if len(colours) > 1 else [0.0]
    return Palette(stops=[ColourStop(at=round(float(a), 4), colour=c) for a, c in zip(at, colours, strict=True)])


@router.get("/shots/{shot_id}/grain")
def grain(studio: Here, shot_id: Id, frame: Frame) -> GrainFound:
    """The plate's grain about a frame, to be matched."""
    shot = studio.store.document(shot_id)
    if shot.plate is None:
        raise IsbjornError("the shot has no plate.", "plate", "Add a plate first.")
    amount, size = grain_of(shot, studio.plates, shot.nearest_frame(frame))
    return GrainFound(amount=round(100 * amount, 2), size=round(size, 2))

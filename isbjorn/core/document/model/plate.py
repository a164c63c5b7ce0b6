"""The footage under the particles."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from isbjorn.core.document.fields.base import MediaName, Part
from isbjorn.core.time import LONGEST_RATE, frame_rate, rate_text

Encoding = Literal["auto", "srgb", "rec709", "linear", "acescg"]


class Plate(Part):
    """A movie, a numbered sequence or a still, placed in shot time by seconds."""

    name: str = Field(default="Plate", min_length=1, max_length=120)
    on: bool = True
    media: MediaName = Field(
        min_length=1, description="Movie or picture file, or a numbered sequence such as `pier.####.exr`."
    )
    rate: str | None = Field(
        default=None,
        max_length=LONGEST_RATE,
        description="Frame rate of a numbered sequence, in frames per second; empty: the shot's. A movie has its own.",
    )
    offset_s: float = Field(
        default=0.0,
        ge=-86_400,
        le=86_400,
        title="Start (s)",
        description="Shot time of the plate's first frame, in seconds.",
    )
    beyond: Literal["hold", "loop", "blank"] = Field(
        default="hold", description="What is shown before the plate's first frame and after its last."
    )
    encoding: Encoding = Field(
        default="auto", description="Encoding of the plate's pixels; auto reads it from the file."
    )
    fit: Literal["fill", "fit", "pixels"] = Field(
        default="fill", description="How the plate is fitted to the picture's size."
    )

    @field_validator("rate")
    @classmethod
    def _rate(cls, given: str | None) -> str | None:
        return None if given is None else rate_text(frame_rate(given))

"""Sounds of a shot, and what of a sound drives a number. The engine side is `isbjorn.core.evaluate.hearing`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.fields.base import AffectsLooks, Digest, MediaName, Part, ShownIf, new_id
from isbjorn.core.document.fields.curves import Curve

BANDS: dict[str, tuple[float, float]] = {"bass": (20, 250), "middle": (250, 4000), "treble": (4000, 20_000)}


class Sound(Part):
    """A sound file, or the plate's own sound: it is heard while the shot plays and in movies, and may drive any number."""

    id: str = Field(default_factory=lambda: new_id("sound"), min_length=1, max_length=60)
    name: Annotated[str, AffectsLooks()] = Field(default="Sound", min_length=1, max_length=80)
    on: bool = True
    media: MediaName
    digest: Digest
    of_plate: bool = Field(
        default=False, title="Starts with the plate", description="Starts the sound together with the plate."
    )
    offset_s: Annotated[float, ShownIf("of_plate", False)] = Field(
        default=0,
        ge=-86_400,
        le=86_400,
        title="Start (s)",
        description="Shot time at which the sound starts, in seconds.",
    )
    gain_db: Annotated[float, AffectsLooks()] = Field(
        default=0,
        ge=-60,
        le=24,
        title="Gain (dB)",
        description="Playback volume, in dB; does not change the values that the sound drives.",
    )
    heard: Annotated[bool, AffectsLooks()] = Field(
        default=True, description="Plays the sound; off: it drives numbers without being heard."
    )


class Hearing(Part):
    """What of a sound is measured. Levels are against a full-scale sine: 1, or 0 dB; onsets and beats are 1 (an onset: its
    strength) when they come, and fade by the release."""

    what: Literal["level", "peak", "bass", "middle", "treble", "band", "onsets", "beats"] = Field(
        default="level", title="Measure",
        description="What is measured. level: RMS of all frequencies; bass: up to 250 Hz; middle: up to 4 "
            "kHz; treble: above; band: RMS between two frequencies.",
    )  # fmt: skip
    from_hz: Annotated[float, ShownIf("what", "band")] = Field(default=80, ge=20, le=20_000, title="From (Hz)")
    to_hz: Annotated[float, ShownIf("what", "band")] = Field(default=160, ge=20, le=20_000, title="To (Hz)")
    scale: Literal["linear", "decibels"] = Field(default="linear", description="Measures in decibels, from -90 to 0.")
    attack_s: float = Field(
        default=0.005, ge=0, le=10, title="Attack (s)", description="Time in which the value rises by 63 %, in seconds."
    )
    release_s: float = Field(
        default=0.2, ge=0, le=60, title="Release (s)", description="Time in which the value falls by 63 %, in seconds."
    )
    threshold_db: float = Field(
        default=-90,
        ge=-90,
        le=0,
        title="Threshold (dB)",
        description="Softer sounds count as silence; for onsets, the threshold of their strength.",
    )
    curve: Curve | None = Field(
        default=None, description="Curve from the measured range, 0 to 1, to the result; none: straight."
    )

    @model_validator(mode="after")
    def _band(self) -> Hearing:
        if self.what == "band" and self.to_hz <= self.from_hz:
            raise PydanticCustomError(
                "empty_band", "a band from {a} to {b} Hz is empty", {"a": self.from_hz, "b": self.to_hz}
            )
        return self

    @property
    def band(self) -> tuple[float, float] | None:
        """Its frequencies in Hz; None where it is no band."""
        return (self.from_hz, self.to_hz) if self.what == "band" else BANDS.get(self.what)

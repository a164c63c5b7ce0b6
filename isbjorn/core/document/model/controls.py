"""Controls: named values between 0 and 1 that a hand, a controller or a tracker moves, and that lead any number."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from isbjorn.core.document.fields.base import AffectsLooks, Part, RefTo, new_id
from isbjorn.core.document.fields.values import Number, Spec

_TEXT = r"^[^\x00-\x1f\x7f]*$"


class Incoming(Part):
    """Where a control's value comes from: a number of an OSC message, and what of it is 0 and 1."""

    address: str = Field(
        default="",
        max_length=200,
        pattern=_TEXT,
        title="Address",
        description="Address of the control: for OSC, such as /desk/1 (/desk/1#2 is its second number); "
        "for MIDI, such as /midi/1/cc/7; for the stage, such as /pointer/x.",
    )
    low: float = Field(default=0, ge=-1e6, le=1e6, title="Value at 0", description="Incoming value that counts as 0.")
    high: float = Field(default=1, ge=-1e6, le=1e6, title="Value at 1", description="Incoming value that counts as 1.")
    smooth_s: float = Field(
        default=0,
        ge=0,
        le=10,
        title="Smoothing (s)",
        description="Time in which the value covers 63 % of a change, in seconds.",
    )

    def scaled(self, arrived: float) -> float:
        """What arrived as a value of the control, in [0, 1]."""
        span = self.high - self.low
        return min(1.0, max(0.0, (arrived - self.low) / span)) if span else float(arrived >= self.low)


class Control(Part):
    """A named value. It rests where it was left, or follows its keys; any number may be led by it (source: number)."""

    id: str = Field(default_factory=lambda: new_id("control"), min_length=1, max_length=60)
    name: Annotated[str, AffectsLooks()] = Field(default="Control", min_length=1, max_length=80)
    value: Annotated[
        Number,
        Spec(
            unit="",
            low=0,
            high=1,
            clock="shot",
            step=0.01,
            spread=False,
            help="Value of the control, from 0 to 1.",
            sources=("number", "sound"),
        ),
    ] = Number(value=0.5)
    comes_from: Incoming = Field(default_factory=Incoming)
    take: Annotated[str | None, RefTo(("takes",))] = Field(
        default=None, max_length=60, description="Id of the take that the control plays, instead of its value and keys."
    )
    lane: str = Field(
        default="",
        max_length=80,
        pattern=_TEXT,
        description="Lane of the take; empty for the lane named like the control.",
    )

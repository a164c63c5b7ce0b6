"""A strand that hangs, stands or trails from each birth. The engine side is `isbjorn.core.simulate.integrators.strands`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import AffectsLooks, Part, RefTo, ShownIf
from isbjorn.core.document.fields.placed import FAR
from isbjorn.core.document.fields.values import Number, Spec, timed_spec

MOST_JOINTS = 400
_LOOK = AffectsLooks()


class Strand(Part):
    """Each birth is the root of a chain of joints that bends and hangs: a thread, a stem, a string of lights."""

    on: bool = True
    joints: int = Field(
        default=24, ge=2, le=MOST_JOINTS, description="Number of joints of each strand, including root and foot."
    )
    length: Annotated[
        Number,
        Spec(
            unit="px",
            low=1,
            high=FAR,
            clock="shot",
            step=10,
            life=True,
            sources=("number", "sound"),
            help="Length of each strand from root to foot, in px.",
        ),
    ] = Number(value=300)
    stiffness: Annotated[
        Number,
        timed_spec("/s", 0, 1000, "How often a strand sways per second when only its root is held; 0 is limp.", 0.1),
    ] = Number(value=0.4)
    damping: Annotated[
        Number,
        timed_spec(
            "%",
            0,
            1000,
            "Damping of the swaying, in per cent; at 100 the strand comes to rest without overshooting.",
            5,
        ),
    ] = Number(value=25)
    root: Literal["held", "free"] = Field(
        default="held",
        description="What the root does. held: it stays with its source; free: it flies like any particle.",
    )
    upright: Annotated[bool, ShownIf("root", "held")] = Field(
        default=False,
        title="Root keeps its direction",
        description="Lets the strand grow out of its root, like a stem; otherwise it hangs from it.",
    )
    foot: Annotated[str | None, RefTo(("zones",), none="Free")] = Field(
        default=None, max_length=60, title="Foot held in",
        description="Zone that holds the foot, at the place nearest to where it would hang; the foot moves "
            "with the zone.",
    )  # fmt: skip
    slack: Annotated[
        Number,
        timed_spec("%", 0, 99, "Slack: how much nearer the foot is held than the strand is long, in per cent.", 1),
    ] = Number(value=6)
    foot_weight: Annotated[
        Number, timed_spec("×", 0, 1000, "Weight at the foot, in multiples of a joint's weight.", 0.5)
    ] = Number(value=0)
    width: Annotated[
        Number, timed_spec("%", 0, 1000, "Width at the root, in per cent of the particle's size.", 5), _LOOK
    ] = Number(value=100)
    tip: Annotated[
        Number,
        timed_spec("%", 0, 1000, "Width at the foot, in per cent of the width at the root.", 5, "Width at the foot"),
        _LOOK,
    ] = Number(value=30)
    softness: Annotated[
        Number, timed_spec("%", 0, 100, "Share of the width over which the edge fades out, in per cent.", 5), _LOOK
    ] = Number(value=20)
    bodies: Annotated[Literal["none", "at the foot", "at all joints"], _LOOK] = Field(
        default="none", title="Bodies", description="Where the emitter's body is drawn on the strand, turned with it."
    )
    line: Annotated[bool, _LOOK] = Field(
        default=True, title="Line shown", description="Draws the strand as a line; off: only its bodies."
    )

"""A strand: what hangs, stands or trails from each birth. The engine side is `isbjorn.core.simulate.integrators.strands`."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from isbjorn.core.document.base import Looks, Part, RefTo, ShownIf
from isbjorn.core.document.placed import FAR
from isbjorn.core.document.values import Number, Spec, timed_spec

MOST_JOINTS = 400
_LOOK = Looks()


class Strand(Part):
    """Each birth is the root of a chain of joints, as long as it is, which bends and hangs: a thread, a stem, a string of
    lights."""

    on: bool = True
    joints: int = Field(
        default=24, ge=2, le=MOST_JOINTS, description="Of each strand, its root and its foot with them."
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
            help="From root to foot.",
        ),
    ] = Number(value=300)
    stiffness: Annotated[
        Number,
        timed_spec("/s", 0, 1000, "How often it sways in a second if nothing but its root holds it; 0: limp.", 0.1),
    ] = Number(value=0.4)
    damping: Annotated[
        Number, timed_spec("%", 0, 1000, "Of its swaying; at 100 it comes to rest without swinging over.", 5)
    ] = Number(value=25)
    root: Literal["held", "free"] = Field(
        default="held", description="held: it stays with its source, wherever that goes; free: it flies as all do."
    )
    upright: Annotated[bool, ShownIf("root", "held")] = Field(
        default=False,
        title="Root keeps its direction",
        description="It stands out of its root, as a stem; else it hangs from it.",
    )
    foot: Annotated[str | None, RefTo(("zones",), none="Free")] = Field(
        default=None, max_length=60, title="Foot held in",
        description="A zone in which its foot stays, where it is nearest to where it would hang; it goes along with the zone.",
    )  # fmt: skip
    slack: Annotated[Number, timed_spec("%", 0, 99, "By so much nearer a foot is held than its strand is long.", 1)] = (
        Number(value=6)
    )
    foot_weight: Annotated[Number, timed_spec("×", 0, 1000, "Hung at its foot, of what a joint weighs.", 0.5)] = Number(
        value=0
    )
    width: Annotated[Number, timed_spec("%", 0, 1000, "At its root, of the particle's size.", 5), _LOOK] = Number(
        value=100
    )
    tip: Annotated[Number, timed_spec("%", 0, 1000, "Of that, at its foot.", 5, "Width at the foot"), _LOOK] = Number(
        value=30
    )
    softness: Annotated[Number, timed_spec("%", 0, 100, "How much of it is edge.", 5), _LOOK] = Number(value=20)
    bodies: Annotated[Literal["none", "at the foot", "at all joints"], _LOOK] = Field(
        default="none", title="Bodies", description="Where the emitter's body is drawn on it; turned with the strand."
    )
    line: Annotated[bool, _LOOK] = Field(default=True, title="Line shown", description="Off: only the bodies are seen.")

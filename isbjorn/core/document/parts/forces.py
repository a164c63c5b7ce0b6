"""The world: forces, deformers, surfaces and what takes particles away. The engine side of each kind is one file in
`isbjorn.core.simulate.forces`."""

from __future__ import annotations

import zlib
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import Field

from isbjorn.core.document.fields.base import Part, RefTo, new_id
from isbjorn.core.document.fields.placed import Placed
from isbjorn.core.document.fields.values import Spec, timed_spec


def strength_spec(unit: str, low: float, high: float, help: str, step: float = 1.0) -> Spec:
    """A strength: keyed in shot time, varied per particle by its spread, and scaled over life."""
    measures = ("speed", "distance", "number", "since touch", "since caught")
    return Spec(unit=unit, low=low, high=high, clock="shot", step=step, life=True, help=help, sources=measures)  # type: ignore[arg-type]


Way = Spec(
    unit="°", low=-36000, high=36000, clock="shot", help="Angle in degrees, counter-clockwise; 0 is right, 90 is up."
)
Tilt = timed_spec("°", -180, 180, "Tilt out of the picture toward the viewer, in degrees.")


class Acting(Placed):
    """What all things of the world have: a name, a switch, a place, and an optional zone that limits them.

    Class attributes describe a kind to the engine: `stage` (look: it shifts only what is drawn; interaction: it acts between
    particles), `calm` (motion under it is smooth between two steps), `goes_abreast` (the batched integrator supports it), `carries`
    (it moves places directly), `solid` (particles touch it), `pushes` (bodies collide by their sizes), `catching` (particles catch
    a state), `has_field` (its effect can be drawn as arrows), `mirrored` (numbers that change sign in a mirror), `starts` (it can
    move a particle that is at rest).
    """

    stage: ClassVar[Literal["motion", "look", "interaction"]] = "motion"
    calm: ClassVar[bool] = False
    goes_abreast: ClassVar[bool] = False
    carries: ClassVar[bool] = False
    solid: ClassVar[bool] = False
    pushes: ClassVar[bool] = False
    catching: ClassVar[bool] = False
    has_field: ClassVar[bool] = True
    starts: ClassVar[bool] = True
    mirrored: ClassVar[tuple[str, ...]] = ()
    if TYPE_CHECKING:
        kind: str

    id: str = Field(default_factory=lambda: new_id("force"), min_length=1, max_length=60)
    name: str = Field(default="Force", min_length=1, max_length=80)
    on: bool = True
    zone: Annotated[str | None, RefTo(("zones",))] = Field(
        default=None, max_length=60, description="Id of the zone that the force acts in."
    )
    draws: int | None = Field(
        default=None, ge=0, le=2**32 - 1,
        description="Name from which particles draw their variation; empty: the force's own id. A copied "
            "force keeps it, and so acts in the same way.",
    )  # fmt: skip
    frame: Literal["shot", "emitter"] = Field(
        default="shot",
        title="Space",
        description="Space of the force. emitter: position and rotation are relative to the emitter, and follow it.",
    )

    @property
    def own_draws(self) -> int:
        """The number of its draws."""
        return zlib.crc32(self.id.encode()) if self.draws is None else self.draws

    @property
    def takes_away(self) -> bool:
        """Whether particles may end by it."""
        return False

    @property
    def reads_plate(self) -> bool:
        """Whether what it does depends on the plate."""
        return False

    @property
    def evolving(self) -> bool:
        """Whether it changes with time without a key."""
        return False

    @property
    def weight(self) -> float:
        """Cost of a step of a particle, as a multiple of a plain one. Faces of a model that it meets come on top."""
        return 0.3

    @property
    def differs_by_emitter(self) -> bool:
        """Whether it acts differently on an emitter by its position in the cast."""
        return False

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        """How the closed form integrates it as it is set now: as a constant acceleration, as a resistance proportional to speed,
        or, if empty, not at all. Its kernel (`integrators/steps`) knows these two forces; those of extensions are stepped."""
        return ""

    def placed_new(self, height: int) -> tuple[Self, tuple[Part, ...]]:  # noqa: ARG002
        """It as it begins in a shot of a height in px, and the zones that come with it."""
        return self, ()

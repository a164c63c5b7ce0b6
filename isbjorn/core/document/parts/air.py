"""Forces of the surroundings: gravity, drag, wind, and noise."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from isbjorn.core.document.fields.base import LARGEST_SEED, Gripped
from isbjorn.core.document.fields.kinds import FORCES, shown
from isbjorn.core.document.fields.placed import FAR
from isbjorn.core.document.fields.values import Number, timed_spec
from isbjorn.core.document.parts.forces import Acting, Tilt, Way, strength_spec


@FORCES.register("isbjorn.core.simulate.forces.gravity")
class Gravity(Acting):
    """A constant acceleration in one direction. Mass does not change it."""

    model_config = shown(
        "Gravity", "M12 4v14m0 0-4-4m4 4 4-4M5 21h14",
        "Pulls everything it reaches the same way, light or heavy. 9.81 m/s² is the Earth’s; point it up for rising heat.",
        "Forces",
        located=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["gravity"] = "gravity"
    name: str = Field(default="Gravity", min_length=1, max_length=80)
    strength: Annotated[
        Number,
        strength_spec(
            "m/s²", -1e4, 1e4, "Acceleration in m/s², converted by the shot's px per metre; the Earth's is 9.81.", 0.1
        ),
    ] = Number(value=9.81)
    direction: Annotated[Number, Way, Gripped(turns=True)] = Number(value=270)
    tilt: Annotated[Number, Tilt] = Number(value=0)

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        return "acceleration" if self.strength.same_for_life and not (self.direction.timed or self.tilt.timed) else ""


@FORCES.register("isbjorn.core.simulate.forces.drag")
class Drag(Acting):
    """Resistance of the air: after 1/strength seconds a free particle keeps 37 % of its speed."""

    model_config = shown(
        "Drag", "M3 9h11a3 3 0 1 0-3-3M3 13h15a3 3 0 1 1-3 3M3 17h7",
        "Reduces speed, and is stable at any strength. Quadratic drag grows with speed.",
        "Forces",
        located=False,
        framed=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    has_field: ClassVar[bool] = False
    starts: ClassVar[bool] = False
    kind: Literal["drag"] = "drag"
    name: str = Field(default="Drag", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("1/s", 0, 1e6, "Rate at which speed is lost, per second.", 0.1)] = Number(
        value=0.5
    )
    law: Literal["linear", "quadratic"] = Field(
        default="linear",
        title="Drag law",
        description="How drag grows with speed. quadratic: the rate is proportional to speed, and has the "
        "given value at 100 px/s.",
    )

    @property
    def closed_form(self) -> Literal["", "acceleration", "resistance"]:
        return "resistance" if self.strength.same_for_life and self.law == "linear" else ""


@FORCES.register("isbjorn.core.simulate.forces.wind")
class Wind(Acting):
    """Moving air: particles approach its velocity."""

    model_config = shown(
        "Wind", "M3 8h10a2.6 2.6 0 1 0-2.6-2.6M3 13h16M3 18h8a2.4 2.4 0 1 1-2.4 2.4",
        "Moving air: particles take on its speed, the lighter the sooner.",
        "Forces",
        located=False,
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["wind"] = "wind"
    name: str = Field(default="Wind", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px/s", -1e5, 1e5, "Speed of the air, in px/s.", 5)] = Number(value=120)
    direction: Annotated[Number, Way, Gripped(turns=True)] = Number(value=0)
    tilt: Annotated[Number, Tilt] = Number(value=0)
    grip: Annotated[
        Number,
        timed_spec("1/s", 0, 1e6, "How quickly particles take on the wind's speed, per second.", 0.1, title="Response"),
    ] = Number(value=1)


class Noise(Acting):
    """What turbulence and displacement share: noise of several octaves."""

    noise: Literal["gradient", "cellular"] = "gradient"
    size: Annotated[Number, timed_spec("px", 1, FAR, "Size of the largest eddies, in px.", 5)] = Number(value=220)
    octaves: int = Field(default=1, ge=1, le=8)
    lacunarity: Annotated[
        Number,
        timed_spec("×", 1, 8, "How much finer each octave is than the previous one.", 0.1, title="Frequency ratio"),
    ] = Number(value=2)
    gain: Annotated[
        Number,
        timed_spec("×", 0, 2, "Strength of each octave compared with the previous one.", 0.05, title="Amplitude ratio"),
    ] = Number(value=0.5)
    evolve: Annotated[
        Number, timed_spec("/s", 0, 100, "How often the turbulence changes completely, per second.", 0.05)
    ] = Number(value=0.3)
    along_x: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along x; 0 switches this axis off.", 5)
    ] = Number(value=100)
    along_y: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along y; 0 switches this axis off.", 5)
    ] = Number(value=100)
    along_z: Annotated[
        Number, timed_spec("%", 0, 1000, "Stretches the eddies along z; 0 switches this axis off.", 5)
    ] = Number(value=0)
    apart: Annotated[
        Number,
        timed_spec(
            "px",
            0,
            FAR,
            "Shifts the turbulence between one emitter and the next, in px.",
            10,
            title="Offset per emitter",
        ),
    ] = Number(value=0)
    seed: int = Field(default=1, ge=0, le=LARGEST_SEED)

    @property
    def evolving(self) -> bool:
        return self.evolve.value != 0

    @property
    def weight(self) -> float:
        deep = all(n.value > 0 or n.timed for n in (self.along_x, self.along_y, self.along_z))
        return float(self.octaves * (4 if deep else 1) * (2 if self.noise == "cellular" else 1))

    @property
    def differs_by_emitter(self) -> bool:
        return self.apart.value != 0 or self.apart.timed


@FORCES.register("isbjorn.core.simulate.forces.turbulence")
class Turbulence(Noise):
    """Eddies of moving air without sources or sinks: curl of noise (Bridson, Hourihan, Nordenstam 2007)."""

    model_config = shown(
        "Turbulence", "M3 7c4-4 6 4 10 0s5-1 8 0M3 13c4-4 6 4 10 0s5-1 8 0M3 19c4-4 6 4 10 0s5-1 8 0",
        "Eddies of air that neither gather nor scatter. The lane of its strength says when in life it sets in.",
        "Forces",
    )  # fmt: skip
    calm: ClassVar[bool] = True
    goes_abreast: ClassVar[bool] = True
    kind: Literal["turbulence"] = "turbulence"
    name: str = Field(default="Turbulence", min_length=1, max_length=80)
    strength: Annotated[
        Number, strength_spec("px/s", 0, 1e5, "Typical speed of the air in the eddies, in px/s.", 5)
    ] = Number(value=80)
    grip: Annotated[
        Number,
        timed_spec(
            "1/s", 0, 1e6, "How quickly particles take on the turbulence's speed, per second.", 0.1, title="Response"
        ),
    ] = Number(value=2)


@FORCES.register("isbjorn.core.simulate.forces.displacement")
class Displacement(Noise):
    """Shifts what is seen of place and size by noise, and does not add up: taken away, all is as it was."""

    model_config = shown(
        "Displacement", "M4 5v14M4 12h5M20 5c-4 3-4 11 0 14M12 5c-3 3-3 11 0 14",
        "Shifts what is seen, and leaves the motion alone: at 0 everything is where it was.",
        "Forces",
    )  # fmt: skip
    stage: ClassVar[Literal["motion", "look", "interaction"]] = "look"
    calm: ClassVar[bool] = True
    kind: Literal["displacement"] = "displacement"
    name: str = Field(default="Displacement", min_length=1, max_length=80)
    strength: Annotated[Number, strength_spec("px", 0, FAR, "Typical distance of the displacement, in px.", 5)] = (
        Number(value=40)
    )
    swell: Annotated[
        Number,
        timed_spec(
            "%", 0, 1000, "How much the displacement changes the particles' size, in per cent.", 5, title="Size amount"
        ),
    ] = Number(value=0)

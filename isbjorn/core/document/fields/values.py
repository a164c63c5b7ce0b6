"""The one type of every number, and the metadata that says how each may be driven.

All drivers of a number combine in one order, which the page shows: the plain value or its keys; the flutter, added or
multiplied; the source, added or multiplied; the spread, added; the over-life curve, multiplied.
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, GetCoreSchemaHandler, GetJsonSchemaHandler, model_validator
from pydantic.functional_validators import AfterValidator
from pydantic_core import CoreSchema, PydanticCustomError, core_schema

from isbjorn.core.document.fields.base import LARGEST_SEED, Part, RefTo
from isbjorn.core.document.fields.curves import Curve, Ease, Joint, in_order
from isbjorn.core.document.fields.sounds import Hearing

Clock = Literal["shot", "birth", "age", "none"]
Combine = Literal["add", "multiply"]
Measure = Literal["speed", "emitter speed", "distance", "plate", "number", "sound", "since touch", "since caught"]
# Seconds since something happened to a particle; -1 as long as it has not.
SINCE: tuple[Measure, ...] = ("since touch", "since caught")
LONGEST_S = 86_400.0
Moment = Annotated[float, Field(ge=-LONGEST_S, le=LONGEST_S)]


class Key(Part):
    """A keyed value at a moment of the shot."""

    at_s: Moment = Field(description="Shot time of the key, in seconds.")
    value: float = Field(ge=-1e9, le=1e9)
    joint: Joint = Field(
        default="smooth", description="How the value passes through the key; hold keeps it until the next key."
    )
    ease: Ease | None = Field(
        default=None, description="Exact shape of the segment to the next key, as in CSS cubic-bezier."
    )

    @property
    def at(self) -> float:
        """Position on the axis, as for every point of a curve."""
        return self.at_s


class Flutter(Part):
    """A smooth random swing about the value."""

    times_per_s: float = Field(default=3, ge=0, le=1000, description="Number of complete swings per second.")
    amount: float = Field(default=1, ge=-1e6, le=1e6, description="Maximum deviation; a factor if it is multiplied.")
    seed: int = Field(default=0, ge=0, le=LARGEST_SEED)
    combine: Combine = "add"


class Source(Part):
    """Another measured thing drives the number: the measure from low to high makes from `makes_low` to `makes_high`."""

    measure: Measure
    thing: Annotated[str | None, RefTo(("placed",), dotted=True, whole=True)] = Field(
        default=None,
        max_length=120,
        description="Id of the thing that distance is measured to, or the driving number as `id.field`.",
    )
    sound: Annotated[str | None, RefTo(("sounds",), whole=True)] = Field(
        default=None, max_length=60, description="Id of the sound that drives the number."
    )
    hears: Hearing = Field(default_factory=Hearing, description="What is measured of the sound.")
    low: float = Field(default=0, ge=-1e9, le=1e9)
    high: float = Field(default=1, ge=-1e9, le=1e9)
    makes_low: float = Field(default=0, ge=-1e9, le=1e9)
    makes_high: float = Field(default=1, ge=-1e9, le=1e9)
    combine: Combine = "multiply"


class Number(Part):
    """A number and all that may drive it. A bare number in a file is read as its value."""

    value: float = Field(description="Plain value, in the unit of its field.")
    spread: float = Field(
        default=0.0, ge=0, description="Variation: each particle draws from value ± spread, in the same unit."
    )
    spread_shape: Literal["even", "bell"] = Field(
        default="even",
        description="Distribution of the variation. even: uniform within ± spread; bell: normal, with a "
        "standard deviation of half the spread and no values beyond it.",
    )
    over_life: Curve | None = Field(default=None, description="Multiplies the value over each particle's life.")
    over_life_to: Curve | None = Field(
        default=None, description="Second curve; each particle follows its own curve between the two."
    )
    keys: Annotated[tuple[Key, ...], AfterValidator(in_order)] = Field(
        default=(), max_length=4096, description="Values over shot time, instead of the plain value."
    )
    flutter: Flutter | None = Field(default=None, description="Adds a smooth random swing.")
    source: Source | None = Field(default=None, description="Lets another measured value drive the number.")
    off: tuple[Literal["spread", "over life", "keys", "flutter", "source", "all"], ...] = Field(
        default=(), max_length=6,
        description="Drivers that are switched off for comparison; all: the number is treated as undriven.",
    )  # fmt: skip
    reads: Literal["birth", "life"] = Field(
        default="birth",
        description="When keys, flutter and source are read: once at birth, or throughout life.",
    )

    @model_validator(mode="before")
    @classmethod
    def _bare(cls, given: Any) -> Any:
        if isinstance(given, (int, float)) and not isinstance(given, bool):
            return {"value": given}
        return given

    @property
    def timed(self) -> bool:
        """Whether shot time changes it."""
        return bool(self.keys) or self.flutter is not None or (self.source is not None)

    @property
    def same_for_life(self) -> bool:
        """Whether a particle reads the same value all its life."""
        return not self.timed and self.over_life is None


_BOUNDS = "bounds of its field"


def bounds_of(number: Number) -> tuple[float, float]:
    """The range of a number's field; readings of the number stay within."""
    found: tuple[float, float] = number.__dict__.get(_BOUNDS, (-math.inf, math.inf))
    return found


_SOURCES: dict[Clock, tuple[Measure, ...]] = {
    "birth": ("emitter speed", "distance", "plate", "number", "sound"),
    "age": ("speed", "emitter speed", "distance", "plate", "number", "sound", *SINCE),
    "shot": ("number", "sound"),
    "none": (),
}


@dataclass(frozen=True)
class Spec:
    """How a number field is shown and what may drive it. Goes into the JSON Schema under `isbjorn`.

    unit: shown behind the value. low, high: the accepted range. step: the change per press of an arrow key. clock: how it is read:
    `birth` (drawn once by each particle), `age` (read through life), `shot` (read by shot time), `none` (a setting). spread, life:
    whether these drivers are offered. sources: the measures that may drive it; None: those of its clock. title: its label, where
    the field's name is none.
    """

    unit: str
    low: float
    high: float
    clock: Clock = "birth"
    step: float = 1.0
    spread: bool = True
    life: bool = False
    help: str = ""
    sources: tuple[Measure, ...] | None = None
    title: str = ""

    @property
    def measures(self) -> tuple[Measure, ...]:
        """The measures that may drive it."""
        return _SOURCES[self.clock] if self.sources is None else self.sources

    def check(self, number: Number) -> Number:
        """Return the number, or raise a PydanticCustomError that says what is wrong and what is allowed."""
        unit = f" {self.unit}" if self.unit else ""
        allowed = f"use {self.low:g} to {self.high:g}{unit}"
        for named, value in [("", number.value)] + [(f"the key at {k.at_s:g} s, ", k.value) for k in number.keys]:
            if not self.low <= value <= self.high:
                raise PydanticCustomError(
                    "out_of_range", "{n}{v} is out of range; {a}", {"n": named, "v": f"{value:g}{unit}", "a": allowed}
                )
        if number.spread > 2 * max(abs(self.low), abs(self.high)):
            raise PydanticCustomError(
                "out_of_range", "a spread of {v} is wider than the whole range", {"v": number.spread}
            )
        timed = self.clock != "none"
        offered = {
            "spread": (self.spread, number.spread > 0),
            "an over-life curve": (self.life, number.over_life is not None or number.over_life_to is not None),
            "keys": (timed, bool(number.keys)),
            "flutter": (timed, number.flutter is not None),
            "a source": (bool(self.measures), number.source is not None),
        }
        for name, (allowed_here, used) in offered.items():
            if used and not allowed_here:
                raise PydanticCustomError(
                    "driver_not_offered", "this number cannot be driven by {d}; remove it", {"d": name}
                )
        if number.over_life_to is not None and number.over_life is None:
            raise PydanticCustomError("one_curve", "a second over-life curve needs a first one", {})
        number = self._bounded(number)
        source = number.source
        if source is not None and source.measure not in self.measures:
            raise PydanticCustomError(
                "source_not_offered",
                "this number cannot be driven by {m}; use {a}",
                {"m": source.measure, "a": ", ".join(self.measures)},
            )
        if source is not None and source.thing is None and source.measure in ("distance", "number"):
            raise PydanticCustomError(
                "source_of_nothing", "a source by {m} must say of what thing", {"m": source.measure}
            )
        if source is not None and (source.sound is None) == (source.measure == "sound"):
            raise PydanticCustomError(
                "source_of_no_sound", "a source by sound, and no other, must say of which sound", {}
            )
        return number

    def _bounded(self, number: Number) -> Number:
        """The number, which knows its range from now on: drivers never take it beyond (see `bounds_of`)."""
        bounds = (self.low, self.high)
        if number.__dict__.get(_BOUNDS, bounds) != bounds:
            # The same number given to two fields.
            number = number.model_copy()
        number.__dict__[_BOUNDS] = bounds
        return number

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(self.check, handler(source))

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        found = handler(schema)
        spec = {**asdict(self), "sources": list(self.measures)}
        del spec["title"]
        return {"allOf": [found], "isbjorn": spec} if "$ref" in found else found | {"isbjorn": spec}


def setting_spec(unit: str, low: float, high: float, help: str, step: float = 1.0, title: str = "") -> Spec:
    """A setting: one value for all particles and moments."""
    return Spec(unit=unit, low=low, high=high, clock="none", step=step, spread=False, help=help, title=title)


def timed_spec(
    unit: str, low: float, high: float, help: str, step: float = 1.0, title: str = "", life: bool = False
) -> Spec:
    """A number that is read by shot time, the same for all. life: it may also change over the life of each particle."""
    return Spec(unit=unit, low=low, high=high, clock="shot", step=step, spread=False, help=help, title=title, life=life)

"""The one type of every number, and the metadata that says how each may be driven."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

from pydantic import Field, GetCoreSchemaHandler, GetJsonSchemaHandler, model_validator
from pydantic_core import CoreSchema, PydanticCustomError, core_schema

from isbjorn.core.document.base import LARGEST_SEED, Part
from isbjorn.core.document.curves import Curve

Clock = Literal["shot", "birth", "age", "none"]


class Key(Part):
    """A keyed value at a moment of the shot."""

    at_s: float = Field(description="Shot time in seconds.")
    value: float


class Flutter(Part):
    """A smooth random swing."""

    times_per_s: float = Field(ge=0, le=1000)
    amount: float
    seed: int = Field(default=0, ge=0, le=LARGEST_SEED)


class Source(Part):
    """Another measured thing that drives a number."""

    measure: str = Field(max_length=60)
    amount: float = 1.0


class Number(Part):
    """A number and all that may drive it. A bare number in a file is read as its value."""

    value: float = Field(description="The plain value, in the unit of the field that holds it.")
    spread: float = Field(default=0.0, ge=0, description="Each particle draws from value ± spread; same unit.")
    spread_shape: Literal["even", "bell"] = Field(
        default="even",
        description="even: uniform in ± spread; bell: normal, spread is two standard deviations.",
    )
    over_life: Curve | None = Field(default=None, description="Multiplies the value by the particle's own age.")
    keys: tuple[Key, ...] = Field(default=(), description="Reserved: values over the shot.")
    flutter: Flutter | None = Field(default=None, description="Reserved: a smooth random swing.")
    source: Source | None = Field(default=None, description="Reserved: another measured thing drives it.")

    @model_validator(mode="before")
    @classmethod
    def _bare(cls, given: Any) -> Any:
        if isinstance(given, (int, float)) and not isinstance(given, bool):
            return {"value": given}
        return given


@dataclass(frozen=True)
class Spec:
    """How a number field reads and what may drive it. Goes into the JSON Schema under `isbjorn`.

    unit: shown behind the value. low, high: the range that is accepted. step: what one arrow press changes.
    clock: the clock it is read by: `birth` (drawn once by each particle), `age` (read through life), `shot`
    (read by shot time), `none` (a setting). spread, life: whether these drivers are offered.
    """

    unit: str
    low: float
    high: float
    clock: Clock = "birth"
    step: float = 1.0
    spread: bool = True
    life: bool = False
    help: str = ""

    def check(self, number: Number) -> Number:
        """Return the number, or raise a PydanticCustomError that says what is wrong and what is allowed."""
        unit = f" {self.unit}" if self.unit else ""
        if not self.low <= number.value <= self.high:
            allowed = f"use {self.low:g} to {self.high:g}{unit}"
            raise PydanticCustomError(
                "out_of_range", "{v} is out of range; {a}", {"v": f"{number.value:g}{unit}", "a": allowed}
            )
        if number.spread > 2 * max(abs(self.low), abs(self.high)):
            raise PydanticCustomError(
                "out_of_range", "a spread of {v} is wider than the whole range", {"v": number.spread}
            )
        offered = {
            "spread": (self.spread, number.spread > 0),
            "an over-life curve": (self.life, number.over_life is not None),
        }
        reserved = {
            "keys": bool(number.keys),
            "flutter": number.flutter is not None,
            "a source": number.source is not None,
        }
        offered |= {name: (False, used) for name, used in reserved.items()}
        for name, (allowed_here, used) in offered.items():
            if used and not allowed_here:
                raise PydanticCustomError(
                    "driver_not_offered",
                    "this number cannot be driven by {d} in this version; remove it",
                    {"d": name},
                )
        return number

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_after_validator_function(self.check, handler(source))

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        found = handler(schema)
        return {"allOf": [found], "isbjorn": asdict(self)} if "$ref" in found else found | {"isbjorn": asdict(self)}

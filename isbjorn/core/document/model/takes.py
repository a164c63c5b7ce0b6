"""Takes: performances that were recorded, kept beside the shot, and played by its controls. The engine side is
`isbjorn.core.evaluate.performed`."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from isbjorn.core.document.fields.base import AffectsLooks, Digest, MediaName, Part, new_id
from isbjorn.core.document.fields.values import Moment


class Take(Part):
    """A performance: values of controls by lattice step, in a file. It plays where a control says so (`Control.take`)."""

    id: str = Field(default_factory=lambda: new_id("take"), min_length=1, max_length=60)
    name: Annotated[str, AffectsLooks()] = Field(default="Take", min_length=1, max_length=80)
    media: MediaName
    digest: Digest
    at_s: Moment = Field(default=0, title="Start (s)", description="Shot time of the take's start, in seconds.")
    from_s: float = Field(
        default=0,
        ge=0,
        le=86_400,
        title="From (s)",
        description="Start of the part that is used, in the take's own seconds; keys and the value at rest "
        "apply before it.",
    )
    to_s: float | None = Field(
        default=None,
        ge=0,
        le=86_400,
        title="To (s)",
        description="End of the part that is used, in the take's own seconds; empty: the take's end.",
    )

    @model_validator(mode="after")
    def _span(self) -> Take:
        if self.to_s is not None and self.to_s <= self.from_s:
            raise PydanticCustomError(
                "empty_take", "a take from {a} to {b} s is empty", {"a": self.from_s, "b": self.to_s}
            )
        return self

"""The ground of every document model: strict about names, closed against NaN and infinity."""

from __future__ import annotations

import secrets
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

LARGEST_SEED = 2**53 - 1
# A file, or a numbered pattern: nothing in it that no file system takes.
MediaName = Annotated[str, Field(max_length=4096, pattern=r"^[^\x00-\x1f\x7f]*$")]


class Part(BaseModel):
    """A part of the document. Unknown fields are errors, so that a slip of the pen is not lost silently."""

    model_config = ConfigDict(
        extra="forbid",
        allow_inf_nan=False,
        validate_default=True,
        frozen=True,
        json_schema_serialization_defaults_required=True,
    )


def new_id(prefix: str) -> str:
    """A short identity for a thing in the cast; it never appears in a random draw."""
    return f"{prefix}-{secrets.token_hex(4)}"

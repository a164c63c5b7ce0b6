"""Outlines of SVG drawings, as a source and a body hold them."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field
from pydantic.functional_validators import AfterValidator
from pydantic_core import PydanticCustomError

MOST_PATH_DATA = 1_500_000
PathData = Annotated[str, Field(max_length=MOST_PATH_DATA)]


def _not_too_long(paths: tuple[str, ...]) -> tuple[str, ...]:
    if sum(map(len, paths)) > MOST_PATH_DATA:
        raise PydanticCustomError("too_long", "the outlines are longer than {n} characters", {"n": MOST_PATH_DATA})
    return paths


Outlines = Annotated[tuple[PathData, ...], AfterValidator(_not_too_long)]

"""Motion out of a file that stands in for an emitter's own. The engine side is `isbjorn.core.emit.recorded`."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from isbjorn.core.document.base import MediaName, Part
from isbjorn.core.document.values import Moment

# SHA-256 of the bytes of a file, in hexadecimal.
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$", description="SHA-256 of the file's bytes.")]


class Recording(Part):
    """Particles as they were recorded: births, lives and ways are the file's, and no force moves them; looks are the emitter's."""

    media: MediaName
    digest: Digest
    name: str = Field(default="", max_length=200, description="What it was called where it came from.")
    at_s: Moment = Field(title="Begins", default=0, description="Shot time of its own second 0.")

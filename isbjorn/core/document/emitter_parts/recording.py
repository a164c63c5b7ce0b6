"""Recorded motion from a file, which replaces an emitter's simulated motion. The engine side is `isbjorn.core.emit.recorded`."""

from __future__ import annotations

from pydantic import Field

from isbjorn.core.document.fields.base import Digest, MediaName, Part
from isbjorn.core.document.fields.values import Moment


class Recording(Part):
    """Recorded particles: births, lifespans and paths come from the file, and no force moves them; looks come from the emitter."""

    media: MediaName
    digest: Digest
    name: str = Field(default="", max_length=200, description="Name of the emitter in the file that it came from.")
    at_s: Moment = Field(title="Begins", default=0, description="Shot time of the recording's start, in seconds.")

"""Writes the OpenAPI document, from which the page's types are generated."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from pydantic.json_schema import models_json_schema

from isbjorn.studio.app import create_app
from isbjorn.studio.pages.page_session import Ask, Header
from isbjorn.studio.pages.sheet_messages import SheetAsk, SheetHeader, SheetState
from isbjorn.studio.project_api.setlist import Trigger
from isbjorn.studio.shows.stage import StageAsk, StageHeader


def openapi_document() -> dict[str, Any]:
    """The OpenAPI document of the studio, with the messages of the live preview and the stage among its schemas."""
    with tempfile.TemporaryDirectory() as folder:
        app = create_app(Path(folder), with_worker=False)
        found = app.openapi()
        app.state.studio.close()
    template = "#/components/schemas/{model}"
    spoken = (Ask, Header, SheetAsk, SheetState, SheetHeader, StageAsk, StageHeader, Trigger)
    _, messages = models_json_schema([(one, "serialization") for one in spoken], ref_template=template)
    found["components"]["schemas"] |= messages["$defs"]
    return found


def as_text() -> str:
    return json.dumps(openapi_document(), indent=1, ensure_ascii=False, sort_keys=True) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(as_text())

"""Fails when docs/openapi.json, from which the page's types are made, is not that of the code. `make types` renews it."""

import sys
from pathlib import Path

from isbjorn.studio.openapi import as_text

if __name__ == "__main__":
    if (Path(__file__).parent.parent / "docs" / "openapi.json").read_text() != as_text():
        sys.exit("docs/openapi.json is not current: run make types")

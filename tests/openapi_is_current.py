"""Fails when docs/openapi.json, or the page's types made from it, are not those of the code. `make types` renews both."""

import subprocess
import sys
import tempfile
from pathlib import Path

from isbjorn.studio.openapi import as_text

ROOT = Path(__file__).parent.parent


def main() -> int:
    if (ROOT / "docs" / "openapi.json").read_text() != as_text():
        print("docs/openapi.json is not current: run make types")
        return 1
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / "types.ts"
        subprocess.run(
            ["npx", "openapi-typescript", "../docs/openapi.json", "-o", str(made)],
            cwd=ROOT / "web",
            check=True,
            capture_output=True,
        )
        subprocess.run(
            ["npx", "prettier", "--write", "--log-level", "warn", "--config", ".prettierrc", str(made)],
            cwd=ROOT / "web",
            check=True,
        )
        if made.read_text() != (ROOT / "web" / "src" / "api" / "types.ts").read_text():
            print("web/src/api/types.ts is not current: run make types")
            return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())

"""Where compiled kernels are kept between starts.

Numba finds a kept kernel by the file that it stands in, and does not see that a function of another file, which was compiled into
it, has changed. So the kernels of each state of the engine have a folder of their own, named by a digest of their sources.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import sys
from importlib.metadata import version
from pathlib import Path

_HERE = Path(__file__).parent
_PREFIX = "kernels-"
_TAKEN = re.compile(r"from isbjorn\.core\.([a-z_.]+) import")


def sources() -> dict[str, bytes]:
    """The files that hold kernels, and those from which they take functions and constants."""
    every = {str(path.relative_to(_HERE)): path.read_bytes() for path in sorted(_HERE.rglob("*.py"))}
    found = {name for name, text in every.items() if b"@njit" in text}
    for name in list(found):
        for module in _TAKEN.findall(every[name].decode()):
            found.add(module.replace(".", "/") + ".py")
    return {name: every[name] for name in sorted(found) if name in every}


def digest_of_sources() -> str:
    """The identity of all that is compiled."""
    found = hashlib.sha256(version("numba").encode())
    for name, text in sources().items():
        found.update(name.encode() + text)
    return found.hexdigest()[:16]


def keep_kernels() -> None:
    """Let Numba keep kernels beside the engine, or in the user's cache where that cannot be written; older ones are removed.

    A folder that the environment names (NUMBA_CACHE_DIR) is used as it is.
    """
    name = f"{_PREFIX}{digest_of_sources()}"
    given = os.environ.get("NUMBA_CACHE_DIR", "")
    # A process that was started by another finds its folder in the environment; it is taken only if it is this engine's.
    if given and (not Path(given).name.startswith(_PREFIX) or Path(given).name == name):
        return
    for home in (_HERE / "__pycache__", Path.home() / ".cache" / "isbjorn"):
        folder = home / name
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError:
            continue
        if os.access(folder, os.W_OK):
            for old in home.glob(f"{_PREFIX}*"):
                if old != folder:
                    shutil.rmtree(old, ignore_errors=True)
            os.environ["NUMBA_CACHE_DIR"] = str(folder)
            if "numba" in sys.modules:
                vars(sys.modules["numba"])["config"].CACHE_DIR = str(folder)
            return

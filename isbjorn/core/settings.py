"""Settings that come from the environment."""

from __future__ import annotations

import logging
import os

# Names of the first versions: they still work, with a notice.
_FORMER = {"ISBJORN_PROCESSES": "ISBJORN_CREW", "ISBJORN_FRAME_WORKERS": "ISBJORN_HANDS"}
_LOG = logging.getLogger("isbjorn")


def setting(name: str) -> str:
    """The value of an environment variable, "" if it is not set. A former name is read where the new one is not set."""
    former = _FORMER.get(name, "")
    if name not in os.environ and former in os.environ:
        _LOG.warning("%s is now called %s; the old name will be removed.", former, name)
        return os.environ[former]
    return os.environ.get(name, "")

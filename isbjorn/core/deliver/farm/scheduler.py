"""Where the studios and the workers of a farm meet."""

from __future__ import annotations

from urllib.parse import urlsplit

from distributed import Scheduler

from isbjorn.core.deliver.farm.keys import security


async def serve_scheduler(address: str, keys: str | None) -> None:
    """Bring studios and workers together at an address until ended."""
    safe = security(address, keys)
    parts = urlsplit(address if "//" in address else f"//{address}")
    async with Scheduler(
        host=parts.hostname, port=parts.port or 8786, security=safe, dashboard=False, dashboard_address="127.0.0.1:0"
    ) as scheduler:
        print(f"The farm is ready at {scheduler.address}", flush=True)
        await scheduler.finished()

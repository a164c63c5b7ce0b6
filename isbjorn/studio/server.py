"""Serving the studio on the loopback address."""

from __future__ import annotations

import errno
import os
import socket
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import uvicorn

from isbjorn.core.errors import IsbjornError, Stale
from isbjorn.core.runtime import loading
from isbjorn.studio.opening import Opening

if TYPE_CHECKING:
    from isbjorn.studio.context import Studio
    from isbjorn.studio.setup.preparation import Preparation

HOST = "127.0.0.1"
_WARM_AFTER_S, _HANDS_AFTER_S = 1.0, 0.5
# A picture passes through half a dozen threads on its way: beside one that works on edits it would wait for each.
_SWITCHED_S = 0.5e-3


def serve_studio(folder: Path, port: int, scheduler: str = "", key: str = "", demo: bool = False) -> None:
    """Serve until interrupted. scheduler, key: of a farm that renders the deliveries. demo: with the demonstration, which is
    prepared in the background.

    Raises IsbjornError when the port is taken, or invalid.
    """
    if scheduler:
        from isbjorn.core.deliver.farm.keys import security

        security(scheduler, key)
        # For the delivery worker, a separate process.
        os.environ |= {"ISBJORN_SCHEDULER": scheduler, "ISBJORN_FARM_KEY": key}
    with socket.socket() as trial:
        trial.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            trial.bind((HOST, port))
        except (OSError, OverflowError) as error:
            if getattr(error, "errno", None) in (errno.EACCES, errno.EPERM):
                raise IsbjornError(f"you may not use port {port}.", "--port", "Use a port above 1023.") from None
            raise IsbjornError(
                f"port {port} is in use.", "--port", "Use another port, or end the program that uses it."
            ) from None

    def load() -> Any:
        from isbjorn.studio.app import create_app
        from isbjorn.studio.control.controller_input import PORT
        from isbjorn.studio.setup.preparation import Preparation

        # Controllers are listened to on the loopback, unless it is said otherwise.
        os.environ.setdefault("ISBJORN_OSC", str(PORT))
        app = create_app(folder)
        studio: Studio = app.state.studio
        loading.end()
        studio.preparation = preparation = Preparation(studio.store, demo)
        threading.Thread(target=_warm, args=(studio, preparation), daemon=True).start()
        print(f"Isbjorn is ready at http://{HOST}:{port}  (end it with Ctrl C)", flush=True)
        if not preparation.state.ready:
            threading.Thread(target=preparation.report, args=(_say,), daemon=True).start()
        return app

    def give_up() -> None:
        server.should_exit = True

    sys.setswitchinterval(_SWITCHED_S)
    opening = Opening(load, give_up)
    server = uvicorn.Server(
        uvicorn.Config(
            opening,
            host=HOST,
            port=port,
            log_level="warning",
            ws_max_size=1 << 20,
            ws_per_message_deflate=False,
            timeout_graceful_shutdown=2,
        )
    )
    server.run()
    if opening.error is not None:
        raise opening.error


def _say(line: str) -> None:
    print(f"  {line}", flush=True)


def _warm(studio: Studio, preparation: Preparation) -> None:
    from isbjorn.core.warm_up import warm

    preparation.first_ready.wait()
    # First the page and its first picture, which want the same cores.
    time.sleep(_WARM_AFTER_S)
    warm()
    time.sleep(_HANDS_AFTER_S)
    with suppress(Stale):
        studio.frame_workers.warm()

"""A shot sent to another process thing by thing. An unchanged thing is the same object there, too, so that values derived from it
stay cached (see `IdentityCache`). Not as text: a validated thing need not be validated again.
"""

from __future__ import annotations

import itertools
import pickle
from typing import Any, NamedTuple

from isbjorn.core.caching import IdentityCache, RecentCache
from isbjorn.core.document import Shot
from isbjorn.core.document.fields.references import LISTS

_KEPT = 1024
_serials = itertools.count(1)


class ShotPiece(NamedTuple):
    """A thing of the cast. serial: number of the object in this process."""

    serial: int
    content: bytes


class Pieces(NamedTuple):
    """A shot; rest: without its cast."""

    rest: bytes
    cast: dict[str, tuple[ShotPiece, ...]]


def _piece(thing: Any) -> ShotPiece:
    return ShotPiece(next(_serials), pickle.dumps(thing, pickle.HIGHEST_PROTOCOL))


_pieces: IdentityCache[ShotPiece] = IdentityCache(_piece, _KEPT, what="Packed things")


def pieces_of(shot: Shot) -> Pieces:
    """A shot to be handed over."""
    rest = shot.model_copy(update=dict.fromkeys(LISTS, ()))
    cast = {name: tuple(_pieces(thing) for thing in getattr(shot, name)) for name in LISTS}
    return Pieces(pickle.dumps(rest, pickle.HIGHEST_PROTOCOL), cast)


class ShotDecoder:
    """What one receiver of shots knows of earlier ones; all come from one process."""

    def __init__(self) -> None:
        self._known: RecentCache[int, Any] = RecentCache(_KEPT)

    def __call__(self, pieces: Pieces) -> Shot:
        """The shot that was handed over."""
        cast = {name: tuple(self._thing(piece) for piece in some) for name, some in pieces.cast.items()}
        rest: Shot = pickle.loads(pieces.rest)
        return rest.model_copy(update=cast)

    def _thing(self, piece: ShotPiece) -> Any:
        thing = self._known.peek(piece.serial)
        if thing is None:
            thing = pickle.loads(piece.content)
            self._known.put(piece.serial, thing)
        return thing

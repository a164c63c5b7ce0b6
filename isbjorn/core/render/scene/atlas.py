"""The pages of an emitter's bodies, and which of them each particle shows."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Literal, Protocol

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats, Longs
from isbjorn.core.document import Emitter, PictureBody, Shot, Words
from isbjorn.core.document.fields.kinds import BODIES
from isbjorn.core.document.parts.bodies import STAND_IN
from isbjorn.core.emit.births import places_in_line
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.glyphs import drawn, font, pieces
from isbjorn.core.random import BODY, FRAME, VARIANT, draws01
from isbjorn.core.render.raster.sprites import Pages, bound
from isbjorn.core.render.scene.bodies import kept_mask, variants
from isbjorn.core.runtime.memory import Cache

_SMALLEST, _LARGEST = 32, 1024
_LARGEST_LETTER = 512
# Of the pages of one emitter together: 128 MB, and 16 texels a side at least.
_MOST_TEXELS, _COARSEST, _MANY_MASKS = 24 << 20, 16, 32


class Pictures(Hashable, Protocol):
    """Where pictures, sequences, movies and fonts come from."""

    def count(self, media: str) -> int:
        """How many frames there are."""

    def own_rate(self, media: str) -> Fraction | None:
        """Frames per second, if the file has them."""

    def stamp(self, media: str) -> float:
        """Another number when the file has changed."""

    def still(self, media: str, number: int, side: int) -> Floats:
        """A frame within a square of a side, linear, premultiplied, (side, side, 4)."""

    def filling(self, media: str, number: int, width: int, height: int) -> Floats:
        """A frame that fills a size, linear, premultiplied, (height, width, 4)."""

    def depth(
        self, media: str, number: int, width: int, height: int, fit: Literal["fill", "fit", "pixels"], scale: float
    ) -> Floats:
        """The depth that a frame holds, as it is stored, (height, width); 0 beyond its edges."""

    def resolve(self, media: str) -> str:
        """The place of a file."""


def turns_in_depth(emitter: Emitter) -> bool:
    """Whether its bodies turn about other axes than the one of sight."""
    numbers = (emitter.turn_x, emitter.turn_y, emitter.spin_x, emitter.spin_y)
    return any(n.value != 0 or n.spread != 0 or n.timed for n in numbers)


def is_plain(emitter: Emitter) -> bool:
    """Whether its bodies are discs alone, which have a faster way."""
    stretched = emitter.stretch.value != 0 or emitter.stretch.timed or emitter.stretch.spread != 0
    lies = emitter.facing == "surface" or turns_in_depth(emitter)
    if emitter.pieces is not None and emitter.pieces.cut != "points":
        return False
    return emitter.body.disc is not None and not emitter.mixed and not stretched and not lies


def largest(emitter: Emitter) -> float:
    """The approximate largest diameter that the size can reach, in px."""
    size = emitter.size
    high = max([size.value, *(k.value for k in size.keys)]) + size.spread
    for curve in (size.over_life, size.over_life_to):
        if curve is not None:
            high *= max(1.0, max(p.value for p in curve.points))
    return high


def side_for(diameter: float, most: int = _LARGEST) -> int:
    """The side of a page for a diameter in pixels: a power of two that holds it."""
    return int(min(most, max(_SMALLEST, 2 ** math.ceil(math.log2(max(1.0, diameter))))))


def _letter(text: str, path: str, side: int) -> tuple[Floats, float]:
    """A piece of text in the middle of a page, and half the page's side as a share of half an em."""
    sheet, x, y, em = drawn(text, font(path or None), side)
    reach = max(x, sheet.shape[1] - x, y, sheet.shape[0] - y) + 1
    room = _LARGEST / 2 - 2
    if reach > room and em != side:
        # A long piece: brought to its page before a page is made for it.
        small = room / reach
        size = (max(1, round(sheet.shape[1] * small)), max(1, round(sheet.shape[0] * small)))
        sheet = np.asarray(cv2.resize(sheet, size, interpolation=cv2.INTER_AREA), np.float32)
        x, y, reach = x * small, y * small, room
        em_on_page = em * small
    else:
        em_on_page = float(em)
    whole = 2 ** math.ceil(math.log2(2 * reach))
    page = np.zeros((whole, whole), np.float32)
    top, left = round(whole / 2 - y), round(whole / 2 - x)
    page[top : top + sheet.shape[0], left : left + sheet.shape[1]] = sheet
    if whole > _LARGEST:
        page = np.asarray(cv2.resize(page, (_LARGEST, _LARGEST), interpolation=cv2.INTER_AREA), np.float32)
    return page, whole / em_on_page


def _page_side(key: tuple[Any, ...]) -> int:
    """About the side of the page that a key asks for."""
    kind, what, _, side = key
    if kind != "letter":
        return int(side)
    return int(min(_LARGEST, 2 ** math.ceil(math.log2(side * max(1.5, 0.75 * len(what))))))


def _texels(key: tuple[Any, ...]) -> int:
    return _page_side(key) ** 2 * (4 if key[0] in ("picture", "cover") else 1)


def fitting(keys: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    """Keys of pages that take no more than their budget together: the finest are halved until they do. Drawing a mask takes a
    microsecond a texel: the more of them there are, the fewer texels all have."""
    keys = list(keys)
    total = sum(map(_texels, keys))
    most = _MOST_TEXELS / max(1.0, sum(key[0] == "mask" for key in keys) / _MANY_MASKS)
    while total > most:
        finest = max(key[3] for key in keys)
        if finest <= _COARSEST:
            break
        keys = [(*key[:3], max(_COARSEST, key[3] // 2)) if key[3] == finest else key for key in keys]
        total = sum(map(_texels, keys))
    return keys


@dataclass(frozen=True)
class Now:
    """Particles at their moments: births and their moments (n,), ages in [0, 1], shot time in s, and which of them leave so that a
    text must be dealt from its end to be readable."""

    key: int
    births: Longs
    moments: npt.NDArray[np.float64]
    age01: Floats
    t: float
    ahead: Callable[[], npt.NDArray[np.bool_]]


class Drawn:
    """A body that is a mask: `keys` are its pages, as keys that `_made` understands."""

    def __init__(self, body: Any, bodies: Bodies) -> None:
        self.body, self.bodies = body, bodies
        plain = body.model_copy(update={"weight": 1.0})
        self.keys: list[tuple[Any, ...]] = [("mask", plain, n, bodies.side) for n in range(variants(body))]
        self.tinted = True

    def shown(self, now: Now) -> tuple[list[tuple[Any, ...]], Longs]:
        """The pages at a moment, and which of them each particle shows."""
        return self.keys, self.dealt(now, len(self.keys))

    def dealt(self, now: Now, count: int) -> Longs:
        """One of `count` for each particle, at random."""
        if count == 1:
            return np.zeros(len(now.births), np.int64)
        return np.minimum((draws01(now.key, now.births, VARIANT) * count).astype(np.int64), count - 1)


class FromText(Drawn):
    """Letters or words."""

    def __init__(self, body: Words, bodies: Bodies) -> None:
        self.body, self.bodies, self.tinted = body, bodies, True
        path = bodies.pictures.resolve(body.font) if body.font else ""
        found = pieces(body.text, body.split)
        if not found:
            raise IsbjornError("no letter can be drawn.", "words", "Write something.")
        self.keys = [("letter", piece, path, min(bodies.side, _LARGEST_LETTER)) for piece in found]

    def dealt(self, now: Now, count: int) -> Longs:
        """In the order of the text, as it is to be read; each burst begins with the first of it."""
        if self.body.deal == "random":
            return super().dealt(now, count)
        dealt = places_in_line(now.births) % count
        return np.where(now.ahead(), count - 1 - dealt, dealt) if self.body.deal == "readable" else dealt


class FromFile(Drawn):
    """A picture, a sequence or a movie; a soft disc while it is missing."""

    def __init__(self, body: PictureBody, bodies: Bodies) -> None:
        self.body, self.bodies = body, bodies
        self.tinted = body.tinted if body.media else True
        self.keys = [] if body.media else [("mask", STAND_IN, 0, bodies.side)]

    def shown(self, now: Now) -> tuple[list[tuple[Any, ...]], Longs]:
        if self.keys:
            return super().shown(now)
        wanted, index = np.unique(self._frames(now), return_inverse=True)
        media = (self.body.media, self.bodies.pictures.stamp(self.body.media))
        return [("picture", media, int(n), self.bodies.side) for n in wanted], index

    def _frames(self, now: Now) -> Longs:
        body, pictures = self.body, self.bodies.pictures
        count = pictures.count(body.media)
        rate = body.rate.value or float(pictures.own_rate(body.media) or self.bodies.shot.frame_rate)
        u = draws01(now.key, now.births, FRAME)
        pace = body.speed.value / 100
        match body.plays:
            case "one of them":
                return np.minimum((u * count).astype(np.int64), count - 1)
            case "by age":
                at = np.clip(now.age01.astype(np.float64), 0, 1 - 1e-9) * count * pace
            case "from birth":
                at = (now.t - now.moments) * rate * pace
            case _:
                at = np.full(len(now.births), now.t * rate * pace)
        start = np.floor(u * count) if body.random_start else 0.0
        return (np.floor(at + 1e-9 + start).astype(np.int64)) % count


class Bodies:
    """What an emitter's particles are drawn as. `pages` grows with the frames of movies that are shown.

    covers: pictures only cover; all take on the particles' colour.
    """

    def __init__(self, shot: Shot, emitter: Emitter, scale: float, pictures: Pictures, covers: bool = False) -> None:
        self.covers = covers
        self.shot, self.emitter, self.pictures = shot, emitter, pictures
        self.side = side_for(largest(emitter) * scale)
        self.parts = [self._part(body) for body in (emitter.body, *emitter.mixed)]
        weights = np.array([p.body.weight for p in self.parts], np.float64)
        self._ends = np.cumsum(weights) / weights.sum() if weights.sum() > 0 else np.ones(len(weights))

    def _part(self, body: Any) -> Drawn:
        made = BODIES.of(body).made
        found: Drawn = made(body, self) if isinstance(made, type) else Drawn(body, self)
        return found

    def shown(
        self, key: int, births: Longs, moments: npt.NDArray[np.float64], age01: Floats, t: float,
        ahead: Callable[[], npt.NDArray[np.bool_]], happened: npt.NDArray[np.bool_] | None = None,
    ) -> tuple[Pages, Longs, npt.NDArray[np.bool_]]:  # fmt: skip
        """The pages, which one each particle shows (n,), and whether it takes on the particle's colour (n,).

        ahead: which particles leave so that the text must be dealt from its end to be readable. happened: which particles the event
        has reached by which bodies are dealt, where they are dealt in that way.
        """
        which = self.which(key, births, happened)
        keys: list[tuple[Any, ...]] = []
        page, tinted = np.zeros(len(births), np.int64), np.ones(len(births), bool)
        for number, part in enumerate(self.parts):
            mine = which == number if len(self.parts) > 1 else np.ones(len(births), bool)
            if not mine.any() and (len(self.parts) > 1 or not part.keys):
                continue
            tinted[mine] = part.tinted or self.covers
            now = Now(key, births[mine], moments[mine], age01[mine], t, lambda mine=mine: ahead()[mine])  # type: ignore[misc]
            more, index = part.shown(now)
            page[mine] = len(keys) + index
            keys += [("cover", *key[1:]) if self.covers and key[0] == "picture" else key for key in more]
        if not keys:
            return self._bound(()), page, tinted
        # Each page once, however often a letter comes.
        numbers: dict[tuple[Any, ...], int] = {}
        of = np.array([numbers.setdefault(key, len(numbers)) for key in keys])
        return self._bound(tuple(fitting(list(numbers)))), of[page], tinted

    def which(self, key: int, births: Longs, happened: npt.NDArray[np.bool_] | None = None) -> Longs:
        """The body of each particle, by its place among those that are mixed, (n,)."""
        drawn = draws01(key, births, BODY)
        which = np.minimum(np.searchsorted(self._ends, drawn, side="right"), len(self.parts) - 1)
        if happened is not None and len(self.parts) > 1:
            # The first until it happens, then one of the others.
            first = self._ends[0]
            others = np.searchsorted(self._ends, first + drawn * (1 - first), side="right")
            which = np.where(happened, np.clip(others, 1, len(self.parts) - 1), 0)
        return which

    def _bound(self, keys: tuple[tuple[Any, ...], ...]) -> Pages:
        return _pages(keys, self.pictures)


_kept: Cache[Pages] = Cache(
    "pages", 0.5, what="Pages of body pictures", depends_on="the bodies and the files that they read"
)
_made: Cache[tuple[Floats, float]] = Cache(
    "pages", 0.5, what="Pictures of bodies", depends_on="the body, the frame and the size"
)


def _page(key: tuple[Any, ...], pictures: Pictures) -> tuple[Floats, float]:
    kind, what, more, side = key
    if kind == "picture":
        return pictures.still(what[0], more, side), 1.0
    if kind == "cover":
        return np.repeat(pictures.still(what[0], more, side)[..., 3:], 4, axis=2), 1.0
    if kind == "letter":
        return _made.get(key, lambda: _letter(what, more, side))
    return _made.get(key, lambda: (kept_mask(what, more, side), 1.0))


def _pages(keys: tuple[tuple[Any, ...], ...], pictures: Pictures) -> Pages:
    nothing = [(np.zeros((1, 1), np.float32), 1.0)]
    return _kept.get((keys, pictures), lambda: bound([_page(key, pictures) for key in keys] or nothing))

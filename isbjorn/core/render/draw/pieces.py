"""Drawing the pieces of a shape: each shows its own part of the whole.

All pages are cut from one sheet of texels, whose lattice passes through the emitter's place. A page is read with a tent, and tents
on one lattice add up to one: so pieces side by side, drawn by addition, are the whole again, to the rounding of a sum.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.appearance.in_pieces import Standing
from isbjorn.core.appearance.particles import Particles, births_of
from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.document import Emitter
from isbjorn.core.emit.pieces.cut import Labels, PieceCut, Sheet
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.emit.shapes.base import Painted
from isbjorn.core.jit import njit
from isbjorn.core.render.raster.blends import JOIN
from isbjorn.core.render.raster.pixel_pass import lay
from isbjorn.core.render.raster.sprites import Pages, draw_sprites, sprites_of
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.runtime.parallel import kernel_lock

if TYPE_CHECKING:
    from isbjorn.core.render.draw.emitters import EmitterRasteriser

Numbers = npt.NDArray[np.floating[Any]]

# A sheet has no more texels than this; a scale that changes is brought to steps of this share of an octave.
_MOST_TEXELS, _STEPS = 12 << 20, 4
# Texels per pixel of what is turned: as fine as pages may be, that are not halved.
_FINER = 1.2
# Part of a flight from one picture to another in which one gives way to the other.
_TURNS, _TURNED = 0.3, 0.7


@dataclass(frozen=True)
class PiecePages:
    """The pages of the n pieces of a cut: pages, one for each; offset (n, 2) px from a piece's place to the middle of its page, y
    up."""

    pages: Pages
    offset: Doubles


@njit("void(i4[:,::1], f4[:,::1], i8[:,::1])", cache=True)
def _bounds(labels: Labels, cover: Floats, out: Longs) -> None:
    """First and last column and row of each piece, (n, 4); the last ones are beyond it."""
    for n in range(len(out)):
        out[n, 0], out[n, 1], out[n, 2], out[n, 3] = 1 << 40, -1, 1 << 40, -1
    for row in range(labels.shape[0]):
        for column in range(labels.shape[1]):
            n = labels[row, column]
            if n >= 0 and cover[row, column] > 0:
                out[n, 0], out[n, 1] = min(out[n, 0], column), max(out[n, 1], column + 1)
                out[n, 2], out[n, 3] = min(out[n, 2], row), max(out[n, 3], row + 1)


@njit("void(f4[:,:,::1], i4[:,::1], i8[:,::1], i8[:,::1], f4[::1])", parallel=True, cache=True)
def _pack(picture: Floats, labels: Labels, corners: Longs, table: Longs, texels: Floats) -> None:
    """Each piece on its page, and all halvings of it, into texels. corners (n, 2): column and row of the page's corner."""
    height, width, channels = picture.shape
    for n in prange(len(table)):
        side, first = table[n, 0], table[n, 1]
        left, top = corners[n, 0], corners[n, 1]
        for row in range(max(0, -top), min(side, height - top)):
            for column in range(max(0, -left), min(side, width - left)):
                if labels[top + row, left + column] == n:
                    for c in range(channels):
                        texels[first + (row * side + column) * channels + c] = picture[top + row, left + column, c]
        while side > 1:
            half, after = side // 2, first + side * side * channels
            for row in range(half):
                for column in range(half):
                    for c in range(channels):
                        a = first + (2 * row * side + 2 * column) * channels + c
                        b = a + side * channels
                        texels[after + (row * half + column) * channels + c] = 0.25 * (
                            texels[a] + texels[a + channels] + texels[b] + texels[b + channels]
                        )
            side, first = half, after


_packed = kernel_lock(_pack)


def _pages_of(cut: PieceCut, sheet: Sheet, picture: Floats) -> PiecePages:
    """The pages of pieces that show their parts of a picture (h, w, 1 or 4) on a sheet."""
    n, channels = len(cut), picture.shape[2]
    bounds = np.empty((n, 4), np.int64)
    _bounds(sheet.labels, sheet.cover, bounds)
    empty = bounds[:, 1] < 0
    # The texel corner next to the place, in texels.
    column = np.round((cut.places[:, 0] - sheet.left) * sheet.density).astype(np.int64)
    row = np.round((sheet.top - cut.places[:, 1]) * sheet.density).astype(np.int64)
    reach = np.max([column - bounds[:, 0], bounds[:, 1] - column, row - bounds[:, 2], bounds[:, 3] - row], axis=0)
    reach = np.where(empty, 1, np.maximum(reach, 1))
    side = 2 ** np.ceil(np.log2(2 * reach)).astype(np.int64)
    texels_of = (4 * side * side - 1) // 3 * channels
    first = np.cumsum(texels_of) - texels_of
    table = np.stack([side, first, np.log2(side).astype(np.int64) + 1, np.full(n, channels, np.int64)], axis=1)
    texels = np.zeros(int(texels_of.sum()), np.float32)
    _packed(picture, sheet.labels, np.stack([column - side // 2, row - side // 2], axis=1), table, texels)
    across = np.maximum(column - bounds[:, 0], bounds[:, 1] - column) / (side / 2)
    down = np.maximum(row - bounds[:, 2], bounds[:, 3] - row) / (side / 2)
    content = np.where(empty[:, None], 0, np.stack([across, down], axis=1)).astype(np.float32)
    half = side / sheet.density / np.maximum(cut.sizes, 1e-9)
    offset = (
        np.stack([sheet.left + column / sheet.density, sheet.top - row / sheet.density], axis=1) - cut.places[:, :2]
    )
    pages = Pages(texels, table, half.astype(np.float32), np.ones(n, np.float32), content)
    return PiecePages(pages, offset)


_kept: Cache[PiecePages] = Cache(
    "pages",
    0.4,
    what="Pages of pieces",
    depends_on="how the shape is cut, the size at which it is drawn, and what it shows",
)


@dataclass(frozen=True)
class _Lattice:
    """Texels per px of the emitter's own size, and how far they are shifted to the right and up, as shares of a texel."""

    density: float
    shift: tuple[float, float]


def _lattice(pen: EmitterRasteriser, cut: PieceCut) -> _Lattice:
    """The texels of a whole: those of its picture; else the pixels of the shot's picture, if the whole is upright and still; else
    a little finer."""
    context, emitter, view = pen.context, pen.emitter, pen.context.view
    frame = context.solver.readings.frames(emitter, np.array([float(context.seconds)]))
    pixel, grown = view.place(frame.place)
    scale = max(1e-3, float(frame.size[0]) * view.scale_x * max(float(grown[0]), 1e-3))
    # No more texels than can be held.
    most = math.sqrt(_MOST_TEXELS / max(1.0, cut.extent[0] * cut.extent[1]))
    upright = float(frame.turn[0]) % 90 == 0 and view.lens_px is None and context.solver.readings.still(emitter)
    if cut.painted is not None and cut.painted.media:
        density = min(scale, most)
        return _Lattice(density, (-0.5 * cut.extent[0] * density % 1.0, 0.5 * cut.extent[1] * density % 1.0))
    if upright and scale <= most:
        turns, (x, y) = round(float(frame.turn[0]) / 90) % 4, pixel[0].astype(np.float64)
        # The picture's lattice as the whole sees it: to its right and up.
        right, up = [(-x, y), (y, x), (x, -y), (-y, -x)][turns]
        return _Lattice(scale, (right % 1.0, up % 1.0))
    if emitter.scale.timed or view.lens_px is not None:
        scale = 2 ** (round(math.log2(scale) * _STEPS) / _STEPS)
    return _Lattice(min(scale * _FINER, most), (0.0, 0.0))


def _painting(
    pen: EmitterRasteriser, painted: Painted, extent: tuple[float, float]
) -> tuple[Hashable, Callable[[Sheet], Floats | None]]:
    """What a picture shows on a sheet at the moment: a key, and what makes it, (h, w, 4) premultiplied; None without a plate."""
    context = pen.context
    plates: Any = context.pictures
    if not painted.media:
        shot, view = context.shot, context.view
        frame = context.solver.readings.frames(pen.emitter, np.array([float(context.seconds)]))
        number = None if shot.plate is None else plates.number(shot, context.seconds)
        placed = (*frame.place[0].tolist(), float(frame.turn[0]), float(frame.size[0]), view.packed.tobytes())

        def under(sheet: Sheet) -> Floats | None:
            plate = plates.at(shot, context.seconds, view.width, view.height) if number is not None else None
            if plate is None:
                return None
            x, y = _texels_of(sheet)
            turned = frame.of(x.ravel(), y.ravel(), np.zeros(x.size)) if x.size else np.empty((0, 3))
            pixels, _ = view.place(turned)
            at = pixels.reshape(*x.shape, 2) - np.float32(0.5)
            return _sampled(plate, at[..., 0], at[..., 1])

        plate_key = ("", 0.0) if shot.plate is None else (shot.plate.model_dump_json(), plates.stamp(shot.plate.media))
        return ("plate", *plate_key, number, placed), under
    count = max(1, plates.count(painted.media))
    frame_number = painted.frame
    if frame_number is None:
        rate = plates.own_rate(painted.media) or context.shot.frame_rate
        frame_number = math.floor(context.seconds * rate) % count
    frame_number = min(frame_number, count - 1)

    def shown(sheet: Sheet) -> Floats:
        width, height = (max(1, round(side * sheet.density)) for side in extent)
        picture = plates.filling(painted.media, frame_number, width, height)
        x, y = _texels_of(sheet)
        u, v = (x / extent[0] + 0.5) * width - 0.5, (0.5 - y / extent[1]) * height - 0.5
        return _sampled(picture, u, v)

    return ("picture", painted.media, plates.stamp(painted.media), frame_number), shown


def _texels_of(sheet: Sheet) -> tuple[Doubles, Doubles]:
    """The middles of the texels of a sheet in px from the emitter, (h, w) each."""
    height, width = sheet.cover.shape
    x = sheet.left + (np.arange(width) + 0.5) / sheet.density
    y = sheet.top - (np.arange(height) + 0.5) / sheet.density
    columns, rows = np.meshgrid(x, y)
    return columns, rows


def _sampled(picture: Floats, u: Numbers, v: Numbers) -> Floats:
    """A picture (h, w, 4) at places in px from the middle of its first one; as at its edge beyond it."""
    across, down = (np.round(at, 3).astype(np.float32) for at in (u, v))
    return np.asarray(cv2.remap(picture, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.float32)


def pages_of(pen: EmitterRasteriser, cut: PieceCut, plain: bool = False) -> PiecePages:
    """The pages of the pieces of a cut at the moment. plain: without a picture, for what only covers."""
    lattice = _lattice(pen, cut)
    measured = pen.context.measure is not None or pen.bare
    key: Hashable = None
    paint: Callable[[Sheet], Floats | None] = lambda _: None  # noqa: E731
    if cut.painted is not None and not plain:
        key, paint = _painting(pen, cut.painted, cut.extent)

    def made() -> PiecePages:
        assert cut.sheet is not None
        sheet = cut.sheet(lattice.density, lattice.shift)
        picture = paint(sheet)
        shown = sheet.cover[..., None]
        if picture is not None:
            shown = shown * (picture[..., 3:] if measured else picture)
        return _pages_of(cut, sheet, np.ascontiguousarray(shown, np.float32))

    return _kept.get((cut.name, lattice.density, lattice.shift, key, measured and key is not None), made)


def leaves_holes(emitter: Emitter) -> bool:
    """Whether pieces of an emitter leave holes in the plate."""
    return emitter.pieces is not None and emitter.shape.shows_plate


def _paged(
    centre: Floats,
    grown: Floats,
    sizes: Floats,
    turns: Numbers,
    cut: PieceCut,
    offset: Doubles,
    piece: Longs,
    scale: float,
) -> Floats:
    """Centres of pages in pixels: beside the places of their pieces, turned and grown with them."""
    size = sizes / np.maximum(cut.sizes[piece], 1e-9) * scale * grown
    x, y = (offset[piece] * size[:, None]).T
    turn = np.radians(np.asarray(turns, np.float32))
    c, s = np.cos(turn), np.sin(turn)
    return (centre + np.stack([x * c - y * s, -(x * s + y * c)], axis=1)).astype(np.float32)


def _moved(
    pen: EmitterRasteriser, p: Particles, cut: PieceCut, offset: Doubles, piece: Longs, centre: Floats, grown: Floats
) -> Floats:
    return _paged(centre, grown, p.size, p.angle, cut, offset, piece, pen.context.view.scale_x)


def draw_standing(pen: EmitterRasteriser, onto: Floats) -> list[Particles]:
    """Draw the pieces that stand, as one; those at the moment, as particles."""
    context, emitter = pen.context, pen.emitter
    blurred = bool(context.open) and emitter.motion_blur
    # Holes are where they are at the moment.
    moves = blurred and not context.solver.readings.still(emitter) and not leaves_holes(emitter)
    opened = (context.open[0], context.open[-1]) if blurred and not moves else None
    found = context.solver.standing(pen.number, context.seconds, opened)
    for particles, _ in found:
        pen.count(particles)
    if moves:
        context.exposed(pen, _draw_all, onto)
    else:
        _draw_all(pen, onto, found)
    return [p for p, _ in found]


def _draw_all(pen: EmitterRasteriser, onto: Floats, found: list[tuple[Particles, Standing]] | None = None) -> None:
    found = pen.context.solver.standing(pen.number, pen.context.seconds) if found is None else found
    if leaves_holes(pen.emitter) and pen.context.shot.plate is not None:
        # What stands is the plate itself.
        if pen.context.measure is None and not pen.bare:
            _cut_out(pen, found, onto)
        return
    for particles, one in found:
        if one.cut.sheet is None:
            pen.bodies(particles, onto)
        else:
            _draw_whole(pen, particles, one, onto)


def _draw_whole(pen: EmitterRasteriser, p: Particles, one: Standing, onto: Floats) -> None:
    context, view = pen.context, pen.context.view
    piece = one.piece
    if context.chosen is not None:
        among = context.chosen(p, context)
        p, piece = p.where(among), piece[among]
    if len(p) == 0:
        return
    centre, grown = pen.pixels(p.position)
    radius = p.size * np.float32(0.5 * view.scale_x) * grown
    colour, opacity = pen.lit(p.position, p.colour, p.opacity, p.velocity)
    if pen.bare:
        colour, opacity = np.ones_like(colour), (opacity > 0).astype(np.float32)
    shade = np.concatenate([colour, np.where(grown > 0, opacity, 0)[:, None]], axis=1).astype(np.float32)
    made = pages_of(pen, one.cut)
    centre = _moved(pen, p, one.cut, made.offset, piece, centre, grown)
    turn = np.radians(p.angle.astype(np.float64))
    sprites = sprites_of(centre, radius, turn, shade, piece, made.pages, pen.covers)
    if pen.blend == "add" or pen.bare:
        draw_sprites(sprites, made.pages, onto, 0)
        return
    layer = np.zeros_like(onto)
    draw_sprites(sprites, made.pages, layer, JOIN)
    # What the rounding of sums leaves above one is no cover.
    np.minimum(layer[..., 3], 1, out=layer[..., 3])
    lay(layer, onto, pen.blend)


def _cut_out(pen: EmitterRasteriser, found: list[tuple[Particles, Standing]], onto: Floats) -> None:
    """Take away from the plate what has left it: the cover of all its pieces, less of those that stand."""
    source = pen.context.solver.tracks[pen.number].source
    assert isinstance(source, PieceSource)
    cut = source.flights.cut
    if sum(float(p.opacity.size) for p, _ in found) >= len(cut) and all((one.weight >= 1).all() for _, one in found):
        return
    stands = np.zeros(len(cut), np.float32)
    for _, one in found:
        stands[one.piece] += one.weight
    made = pages_of(pen, cut, plain=True)
    view, readings = pen.context.view, pen.context.solver.readings
    frame = readings.frames(pen.emitter, np.full(len(cut), float(pen.context.seconds)))
    centre, grown = view.place(frame.of(*cut.places.T))
    size = (cut.sizes * frame.size).astype(np.float32)
    radius = size * np.float32(0.5 * view.scale_x) * grown
    centre = _paged(centre, grown, size, frame.turn, cut, made.offset, np.arange(len(cut)), view.scale_x)
    shade = np.zeros((len(cut), 4), np.float32)
    shade[:, 3] = 1 - np.minimum(stands, 1)
    left = np.zeros_like(onto)
    sprites = sprites_of(centre, radius, np.radians(frame.turn), shade, np.arange(len(cut)), made.pages, True)
    draw_sprites(sprites, made.pages, left, JOIN)
    onto *= 1 - np.minimum(left[..., 3:], 1)


def flying_pages(
    pen: EmitterRasteriser, p: Particles, centre: Floats, grown: Floats
) -> list[tuple[Pages, Longs, Floats, Floats]] | None:
    """What flying pieces show: pages, the page of each (n,), centres (n, 2), and the share of each that is seen (n,): two of these
    where they become another shape. None of points, and of emitters that are not in pieces."""
    source = pen.context.solver.tracks[pen.number].source
    if not isinstance(source, PieceSource) or source.flights.cut.sheet is None:
        return None
    f = source.flights
    rows = f.rows(births_of(p.id))
    made = pages_of(pen, f.cut)
    piece = f.piece[rows]
    whole = np.ones(len(p), np.float32)
    if f.arrived is f.cut:
        return [(made.pages, piece, _moved(pen, p, f.cut, made.offset, piece, centre, grown), whole)]
    place, other = f.place[rows], pages_of(pen, f.arrived)
    share = np.clip((p.age01 - _TURNS) / (_TURNED - _TURNS), 0, 1)
    share = (share * share * (3 - 2 * share)).astype(np.float32)
    return [
        (made.pages, piece, _moved(pen, p, f.cut, made.offset, piece, centre, grown), whole - share),
        (other.pages, place, _moved(pen, p, f.arrived, other.offset, place, centre, grown), share),
    ]  # fmt: skip

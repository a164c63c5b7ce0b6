"""Surfaces: how far a place is from them, and which way is free."""

from __future__ import annotations

import math

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Surface
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.geometry import mesh_trees
from isbjorn.core.evaluate.geometry.mesh_trees import PLACED_WIDTH
from isbjorn.core.evaluate.geometry.placed_models import is_open, placed_edges
from isbjorn.core.evaluate.lines import Read, circle, rectangle
from isbjorn.core.jit import inline_kernel
from isbjorn.core.simulate.forces.follow import nearest
from isbjorn.core.simulate.forces.force_layout import OWN, PLACE, ForceSetting, base, place
from isbjorn.core.simulate.table_types import SOLIDS, Solids

CODE = 9
PLANE, RECTANGLE, BOX, SPHERE, PATH, MATTE, MODEL = 0, 1, 2, 3, 4, 5, 6
_SHAPES = {
    "plane": PLANE, "rectangle": RECTANGLE, "box": BOX, "sphere": SPHERE, "path": PATH, "matte": MATTE, "model": MODEL,
}  # fmt: skip
BOUNCE, STICK, SLIDE, DIE, MARK = 0, 1, 2, 3, 4
_OUTCOMES = {"bounce": BOUNCE, "stick": STICK, "slide": SLIDE, "die": DIE, "mark": MARK}
SHAPE, SIDE, HALF, RADIUS, COS, SIN, OUTCOME, RESTITUTION, RESTITUTION_SPREAD, FRICTION = (
    OWN, OWN + 1, OWN + 2, OWN + 5, OWN + 6, OWN + 7, OWN + 8, OWN + 9, OWN + 10, OWN + 11,
)  # fmt: skip
FIRST, COUNT, SHEET, PX = OWN + 12, OWN + 13, OWN + 14, OWN + 15
MODEL_COLUMNS = OWN + 16
_FAR = 1e9


def _sheets(force: Surface, setting: ForceSetting, rows: Doubles) -> None:
    """The plate's matte at the moments as signed distances, one sheet for each of its frames."""
    light = setting.light
    rows[:, SHEET] = -1
    if light is None:
        return
    above = setting.read(force.above) / 100
    known: dict[tuple[int, float], int] = {}
    for n, number in enumerate(light.numbers(setting.t)):
        key, sheet = (int(number), float(above[n])), light.sheet(int(number))
        if key not in known:
            known[key] = len(setting.mattes)
            setting.mattes.append(signed_distance(sheet > above[n]))
        rows[n, SHEET], rows[n, PX] = known[key], light.width / sheet.shape[1]


def signed_distance(solid: npt.NDArray[np.bool_]) -> Floats:
    """Distance in cells to the edge of what is solid, below 0 inside it; float32, the shape of `solid`."""
    if solid.all() or not solid.any():
        return np.full(solid.shape, -_FAR if solid.all() else _FAR, np.float32)
    inside = cv2.distanceTransform(solid.astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    outside = cv2.distanceTransform((~solid).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
    return np.asarray(np.where(solid, 0.5 - inside, outside - 0.5), np.float32)


def pack(force: Surface, setting: ForceSetting) -> Doubles:
    """Rows of a surface."""
    rows = base(force, CODE, setting)
    turn, size = place(force, setting, rows)
    rows[:, SHAPE], rows[:, OUTCOME] = _SHAPES[force.shape], _OUTCOMES[force.outcome]
    # An open model stops what comes from either side.
    rows[:, SIDE] = 1.0 if force.side == "outside" or (force.shape == "model" and is_open(force.model)) else -1.0
    for axis, number in enumerate((force.width, force.height, force.deep)):
        rows[:, HALF + axis] = setting.read(number) / 2 * size
    rows[:, RADIUS] = setting.read(force.radius) * size
    rows[:, COS], rows[:, SIN] = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    rows[:, RESTITUTION] = setting.read(force.restitution) / 100
    rows[:, RESTITUTION_SPREAD] = force.restitution.spread / 100
    rows[:, FRICTION] = setting.read(force.friction)
    if force.shape == "path":
        rows[:, FIRST], rows[:, COUNT] = setting.path(force.points, force.closed)
        rows[:, PX] = np.maximum(1e-6, size)
    elif force.shape == "matte":
        _sheets(force, setting, rows)
    elif force.shape == "model":
        columns = setting.models.add(force, setting.readings, setting.t, turn, size)
        rows[:, MODEL_COLUMNS : MODEL_COLUMNS + PLACED_WIDTH] = columns
    return rows


def lines(force: Surface, read: Read, far: float) -> list[Doubles]:
    """Its outline; a plane as far as `far` px, with ticks where it is solid."""
    match force.shape:
        case "plane":
            ticks = [np.array([[x, 0.0, 0.0], [x - 7, -9.0, 0.0]]) for x in np.arange(-far, far, 26.0)]
            return [np.array([[-far, 0, 0], [far, 0, 0]]), *ticks]
        case "rectangle":
            half = read(force.width) / 2
            return [np.array([[-half, 0, 0], [half, 0, 0]])]
        case "box":
            return [rectangle(read(force.width) / 2, read(force.height) / 2)]
        case "sphere":
            return [circle(read(force.radius))]
        case "path":
            return [bezier.flat(force.points, force.closed)]
        case "model":
            return placed_edges(force, read)
        case _:
            return []


@inline_kernel("f8(f4[:,:,::1], i8, f8, f8)", cache=True)
def _cell(mattes: Floats, sheet: int, column: float, row: float) -> float:
    """A sheet between its cells' centres; level beyond its edges."""
    h, w = mattes.shape[1], mattes.shape[2]
    c, r = min(max(column - 0.5, 0.0), w - 1.001), min(max(row - 0.5, 0.0), h - 1.001)
    i, j = int(c), int(r)
    fc, fr = c - i, r - j
    top = mattes[sheet, j, i] + fc * (mattes[sheet, j, i + 1] - mattes[sheet, j, i])
    low = mattes[sheet, j + 1, i] + fc * (mattes[sheet, j + 1, i + 1] - mattes[sheet, j + 1, i])
    return top + fr * (low - top)


@inline_kernel(f"UniTuple(f8,4)(f8[:,:,::1], i8, i8, f8[:,::1], {SOLIDS}, f8, f8, f8, f8)", cache=True)
def distance(
    rows: Doubles, s: int, r: int, paths: Doubles, solids: Solids, x: float, y: float, z: float, reach: float
) -> tuple[float, float, float, float]:
    """Distance of a place to a surface in px, below 0 where it is solid, and the unit vector away from it. reach: beyond that many
    px, it may be larger than what is returned, and there may be no vector."""
    dx, dy, dz = x - rows[s, r, PLACE], y - rows[s, r, PLACE + 1], z - rows[s, r, PLACE + 2]
    c, sn, shape, side = rows[s, r, COS], rows[s, r, SIN], int(rows[s, r, SHAPE]), rows[s, r, SIDE]
    if shape == SPHERE:
        d = math.sqrt(dx * dx + dy * dy + dz * dz)
        if d < 1e-9:
            return side * -rows[s, r, RADIUS], 0.0, side, 0.0
        return side * (d - rows[s, r, RADIUS]), side * dx / d, side * dy / d, side * dz / d
    if shape == MODEL:
        d = mesh_trees.least_distance(solids[1], rows, s, r, MODEL_COLUMNS, dx, dy, dz) * side
        if d > reach:
            return d, 0.0, 0.0, 0.0
        d, nx, ny, nz = mesh_trees.distance(solids[1], rows, s, r, MODEL_COLUMNS, dx, dy, dz)
        return d * side, nx * side, ny * side, nz * side
    if shape == MATTE:
        mattes = solids[0]
        sheet = int(rows[s, r, SHEET])
        if sheet < 0:
            return _FAR, 0.0, 1.0, 0.0
        px = rows[s, r, PX]
        column, row = x / px + mattes.shape[2] / 2, mattes.shape[1] / 2 - y / px
        d = _cell(mattes, sheet, column, row)
        gx = _cell(mattes, sheet, column + 0.75, row) - _cell(mattes, sheet, column - 0.75, row)
        gy = _cell(mattes, sheet, column, row - 0.75) - _cell(mattes, sheet, column, row + 0.75)
        g = math.sqrt(gx * gx + gy * gy)
        if g < 1e-9:
            return d * px, 0.0, 1.0, 0.0
        return d * px, gx / g, gy / g, 0.0
    lx, ly, lz = dx * c + dy * sn, -dx * sn + dy * c, dz
    if shape == PLANE:
        return ly, -sn, c, 0.0
    d, nx, ny, nz = 0.0, 0.0, 1.0, 0.0
    if shape == PATH:
        size = rows[s, r, PX]
        px, py, _, wx, wy, _ = nearest(paths, int(rows[s, r, FIRST]), int(rows[s, r, COUNT]), lx / size, ly / size, 0.0)
        ex, ey = lx / size - px, ly / size - py
        d = math.sqrt(ex * ex + ey * ey)
        nx, ny = (ex / d, ey / d) if d > 1e-9 else (-wy, wx)
        d *= size
    elif shape == RECTANGLE:
        qx, qz = max(abs(lx) - rows[s, r, HALF], 0.0), max(abs(lz) - rows[s, r, HALF + 2], 0.0)
        d = math.sqrt(qx * qx + ly * ly + qz * qz)
        if d > 1e-9:
            nx, ny, nz = math.copysign(qx, lx) / d, ly / d, math.copysign(qz, lz) / d
    else:
        qx, qy, qz = abs(lx) - rows[s, r, HALF], abs(ly) - rows[s, r, HALF + 1], abs(lz) - rows[s, r, HALF + 2]
        ox, oy, oz = max(qx, 0.0), max(qy, 0.0), max(qz, 0.0)
        out = math.sqrt(ox * ox + oy * oy + oz * oz)
        if out > 1e-9:
            d = out
            nx, ny, nz = math.copysign(ox, lx) / d, math.copysign(oy, ly) / d, math.copysign(oz, lz) / d
        else:
            d = max(qx, max(qy, qz))
            nx, ny, nz = 0.0, 0.0, 0.0
            if qx >= qy and qx >= qz:
                nx = math.copysign(1.0, lx)
            elif qy >= qz:
                ny = math.copysign(1.0, ly)
            else:
                nz = math.copysign(1.0, lz)
        d, nx, ny, nz = d * side, nx * side, ny * side, nz * side
    return d, nx * c - ny * sn, nx * sn + ny * c, nz

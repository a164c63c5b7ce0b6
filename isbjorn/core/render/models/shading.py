"""What a place on a model looks like: materials under the lights of the shot and its surroundings.

Reflections follow the GGX distribution with Smith's masking (Walter et al. 2007), Schlick's Fresnel term (1994), and the light that
is reflected several times between facets (Fdez-Agüera 2019, "A multiple-scattering microfacet model for real-time image-based
lighting"): in even light, a white metal of any roughness is as bright as what surrounds it. Glass bends light twice, as a ball of
the body's size with the same normal would.
"""

from __future__ import annotations

import functools
import math
from typing import Any, NamedTuple

import numpy as np
from numba import f4, f8, i8, prange, types, u1, void

from isbjorn.core.arrays import Bytes, Doubles, Floats, Longs
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.records import Records, record, records
from isbjorn.core.render.models.faces import (
    BLUE,
    FACE,
    GREEN,
    INSTANCE,
    OPACITY,
    RADIUS,
    REACH,
    RED,
    ROUGHER,
    X,
    Y,
    place_on,
)
from isbjorn.core.render.models.painting import paint_at
from isbjorn.core.render.models.surroundings import LEVELS, look
from isbjorn.core.render.scene.camera import VIEW
from isbjorn.core.render.scene.lights import LAMP

GLOWING, MATTE, PLASTIC, METAL, GLASS, RIM, DEPTH, FACING = range(8)
# The last two show no light: the distance of each pixel in place of red, and the normal in the camera's axes.
KINDS = {
    "glowing": GLOWING, "matte": MATTE, "plastic": PLASTIC, "metal": METAL, "glass": GLASS, "rim": RIM, "depth": DEPTH,
    "facing": FACING,
}  # fmt: skip
# A material: its kind; roughness in [0, 1]; how strong the surroundings are; index of refraction; colour of the rim times its
# strength, and the exponent with which it falls off; how far behind the body the picture is that glass shows, px; which of the
# surroundings are its own.
MATERIAL = record(kind=1, rough=1, strength=1, index=1, rim=3, fall=1, behind=1, sky=1)
# Of light that falls straight on plastic and glass, so much is reflected where the index is 1.5.
_PLASTIC_SHINE = 0.04
_TABLE = 32
# Half the side in px of faces that are shaded once: flat ones, and those with smooth normals or paint.
_SMALL, _SMALL_SMOOTH, _BLOCK = 10.0, 0.7, 256


class ShadedScene(NamedTuple):
    """What faces are shaded by. faces, smooth, painted, instances: see `seen_faces`; texels, levels: of the geometry; decoded
    (256,): values of texels as linear light; material (n,): the row of `materials` of each instance; views (1,), lamps (m,): in the
    camera's axes, axes (3, 3): the camera's; skies, light: the levels and the light of `Surroundings`; table: see `reflectance`;
    below (height, width, 4): the picture that glass shows, of one pixel where it shows none."""

    faces: Floats
    smooth: Floats
    painted: Floats
    texels: Bytes
    levels: Longs
    decoded: Floats
    instances: Doubles
    material: Longs
    materials: Records
    views: Records
    axes: Doubles
    lamps: Records
    skies: Floats
    light: Floats
    table: Floats
    below: Floats


SHADED_SCENE: Any = types.NamedTuple(  # type: ignore[no-untyped-call]
    (
        f4[:, ::1], f4[:, ::1], f4[:, ::1], u1[:, ::1], i8[:, ::1], f4[::1], f8[:, ::1], i8[::1], records(MATERIAL),
        records(VIEW), f8[:, ::1], records(LAMP), f4[:, :, :, ::1], f4[:, :, ::1], f4[:, :, ::1], f4[:, :, ::1],
    ),
    ShadedScene,
)  # fmt: skip


@functools.cache
def reflectance() -> Floats:
    """What a rough mirror reflects of even light, by the cosine of the view and the roughness: float32 (n, n, 2), to be multiplied
    by the reflectance of a straight view and added (the split sum; samples of the distribution of normals)."""
    count = 1024
    k = np.arange(count)
    bits = np.zeros(count)
    rest, place = k.copy(), 0.5
    while rest.any():
        bits += place * (rest & 1)
        rest >>= 1
        place /= 2
    out = np.zeros((_TABLE, _TABLE, 2), np.float32)
    turn, e = 2 * np.pi * (k + 0.5) / count, bits
    for i in range(_TABLE):
        mu = (i + 0.5) / _TABLE
        view = np.array([math.sqrt(1 - mu * mu), 0.0, mu])
        for j in range(_TABLE):
            a = ((j + 0.5) / _TABLE) ** 2
            cosine = np.sqrt((1 - e) / (1 + (a * a - 1) * e))
            sine = np.sqrt(np.maximum(0, 1 - cosine**2))
            half = np.stack([sine * np.cos(turn), sine * np.sin(turn), cosine], axis=1)
            vh = half @ view
            lz = 2 * vh * half[:, 2] - view[2]
            there = (lz > 0) & (vh > 0)
            lz, vh, nh = lz[there], vh[there], cosine[there]
            masked = [2 * c / (c + np.sqrt(a * a + (1 - a * a) * c * c)) for c in (lz, mu)]
            visible = masked[0] * masked[1] * vh / (nh * mu)
            fresnel = (1 - vh) ** 5
            out[i, j] = (visible * (1 - fresnel)).sum() / count, (visible * fresnel).sum() / count
    return out


@inline_kernel(types.UniTuple(f8, 2)(f4[:, :, ::1], f8, f8), cache=True, forceinline=True)  # type: ignore[no-untyped-call]
def _reflected(table: Floats, mu: float, rough: float) -> tuple[float, float]:
    n = table.shape[0]
    s, t = min(max(mu * n - 0.5, 0.0), n - 1.001), min(max(rough * n - 0.5, 0.0), n - 1.001)
    i, j = int(s), int(t)
    a, b = s - i, t - j
    scale = (table[i, j, 0] * (1 - a) + table[i + 1, j, 0] * a) * (1 - b) + (
        table[i, j + 1, 0] * (1 - a) + table[i + 1, j + 1, 0] * a
    ) * b
    more = (table[i, j, 1] * (1 - a) + table[i + 1, j, 1] * a) * (1 - b) + (
        table[i, j + 1, 1] * (1 - a) + table[i + 1, j + 1, 1] * a
    ) * b
    return scale, more


@inline_kernel(void(f4[:, :, :, ::1], i8, f8[:, ::1], f8, f8, f8, f8, f4[::1], f8), cache=True, forceinline=True)
def _look_at(
    levels: Floats, sky: int, axes: Doubles, x: float, y: float, z: float, rough: float, out: Floats, share: float
) -> None:
    """Add a share of the surroundings in a direction of the camera's axes, as blurred as a roughness wants it."""
    at = min(max(rough, 0.0), 1.0) * (LEVELS - 1)
    k = min(int(at), LEVELS - 2)
    dx = np.float32(x * axes[0, 0] + y * axes[1, 0] + z * axes[2, 0])
    dy = np.float32(x * axes[0, 1] + y * axes[1, 1] + z * axes[2, 1])
    dz = np.float32(x * axes[0, 2] + y * axes[1, 2] + z * axes[2, 2])
    if at - k < 1:
        look(levels[sky * LEVELS + k], dx, dy, dz, out, np.float32(share * (1 - (at - k))))
    if at > k:
        look(levels[sky * LEVELS + k + 1], dx, dy, dz, out, np.float32(share * (at - k)))


@inline_kernel(
    void(f4[:, ::1], f8[:, ::1], f8, f8, f8, f4[::1], f8),
    cache=True,
    fastmath={"contract", "nnan", "ninf", "nsz"},
    forceinline=True,
)
def _soft_light(light: Floats, axes: Doubles, nx: float, ny: float, nz: float, out: Floats, share: float) -> None:
    """Add a share of what a white matte surface sends out under the surroundings."""
    x = np.float32(nx * axes[0, 0] + ny * axes[1, 0] + nz * axes[2, 0])
    y = np.float32(nx * axes[0, 1] + ny * axes[1, 1] + nz * axes[2, 1])
    z = np.float32(nx * axes[0, 2] + ny * axes[1, 2] + nz * axes[2, 2])
    part, a, b, d, e = (
        np.float32(share),
        np.float32(0.488603),
        np.float32(1.092548),
        np.float32(0.315392),
        np.float32(0.546274),
    )
    k0, k1, k2, k3, k4, k5, k7 = np.float32(0.282095), a * y, a * z, a * x, b * x * y, b * y * z, b * x * z
    k6, k8 = d * (np.float32(3) * z * z - np.float32(1)), e * (x * x - y * y)
    for c in range(4):
        found = (
            k0 * light[0, c] + k1 * light[1, c] + k2 * light[2, c] + k3 * light[3, c] + k4 * light[4, c] + k5 * light[5, c]
            + k6 * light[6, c] + k7 * light[7, c] + k8 * light[8, c]
        )  # fmt: skip
        out[c] += part * max(np.float32(0), found)


@inline_kernel(
    void(records(LAMP), f8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f8, f4[::1], f4[::1]), cache=True, error_model="numpy"
)
def _lamps(
    lamps: Records, px: float, py: float, pz: float, nx: float, ny: float, nz: float, vx: float, vy: float, vz: float, rough: float,
    shine: float, matte: Floats, gloss: Floats,
) -> None:  # fmt: skip
    """Add what lamps do: to a white matte surface, and to one that reflects a share of light that falls straight on it."""
    a2 = max(1e-4, rough**4)
    mu = max(1e-3, nx * vx + ny * vy + nz * vz)
    for m in range(len(lamps)):
        lamp = lamps[m]
        x, y, z = lamp.place[0] - px, lamp.place[1] - py, lamp.place[2] - pz
        away = math.sqrt(x * x + y * y + z * z)
        level = min(1.0, max(0.0, 1.0 - (away - lamp.radius) / lamp.falloff))
        if level <= 0 or away < 1e-9:
            continue
        level = level**lamp.power
        x, y, z = x / away, y / away, z / away
        falls = nx * x + ny * y + nz * z
        if falls <= 0:
            continue
        hx, hy, hz = x + vx, y + vy, z + vz
        length = math.sqrt(hx * hx + hy * hy + hz * hz)
        nh = max(0.0, (nx * hx + ny * hy + nz * hz) / length) if length > 1e-9 else 0.0
        vh = max(0.0, (vx * hx + vy * hy + vz * hz) / length) if length > 1e-9 else 0.0
        d = nh * nh * (a2 - 1) + 1
        spread = a2 / (d * d)
        masks = falls * math.sqrt(mu * mu * (1 - a2) + a2) + mu * math.sqrt(falls * falls * (1 - a2) + a2)
        mirrored = spread * 0.5 / max(masks, 1e-9) * (shine + (1 - shine) * (1 - vh) ** 5) * falls
        for c in range(3):
            matte[c] += level * falls * lamp.light[c]
            gloss[c] += level * mirrored * lamp.light[c]


@inline_kernel(void(f4[:, :, ::1], f8, f8, f4[::1], f8), cache=True)
def _picture_at(below: Floats, x: float, y: float, out: Floats, share: float) -> None:
    """Add a share of the picture at a pixel to out (4,); beyond its edges it is mirrored."""
    height, width = below.shape[0], below.shape[1]
    x, y = x - 0.5, y - 0.5
    i, j = math.floor(x), math.floor(y)
    a, b = x - i, y - j
    for dj in range(2):
        for di in range(2):
            col, row = (i + di) % (2 * width), (j + dj) % (2 * height)
            col, row = col if col < width else 2 * width - 1 - col, row if row < height else 2 * height - 1 - row
            part = share * (a if di == 1 else 1 - a) * (b if dj == 1 else 1 - b)
            for c in range(4):
                out[c] += part * below[row, col, c]


@inline_kernel(void(SHADED_SCENE, i8, f8, f8, f8, f4[:, ::1]), cache=True, error_model="numpy", forceinline=True)
def shade(scene: ShadedScene, f: int, x: float, y: float, spread: float, out: Floats) -> None:
    """Colour (premultiplied) and cover of a face at a pixel, into out[0] (4,); out (4, 4): the other rows are scratch memory.
    spread: px over which the colours of its paint are averaged."""
    faces, smooth, axes, lamps, levels, below = (
        scene.faces,
        scene.smooth,
        scene.axes,
        scene.lamps,
        scene.skies,
        scene.below,
    )
    face, mat, view = faces[f], scene.materials[scene.material[int(faces[f, INSTANCE])]], scene.views[0]
    red, green, blue, opacity = face[RED], face[GREEN], face[BLUE], face[OPACITY]
    shown, matte, gloss, seen = out[0], out[1], out[2], out[3]
    if len(scene.painted) > 0:
        paint_at(
            faces, scene.painted, scene.texels, scene.levels, scene.decoded, scene.views, f, x, y, spread, seen
        )  # fmt: skip
        red, green, blue = red * seen[0], green * seen[1], blue * seen[2]
    away, px, py, pz, nx, ny, nz, vx, vy, vz = place_on(faces, smooth, scene.views, f, x, y)
    mu = nx * vx + ny * vy + nz * vz
    mu = min(mu, 1.0)
    rough = min(max(mat.rough + scene.instances[int(face[INSTANCE]), ROUGHER], 0.0), 1.0)
    kind, sky = int(mat.kind), int(mat.sky)
    for c in range(4):
        shown[c], seen[c], matte[c], gloss[c] = 0.0, 0.0, 0.0, 0.0
    shine = ((mat.index - 1) / (mat.index + 1)) ** 2 if kind == GLASS else (1.0 if kind == METAL else _PLASTIC_SHINE)
    if len(lamps) > 0:
        _lamps(lamps, px, py, pz, nx, ny, nz, vx, vy, vz, rough, shine, matte, gloss)
    if kind in (MATTE, RIM, PLASTIC):
        _soft_light(scene.light[sky], axes, nx, ny, nz, matte, mat.strength)
    if kind in (PLASTIC, METAL):
        scale, more = _reflected(scene.table, mu, rough)
        rx, ry, rz = 2 * mu * nx - vx, 2 * mu * ny - vy, 2 * mu * nz - vz
        _look_at(levels, sky, axes, rx, ry, rz, rough, seen, mat.strength)
        once = scale + more
        mean = shine + (1 - shine) / 21
        again = (1 - once) / max(1e-6, 1 - mean * (1 - once))
        if kind == METAL:
            # Its colour tints every reflection.
            tint = (red, green, blue)
            for c in range(3):
                whole = tint[c] * scale + more
                whole += whole * (tint[c] + (1 - tint[c]) / 21) * again
                shown[c] = seen[c] * whole + gloss[c] * tint[c]
        else:
            mirrored = shine * scale + more
            mirrored += mirrored * mean * again
            tint = (red, green, blue)
            for c in range(3):
                shown[c] = matte[c] * tint[c] * (1 - mirrored) + seen[c] * mirrored + gloss[c]
        shown[3] = 1.0
    elif kind == GLASS:
        mirrored = _fresnel(mu, mat.index)
        rx, ry, rz = 2 * mu * nx - vx, 2 * mu * ny - vy, 2 * mu * nz - vz
        _look_at(levels, sky, axes, rx, ry, rz, rough, shown, mirrored * mat.strength)
        # In at an angle, out at the same: the ray turns twice by the difference of the two angles, toward the middle of the ball.
        sine = math.sqrt(max(0.0, 1 - mu * mu))
        inner = sine / mat.index
        root = math.sqrt(max(0.0, 1 - inner * inner))
        k = root - mu / mat.index
        tx, ty, tz = -vx / mat.index - k * nx, -vy / mat.index - k * ny, -vz / mat.index - k * nz
        # The normal where it leaves.
        ex, ey, ez = nx + 2 * root * tx, ny + 2 * root * ty, nz + 2 * root * tz
        ox, oy, oz = mat.index * tx + (mu - mat.index * root) * ex, mat.index * ty + (mu - mat.index * root) * ey, 0.0
        oz = mat.index * tz + (mu - mat.index * root) * ez
        through = 0.0
        if below.shape[0] > 1 and oz < -0.05:
            chord = 2 * root * scene.instances[int(face[INSTANCE]), RADIUS]
            far = mat.behind / -oz
            qx, qy, qz = px + chord * tx + far * ox, py + chord * ty + far * oy, pz + chord * tz + far * oz
            times = view.lens / max(-qz, 1.0) if view.lens > 0 else 1.0
            at_x, at_y = view.width / 2 + qx * times * view.scale_x, view.height / 2 - qy * times * view.scale_y
            _picture_at(below, at_x, at_y, seen, 1.0)
            through = min(1.0, seen[3])
        if through < 1:
            _look_at(levels, sky, axes, ox, oy, oz, rough, seen, (1 - through) * mat.strength)
        tint = (red, green, blue)
        for c in range(3):
            shown[c] += gloss[c] + (1 - mirrored) * seen[c] * tint[c]
        shown[3] = 1.0
    elif kind == GLOWING:
        shown[0], shown[1], shown[2], shown[3] = red, green, blue, 1.0
    elif kind == DEPTH:
        shown[0] = away if view.lens > 0 else -pz - view.eye[2]
        shown[1], shown[2], shown[3] = green, blue, 1.0
    elif kind == FACING:
        shown[0], shown[1], shown[2], shown[3] = nx, ny, nz, 1.0
    else:
        tint = (red, green, blue)
        edge = (1 - mu) ** mat.fall if kind == RIM else 0.0
        for c in range(3):
            shown[c] = matte[c] * tint[c] + edge * mat.rim[c]
        shown[3] = 1.0
    for c in range(4):
        shown[c] *= opacity


@inline_kernel(f8(f8, f8), cache=True)
def _fresnel(cosine: float, index: float) -> float:
    """The share of unpolarised light that glass reflects (Fresnel)."""
    sine2 = (1 - cosine * cosine) / (index * index)
    if sine2 >= 1:
        return 1.0
    inner = math.sqrt(1 - sine2)
    s = (cosine - index * inner) / (cosine + index * inner)
    p = (index * cosine - inner) / (index * cosine + inner)
    return 0.5 * (s * s + p * p)


@njit(void(SHADED_SCENE), parallel=True, cache=True, error_model="numpy")
def shade_small(scene: ShadedScene) -> None:
    """Shade faces that look the same all over once, in their middle: their colour is then what is shown, and their `FACE` is -1."""
    for block in prange((len(scene.faces) + _BLOCK - 1) // _BLOCK):
        out = np.empty((4, 4), np.float32)
        for f in range(block * _BLOCK, min(len(scene.faces), (block + 1) * _BLOCK)):
            face = scene.faces[f]
            kind = int(scene.materials[scene.material[int(face[INSTANCE])]].kind)
            most = _SMALL if len(scene.smooth) == 0 else _SMALL_SMOOTH
            if len(scene.painted) > 0 or kind == DEPTH:
                most = _SMALL_SMOOTH
            elif kind == MATTE and len(scene.smooth) == 0 and len(scene.lamps) == 0:
                most = np.inf
            if kind == GLOWING and len(scene.painted) == 0:
                face[FACE] = -1
            elif kind != GLASS and face[REACH] < most:
                opacity = face[OPACITY]
                face[OPACITY] = 1.0
                shade(scene, f, face[X], face[Y], max(1.0, 2 * face[REACH]), out)
                face[RED], face[GREEN], face[BLUE], face[OPACITY], face[FACE] = (
                    out[0, 0],
                    out[0, 1],
                    out[0, 2],
                    opacity,
                    -1,
                )

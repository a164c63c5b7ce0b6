"""Surroundings that models reflect and are lit by: a picture of all directions, blurred for every roughness.

Directions are mapped to a square by the octahedron (Meyer et al. 2010, "On floating-point normal vectors"), which needs no angles.
Level 0 is sharp; the others are filtered by the GGX lobe of their roughness (Walter et al. 2007, "Microfacet models for refraction
through rough surfaces"), with samples that read a blurred picture (Křivánek and Colbert 2008, "Real-time shading with filtered
importance sampling"). Light on matte surfaces is nine spherical harmonics (Ramamoorthi and Hanrahan 2001, "An efficient
representation for irradiance environment maps").
"""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numba import f4, f8, prange, types, void

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock

LEVELS = 6
_SAMPLES = 64
# Side of the pictures of all directions, and of the source that samples read.
_SIDE, _SOURCE = 96, 64


@dataclass(frozen=True)
class Surroundings:
    """levels (k · LEVELS, n + 2, n + 2, 4), of k surroundings one after the other: radiance by direction, with a border that
    continues it, for roughness 0 to 1; light (k, 9, 4): coefficients of the radiance that leaves a white matte surface. The fourth
    channel is 0, so that four are read at once."""

    levels: Floats
    light: Floats


@inline_kernel(types.UniTuple(f8, 3)(f8, f8), cache=True)  # type: ignore[no-untyped-call]
def unfolded(u: float, v: float) -> tuple[float, float, float]:
    """The unit direction of a place on the octahedron's square."""
    y = 1 - abs(u) - abs(v)
    x, z = u, v
    if y < 0:
        x, z = (1 - abs(v)) * math.copysign(1.0, u), (1 - abs(u)) * math.copysign(1.0, v)
    length = math.sqrt(x * x + y * y + z * z)
    return x / length, y / length, z / length


@inline_kernel(
    void(f4[:, :, ::1], f4, f4, f4, f4[::1], f4), cache=True, forceinline=True, error_model="numpy",
    fastmath={"contract", "nnan", "ninf", "nsz", "arcp"},
)  # fmt: skip
def look(level: Floats, x: Any, y: Any, z: Any, out: Floats, share: Any) -> None:
    """Add a share of the radiance from a direction to out (4,)."""
    one, half = np.float32(1), np.float32(0.5)
    whole = one / (abs(x) + abs(y) + abs(z))
    u, v = x * whole, z * whole
    if y < 0:
        a, b = (one - abs(v)) * (one if u >= 0 else -one), (one - abs(u)) * (one if v >= 0 else -one)
        u, v = a, b
    n = level.shape[0] - 2
    s, t = (half * u + half) * np.float32(n) + half, (half * v + half) * np.float32(n) + half
    i, j = min(np.int64(s), n), min(np.int64(t), n)
    a, b = s - np.float32(i), t - np.float32(j)
    p, q, r, w = (one - a) * (one - b) * share, a * (one - b) * share, (one - a) * b * share, a * b * share
    for c in range(4):
        out[c] += p * level[j, i, c] + q * level[j, i + 1, c] + r * level[j + 1, i, c] + w * level[j + 1, i + 1, c]


@njit(void(f4[:, :, ::1], f8, f4[:, :, ::1], f8[:, ::1]), parallel=True, cache=True)
def _filtered(source: Floats, roughness: float, out: Floats, points: Doubles) -> None:
    """The radiance that a lobe of a roughness around each direction sees, out (n + 2, n + 2, 4); points (s, 2): even, in [0, 1)."""
    n = out.shape[0] - 2
    a2 = max(1e-6, roughness**4)
    for j in prange(1, n + 1):
        light = np.zeros(4, np.float32)
        for i in range(1, n + 1):
            x, y, z = unfolded(2 * (i - 0.5) / n - 1, 2 * (j - 0.5) / n - 1)
            # Two axes across (Duff et al. 2017, "Building an orthonormal basis, revisited").
            sign = math.copysign(1.0, z)
            p, q = -1.0 / (sign + z), 0.0
            q = x * y * p
            ux, uy, uz = 1.0 + sign * x * x * p, sign * q, -sign * x
            vx, vy, vz = q, sign + y * y * p, -y
            light[:] = 0
            total = 0.0
            for k in range(len(points)):
                turn, e = 2 * math.pi * points[k, 0], points[k, 1]
                cosine = math.sqrt((1 - e) / (1 + (a2 - 1) * e))
                sine = math.sqrt(max(0.0, 1 - cosine * cosine))
                c, s = math.cos(turn) * sine, math.sin(turn) * sine
                hx, hy, hz = ux * c + vx * s + x * cosine, uy * c + vy * s + y * cosine, uz * c + vz * s + z * cosine
                lx, ly, lz = 2 * cosine * hx - x, 2 * cosine * hy - y, 2 * cosine * hz - z
                weight = lx * x + ly * y + lz * z
                if weight > 0:
                    look(source, np.float32(lx), np.float32(ly), np.float32(lz), light, np.float32(weight))
                    total += weight
            for c3 in range(3):
                out[j, i, c3] = light[c3] / total


_filter_level = kernel_lock(_filtered)


def _directions(side: int) -> Doubles:
    """The directions of the pixels of a square, (side, side, 3)."""
    at = 2 * (np.arange(side) + 0.5) / side - 1
    u, v = np.meshgrid(at, at)
    y = 1 - np.abs(u) - np.abs(v)
    below = y < 0
    x = np.where(below, (1 - np.abs(v)) * np.copysign(1, u), u)
    z = np.where(below, (1 - np.abs(u)) * np.copysign(1, v), v)
    found = np.stack([x, y, z], axis=2)
    return np.asarray(found / np.linalg.norm(found, axis=2, keepdims=True))


def _bordered(picture: Floats) -> Floats:
    """A square with a border of one pixel: beyond an edge the octahedron continues on the same edge, mirrored about its middle."""
    n = len(picture)
    out = np.zeros((n + 2, n + 2, 4), np.float32)
    out[1:-1, 1:-1, : picture.shape[2]] = picture
    picture = out[1:-1, 1:-1].copy()
    out[0, 1:-1], out[-1, 1:-1] = picture[0, ::-1], picture[-1, ::-1]
    out[1:-1, 0], out[1:-1, -1] = picture[::-1, 0], picture[::-1, -1]
    out[0, 0], out[0, -1], out[-1, 0], out[-1, -1] = picture[-1, -1], picture[-1, 0], picture[0, -1], picture[0, 0]
    return out


def _points(count: int) -> Doubles:
    """The Hammersley set in two dimensions, (count, 2)."""
    k = np.arange(count)
    reverse, place = np.zeros(count), 0.5
    rest = k.copy()
    while rest.any():
        reverse += place * (rest & 1)
        rest >>= 1
        place /= 2
    return np.stack([(k + 0.5) / count, reverse], axis=1)


def _harmonics(d: Doubles) -> Doubles:
    """Real spherical harmonics to the second order at directions (..., 3), (..., 9)."""
    x, y, z = d[..., 0], d[..., 1], d[..., 2]
    return np.stack([
        np.full_like(x, 0.282095), 0.488603 * y, 0.488603 * z, 0.488603 * x, 1.092548 * x * y, 1.092548 * y * z,
        0.315392 * (3 * z * z - 1), 1.092548 * x * z, 0.546274 * (x * x - y * y),
    ], axis=-1)  # fmt: skip


def _light_of(picture: Floats, side: int) -> Floats:
    """Nine coefficients of the light that leaves a white matte surface, float32 (9, 4)."""
    d = _directions(side)
    # Solid angle of a pixel of the octahedron: the triangle's share, by the cube of how far its plane is away.
    l1 = np.abs(d).sum(axis=2)
    weight = l1**3
    weight *= 4 * np.pi / weight.sum()
    basis = _harmonics(d)
    coefficients = np.einsum("ij,ijk,ijc->kc", weight, basis, picture.astype(np.float64))
    # The cosine lobe, over pi.
    lobe = np.array([1.0] + [2 / 3] * 3 + [1 / 4] * 5)
    return np.pad(coefficients * lobe[:, None], ((0, 0), (0, 1))).astype(np.float32)


def surroundings_of(radiance: Floats, side: int = _SIDE, samples: int = _SAMPLES) -> Surroundings:
    """Surroundings of a picture of all directions, equirectangular: float32 (height, width, 3), linear, up at its top and the
    viewer's far side in its middle."""

    def read(count: int) -> Floats:
        d = _directions(count)
        small = radiance
        while small.shape[0] > 4 * count:
            small = np.asarray(
                cv2.resize(small, (small.shape[1] // 2, small.shape[0] // 2), interpolation=cv2.INTER_AREA), np.float32
            )
        h, w = small.shape[:2]
        at_x = (np.arctan2(d[..., 0], -d[..., 2]) / (2 * np.pi) + 0.5) * w - 0.5
        at_y = np.arccos(np.clip(d[..., 1], -1, 1)) / np.pi * h - 0.5
        wrapped = np.concatenate([small[:, -1:], small, small[:, :1]], axis=1)
        found = cv2.remap(
            wrapped, (at_x + 1).astype(np.float32), np.clip(at_y, 0, h - 1).astype(np.float32), cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
        return np.asarray(found, np.float32)

    source = read(min(_SOURCE, side))
    levels = np.zeros((LEVELS, side + 2, side + 2, 4), np.float32)
    levels[0] = _bordered(read(side))
    padded, points = _bordered(source), _points(samples)
    for k in range(1, LEVELS):
        _filter_level(padded, k / (LEVELS - 1), levels[k], points)
        levels[k] = _bordered(levels[k, 1:-1, 1:-1].copy())
    return Surroundings(levels, _light_of(source, len(source))[None])


def even(value: float = 1.0) -> Surroundings:
    """The same light from everywhere."""
    return surroundings_of(np.full((8, 16, 3), value, np.float32), 32, 16)


def _soft(away: Doubles, wide: float, soft: float) -> Doubles:
    return np.clip((wide - away) / soft + 0.5, 0, 1)


def _sky(kind: str) -> Floats:
    """A built-in sky, equirectangular."""
    height, width = 128, 256
    up = np.pi * (0.5 - (np.arange(height) + 0.5) / height)
    side = 2 * np.pi * ((np.arange(width) + 0.5) / width - 0.5)
    el, az = np.meshgrid(up, side, indexing="ij")
    d = np.stack([np.cos(el) * np.sin(az), np.sin(el), -np.cos(el) * np.cos(az)], axis=2)

    def mixed(low: tuple[float, ...], high: tuple[float, ...], share: Doubles) -> Doubles:
        return np.asarray(np.array(low) + share[..., None] * (np.array(high) - np.array(low)))

    def lamp(x: float, y: float, z: float, wide: float, soft: float, colour: tuple[float, ...]) -> Doubles:
        to = np.array([x, y, z]) / math.sqrt(x * x + y * y + z * z)
        away = np.degrees(np.arccos(np.clip(d @ to, -1, 1)))
        return np.asarray(_soft(away, wide, soft)[..., None] * np.array(colour))

    rise = np.clip(d[..., 1], 0, 1)
    ground = np.clip(-d[..., 1] * 3, 0, 1)
    match kind:
        case "day":
            found = mixed((0.75, 0.86, 0.95), (0.16, 0.33, 0.68), rise**0.5)
            found = np.where(d[..., 1:2] > 0, found, mixed((0.42, 0.40, 0.36), (0.16, 0.15, 0.13), ground))
            found = found + lamp(0.5, 0.7, 0.5, 5, 3, (30, 27, 22))
        case "dusk":
            found = mixed((1.0, 0.42, 0.16), (0.05, 0.08, 0.22), np.clip(rise * 1.6, 0, 1) ** 0.5)
            found = np.where(d[..., 1:2] > 0, found, mixed((0.20, 0.11, 0.07), (0.03, 0.025, 0.03), ground))
            found = found + lamp(-0.8, 0.08, -0.6, 9, 8, (9, 4, 1.2))
        case "night":
            found = mixed((0.030, 0.042, 0.075), (0.006, 0.010, 0.024), rise**0.5)
            found = np.where(d[..., 1:2] > 0, found, mixed((0.02, 0.016, 0.012), (0.004, 0.004, 0.004), ground))
            for k in range(9):
                turn = 2 * np.pi * (k + 0.3 * (k % 3)) / 9
                found = found + lamp(math.sin(turn), 0.10 + 0.05 * (k % 2), math.cos(turn), 2.5, 2, (5.0, 2.7, 0.9))
            found = found + lamp(0.4, 0.8, 0.3, 4, 3, (2.2, 2.4, 2.8))
        case _:
            found = mixed((0.13, 0.135, 0.14), (0.30, 0.31, 0.33), rise)
            found = np.where(d[..., 1:2] > 0, found, mixed((0.13, 0.125, 0.12), (0.05, 0.05, 0.05), ground))
            found = found + lamp(-0.7, 0.7, 0.6, 24, 6, (3.4, 3.3, 3.1)) + lamp(0.9, 0.25, 0.2, 16, 6, (0.9, 1.1, 1.4))
            found = found + lamp(0.1, 0.3, -1.0, 14, 8, (1.6, 1.5, 1.3))
    return np.asarray(found, np.float32)


@functools.cache
def built_in(kind: str) -> Surroundings:
    """Surroundings by their name: studio, day, dusk, night, or none."""
    return surroundings_of(np.zeros((8, 16, 3), np.float32) if kind == "none" else _sky(kind))


def all_of(parts: Sequence[Surroundings]) -> Surroundings:
    """Several surroundings, distinguished by their number."""
    if len(parts) == 1:
        return parts[0]
    return Surroundings(np.concatenate([p.levels for p in parts]), np.concatenate([p.light for p in parts]))


def around_plate(plate: Floats) -> Floats:
    """A picture of all directions in which the plate is behind the picture, and its mirror image before it: what a ball in front of
    it would reflect, about. plate: float32 (height, width, 4), linear."""
    height, width = 64, 128
    el = np.pi * (0.5 - (np.arange(height) + 0.5) / height)
    az = 2 * np.pi * ((np.arange(width) + 0.5) / width - 0.5)
    up, side = np.meshgrid(el, az, indexing="ij")
    x, y = np.cos(up) * np.sin(side), np.sin(up)
    at_x = (0.5 + 0.5 * x) * plate.shape[1] - 0.5
    at_y = (0.5 - 0.5 * y) * plate.shape[0] - 0.5
    found = cv2.remap(
        np.ascontiguousarray(plate[..., :3], np.float32), at_x.astype(np.float32), at_y.astype(np.float32), cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )  # fmt: skip
    return np.asarray(found, np.float32)

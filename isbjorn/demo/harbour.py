"""The made-up harbour at dusk: a plate painted by numbers, four seconds long, that loops without a seam."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Floats
from isbjorn.demo.paint import HEIGHT, WIDTH, mix, rgb

FRAMES = 100
HORIZON = 0.62


def _ridge(x: Floats, rng: np.random.Generator, base: float, height: float) -> Floats:
    """A line of hills, as a share of the picture's height from the top."""
    line = np.zeros_like(x)
    for octave in range(1, 7):
        line += np.sin(x * 2.1**octave * 1.7 + rng.random() * 7) * 0.55**octave
    return (base - height * (0.5 + 0.5 * line)).astype(np.float32)


def _sky(y: Floats, x: Floats) -> Floats:
    t = np.clip(y / HORIZON, 0, 1)
    stops, colours = [0.0, 0.45, 0.78, 1.0], [rgb("1d2b3f"), rgb("3b4358"), rgb("745a5c"), rgb("a8705a")]
    sky = np.stack([np.interp(t, stops, [c[i] for c in colours]) for i in range(3)], axis=-1).astype(np.float32)
    glow = np.exp(-(((x - 0.72) / 0.35) ** 2) - ((y - HORIZON) / 0.13) ** 2)
    return sky + (glow[..., None] * rgb("5a3418") * 0.55).astype(np.float32)


def _lights(rng: np.random.Generator) -> Floats:
    """Lamps along the far shore: x, brightness, warmth."""
    x = np.concatenate([rng.random(26) * 0.42, 0.6 + rng.random(22) * 0.36])
    return np.stack([x, 0.35 + 0.65 * rng.random(48), rng.random(48)], axis=1).astype(np.float32)


def still(width: int = WIDTH, height: int = HEIGHT) -> tuple[Floats, Floats]:
    """The unmoving part as encoded sRGB (height, width, 3), and a mask of the water (height, width)."""
    rng = np.random.default_rng(7)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    y, x = y / height, x / width
    picture = _sky(y, x)
    line = x[0]
    far = _ridge(line * 5, rng, HORIZON, 0.10)
    near = _ridge(line * 3 + 2, rng, HORIZON + 0.004, 0.055)
    for ridge, colour in ((far, rgb("2c3340")), (near, rgb("1b2129"))):
        inside = np.clip((y - ridge[None]) * height, 0, 1) * (y < HORIZON)
        picture = mix(picture, colour, inside)
    water = (y >= HORIZON).astype(np.float32)
    mirrored = np.clip(2 * HORIZON - y, 0, 1)
    depth = np.clip((y - HORIZON) / (1 - HORIZON), 0, 1)
    sea = mix(_sky(mirrored, x) * 0.62, rgb("141c25"), np.clip(depth * 1.15, 0, 0.92))
    picture = mix(picture, sea, water)
    return picture, water


def _pier(width: int, height: int) -> tuple[Floats, Floats]:
    """The pier with its posts and the iron basket on its stand: cover and colour."""
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    y, x = y / height, x / width
    cover = np.zeros((height, width), np.float32)
    deck = (y > 0.80 + 0.05 * (x - 0.5)) & (x < 0.66)
    deck |= (y > 0.80 + 0.008) & (x < 0.655) & (y < 0.86)
    cover[deck] = 1
    for post in (0.055, 0.21, 0.365):
        cover[(np.abs(x - post) < 0.005) & (y > 0.735) & (y < 0.84)] = 1
    ropes = 0.762 + 0.9 * ((x - 0.055) % 0.155 - 0.0775) ** 2 * -1 + 0.006
    cover[(np.abs(y - (ropes + 0.004)) < 0.0016) & (x > 0.055) & (x < 0.365)] = 1
    stand = (np.abs(x - 0.5) < 0.0035) & (y > 0.72) & (y < 0.83)
    foot = (np.abs(np.abs(x - 0.5) - (y - 0.77) * 0.35) < 0.0028) & (y > 0.77) & (y < 0.835)
    bowl = (np.abs(x - 0.5) < 0.030 - (y - 0.675) * 0.28) & (y > 0.675) & (y < 0.728)
    bars = bowl & (
        (np.floor((x - 0.5) * 260) % 3 == 0) | (np.abs(y - 0.68) < 0.004) | (y > 0.72) | (np.abs(y - 0.70) < 0.0025)
    )
    cover[stand | foot | bars] = 1
    planks = 0.5 + 0.5 * np.sin(y * 900)
    colour = np.empty((height, width, 3), np.float32)
    colour[:] = rgb("15191d")
    colour += (0.012 * planks * deck)[..., None]
    return cover, colour


def frames(count: int = FRAMES, width: int = WIDTH, height: int = HEIGHT) -> Callable[[int], npt.NDArray[np.uint8]]:
    """A painter of frame n of the loop: encoded sRGB uint8 (height, width, 3)."""
    base, water = still(width, height)
    cover, pier = _pier(width, height)
    lamps = _lights(np.random.default_rng(11))
    rows = np.flatnonzero(water[:, 0])
    depth = (rows - rows[0]) / len(rows)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    grain = np.random.default_rng(3).normal(0, 0.006, (8, height, width, 1)).astype(np.float32)
    warm, cool = rgb("ffd9a0"), rgb("fff3dc")

    def paint(number: int) -> npt.NDArray[np.uint8]:
        turn = 2 * np.pi * number / count
        picture = base.copy()
        # Every wave comes round a whole number of times in the loop.
        shift = np.zeros(len(rows), np.float32)
        for cycles, length, amount in ((2, 90, 5.0), (3, 37, 3.0), (5, 17, 1.6)):
            shift += amount * (0.15 + depth) * np.sin(turn * cycles + (1 - depth) ** 3 * length)
        ripple = 0.5 + 0.5 * np.sin(turn * 4 + (1 - depth[:, None]) ** 2.5 * 160 + np.sin(x[rows] / 61 + turn) * 1.8)
        picture[rows] *= (0.90 + 0.16 * ripple * (0.4 + 0.6 * depth[:, None]))[..., None]
        for lamp_x, light, kind in lamps:
            centre = lamp_x * width
            flicker = light * (0.94 + 0.06 * np.sin(turn * (1 + int(kind * 5)) + kind * 30))
            colour = warm if kind < 0.7 else cool
            near = slice(max(0, int(centre) - 14), int(centre) + 14)
            spot = np.exp(-((x[:, near] - centre) ** 2 + (y[:, near] - (HORIZON * height - 9 - 8 * kind)) ** 2) / 3.2)
            picture[:, near] += (spot * flicker)[..., None] * colour
            wobble = centre + shift[:, None] * (1 + kind)
            streak = np.exp(-((x[rows, near] - wobble) ** 2) / 7.0) * (1 - depth[:, None]) ** 5 * ripple[:, near]
            picture[rows, near] += (0.42 * flicker * streak)[..., None] * colour
        picture = picture * (1 - cover[..., None]) + pier * cover[..., None]
        picture += grain[number % 8]
        return (np.clip(picture, 0, 1) * 255 + 0.5).astype(np.uint8)

    return paint

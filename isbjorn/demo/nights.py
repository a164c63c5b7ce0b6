"""Painted plates of the festival's nights: northern lights over the town, the quay with its masts, a pane before a warm room."""

from __future__ import annotations

import cv2
import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.demo.paint import HEIGHT, WIDTH, Painter, graded, grid, mix, rgb, shade

AURORA_FRAMES, QUAY_FRAMES, PANE_FRAMES = 100, 50, 25
_GRAIN = 4


def _grain(seed: int) -> Floats:
    return np.random.default_rng(seed).normal(0, 0.006, (_GRAIN, HEIGHT, WIDTH, 1)).astype(np.float32)


def stars(seed: int, count: int, below: float) -> Floats:
    """Light of stars (height, width), down to a share of the height."""
    rng, light = np.random.default_rng(seed), np.zeros((HEIGHT, WIDTH), np.float32)
    for x, y, strength in zip(
        rng.integers(1, WIDTH - 1, count), rng.integers(1, int(below * HEIGHT), count), rng.random(count), strict=True
    ):
        light[y, x] += 0.15 + 0.6 * strength**4
    return light


def skyline(x: Floats, base: float, seed: int) -> Floats:
    """The top of gabled houses along a line, as a share of the height."""
    rng, top = np.random.default_rng(seed), np.full(WIDTH, base, np.float32)
    at = 0.0
    while at < 1:
        wide, tall = 0.025 + 0.045 * rng.random(), 0.03 + 0.06 * rng.random()
        inside = (x >= at) & (x < at + wide)
        roof = np.abs((x - at) / wide - 0.5) * 2
        top[inside] = (base - tall * (1 - 0.42 * roof))[inside]
        at += wide * (0.9 + 0.3 * rng.random())
    return top


def aurora() -> Painter:
    """Northern lights over the roofs of the town, dim enough to read a title on; comes round after four seconds."""
    x, y = grid()
    base = graded(y, {0: "050b16", 0.55: "0c1b2b", 0.86: "17303c", 1: "1b343d"})
    base += stars(3, 420, 0.8)[..., None] * rgb("cfe2ff")
    line = 0.93
    hill = line - 0.12 * (0.55 + 0.3 * np.sin(x[0] * 4.1 + 1) + 0.15 * np.sin(x[0] * 11 + 2))
    base = mix(base, rgb("0b161e"), np.clip((y - hill[None]) * HEIGHT, 0, 1))
    roofs = skyline(x[0], line + 0.02, 5)
    house = np.clip((y - roofs[None]) * HEIGHT, 0, 1)
    base = mix(base, rgb("060b10"), house)
    rng, lamps = np.random.default_rng(12), np.zeros((HEIGHT, WIDTH), np.float32)
    for _ in range(38):
        column, row = rng.integers(8, WIDTH - 8), rng.integers(int(0.935 * HEIGHT), int(0.985 * HEIGHT))
        lamps[row : row + 4, column : column + 3] = 0.5 + 0.5 * rng.random()
    base += lamps[..., None] * rgb("ffc98a")
    grain, dim = _grain(41), (1 - house)[..., None]
    # The light is soft: half as many pixels hold it.
    wide, tall = x[::2, ::2], y[::2, ::2]

    def paint(number: int) -> np.ndarray:
        turn, light = np.float32(2 * np.pi * number / AURORA_FRAMES), np.zeros((*wide.shape, 3), np.float32)
        for k, (height, reach, colour, strength) in enumerate(
            ((0.40, 0.30, "2fd69a", 0.26), (0.30, 0.34, "35b8c8", 0.17), (0.52, 0.22, "7d6bd6", 0.12))
        ):
            foot = (
                height + 0.07 * np.sin(wide * (3.1 + k) + turn + 2 * k) + 0.03 * np.sin(wide * (9 - k) - 2 * turn + k)
            )
            rays = 0.6 + 0.4 * np.sin(wide * (95 + 40 * k) + 3 * np.sin(wide * 14 + turn) + k) * np.sin(
                wide * 31 - turn
            )
            up = foot - tall
            curtain = np.exp(np.where(up > 0, up / -reach * 2.2, up / 0.025)) * rays
            light += (strength * curtain)[..., None] * rgb(colour)
        whole = cv2.resize(light, (WIDTH, HEIGHT), interpolation=cv2.INTER_LINEAR)
        return shade(base + whole * dim + grain[number % _GRAIN])

    return paint


def quay() -> Painter:
    """The quay before the festival: masts, a boathouse, still water; comes round after two seconds."""
    x, y = grid()
    line = 0.74
    sky = graded(y, {0: "070d18", 0.45: "101d30", line: "263447"})
    sea = graded(y, {line: "182536", 1: "060a10"})
    base = np.where((y < line)[..., None], sky, sea).astype(np.float32)
    base += stars(9, 260, 0.5)[..., None] * rgb("dbe6ff") * 0.7
    ridge = line - 0.09 * (0.6 + 0.4 * np.sin(x[0] * 3.3 + 2)) - 0.02 * np.sin(x[0] * 13)
    base = mix(base, rgb("0d1622"), np.clip((y - ridge[None]) * HEIGHT, 0, 1) * (y < line))
    dark = np.zeros((HEIGHT, WIDTH), bool)
    for at, tall, lean in ((0.07, 0.56, 0.0), (0.93, 0.6, 0.004), (0.80, 0.42, -0.006)):
        mast = np.abs(x - at - lean * (line - y)) < 0.0017 + 0.0012 * np.clip(y - line + tall, 0, 1)
        dark |= mast & (y > line - tall) & (y < line + 0.01)
        boom = (np.abs(y - (line - 0.16 * tall / 0.5) - 0.2 * np.abs(x - at)) < 0.003) & (np.abs(x - at) < 0.07)
        dark |= boom
        off = np.abs(x - at)
        hull = (
            (y > line - 0.026 - 0.03 * np.minimum(off / 0.09, 1) ** 3)
            & (y < line + 0.02)
            & (off < np.minimum(0.09, 0.09 - 0.55 * (y - line + 0.03)))
        )
        cabin = (y > line - 0.07) & (y < line) & (np.abs(x - at - 0.024) < 0.02)
        hull |= cabin
        dark |= hull
    shed = (x > 0.36) & (x < 0.62) & (y < line + 0.012) & (y > line - 0.17 + 0.55 * np.abs(x - 0.49))
    dark |= shed
    base[dark] = rgb("070b10")
    door = (np.abs(x - 0.49) < 0.03) & (y > line - 0.075) & (y < line + 0.004)
    base[door] = rgb("c98a4a") * 0.55
    deck = y > 0.93 - 0.01 * x
    base[deck] = rgb("0b0e12")
    grain, top = _grain(42), round(line * HEIGHT)
    sea_x, depth = x[top:], np.clip((y[top:] - line) / (1 - line), 0, 1)
    wet = ~deck[top:] & ~dark[top:]

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / QUAY_FRAMES)
        wave = np.sin(depth**0.6 * 70 + turn + sea_x * 6) * np.sin(sea_x * 41 + depth * 90 - turn)
        picture = base.copy()
        picture[top:] *= (1 + 0.14 * wave * wet)[..., None]
        shine = np.exp(-(((sea_x - 0.49 + 0.006 * wave) / 0.03) ** 2)) * np.exp(-depth * 3.2) * wet
        picture[top:] += (0.2 * shine)[..., None] * rgb("ffb96a")
        return shade(picture + grain[number % _GRAIN])

    return paint


def pane() -> Painter:
    """A window at night, and behind it, far out of focus, the lamps of the room; nothing moves but the grain."""
    x, y = grid()
    px, py = (x - 0.5) * WIDTH, (0.5 - y) * HEIGHT
    base = graded(y, {0: "0d1a2c", 0.6: "12263a", 1: "0b1420"})
    rng = np.random.default_rng(17)
    for _ in range(34):
        cx, cy = rng.normal(60, 300), rng.normal(-60, 120)
        radius, strength = 22 + 46 * rng.random(), 0.05 + 0.15 * rng.random()
        warm = rgb("ffb56b") if rng.random() < 0.7 else rgb("ff7f52")
        away = np.hypot(px - cx, py - cy)
        disc = np.clip((radius - away) / 5, 0, 1) * (0.8 + 0.2 * np.clip(away / radius, 0, 1) ** 3)
        base += (strength * disc)[..., None] * warm
    frame = (np.abs(px) > 618) | (np.abs(py) > 345) | (np.abs(px - 4) < 9) | (np.abs(py - 62) < 8)
    lit = 0.35 + 0.65 * np.clip((py + 360) / 720, 0, 1)
    base = np.where(frame[..., None], rgb("171310") * lit[..., None], base).astype(np.float32)
    grain = _grain(43)
    return lambda number: shade(base + grain[number % _GRAIN])


def breakwater() -> Painter:
    """The harbour's mouth at night: a breakwater with its light, still water, stars."""
    x, y = grid()
    line = 0.74
    picture = graded(y, {0: "0a1120", 0.45: "142338", line: "2a3f55", line + 0.002: "0e1926", 1: "05090f"})
    picture += (stars(61, 420, 0.6) * np.clip((line - y) / 0.3, 0, 1))[..., None] * rgb("dfeaff")
    px, py = ((x - 0.5) * WIDTH).astype(np.float64), ((0.5 - y) * HEIGHT).astype(np.float64)
    rng = np.random.default_rng(62)
    stones = np.sum([rng.random() * np.sin(px[0] / (7 + 9 * n) + 6 * rng.random()) for n in range(1, 6)], axis=0)
    top = (0.5 - line) * HEIGHT + np.clip((px[0] - 60) / 26, 0, 15) + 1.6 * stones
    wall = np.clip(top[None] - py, 0, 1) * np.clip(py - ((0.5 - line) * HEIGHT - 8), 0, 1) * (px > 40)
    tower = np.clip(11 - np.abs(px - 520) - 0.02 * (py + 160), 0, 1) * np.clip(-py + 10, 0, 1) * np.clip(py + 168, 0, 1)
    roof = np.clip(16 - np.abs(px - 520) - 1.4 * np.abs(py - 12), 0, 1)
    dark = np.clip(wall + tower + roof, 0, 1).astype(np.float32)
    picture = mix(
        picture, (rgb("0b0f14") * (1 + 0.5 * np.clip(py / 200 + 1, 0, 1))[..., None]).astype(np.float32), dark
    )
    lamp = np.hypot(px - 520, py - 12)
    glow = 0.9 * np.exp(-((lamp / 7) ** 2)) + 0.16 * np.exp(-lamp / 60)
    mirror = 0.35 * np.exp(-(((px - 520) / 9) ** 2)) * np.clip((y - line) / 0.02, 0, 1) * np.exp(-(y - line) * 9)
    picture = (picture + (glow + mirror)[..., None] * rgb("ffd9a8")).astype(np.float32)
    grain = _grain(63)
    return lambda number: shade(picture + grain[number % _GRAIN])

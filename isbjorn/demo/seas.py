"""Painted plates of the sea: a ferry that passes, a whale's back at dawn, an oar in dark water, light from above."""

from __future__ import annotations

import numpy as np

from isbjorn.core.arrays import Floats
from isbjorn.demo.paint import HEIGHT, RATE, WIDTH, Painter, graded, grid, mix, rgb, shade

FERRY_FRAMES, OAR_FRAMES, STILL_FRAMES = 250, 100, 50
WATERLINE = 0.66
FERRY_LENGTH = 400.0
_GRAIN = 4


def bow_across(seconds: float) -> float:
    """Where the ferry's bow is at a second, in px right of the picture's centre: slow, then faster."""
    u = seconds / 10
    return float(-470 + 700 * u + 260 * u * u)


def oar_across(share: float) -> tuple[float, float]:
    """Where the oar's blade is at a share of its round, in px from the picture's centre."""
    turn = 2 * np.pi * share
    return float(150 * np.cos(turn)), float(-40 + 70 * np.sin(turn))


def _grain(seed: int) -> Floats:
    return np.random.default_rng(seed).normal(0, 0.006, (_GRAIN, HEIGHT, WIDTH, 1)).astype(np.float32)


def _hills(x: Floats, y: Floats, line: float, height: float, seed: int) -> Floats:
    """How much of each pixel is hill."""
    rng = np.random.default_rng(seed)
    ridge = np.zeros_like(x[0])
    for octave in range(1, 6):
        ridge += np.sin(x[0] * 5 * 1.9**octave + rng.random() * 7) * 0.52**octave
    top = line - height * (0.55 + 0.45 * ridge)
    return np.clip((y - top[None]) * HEIGHT, 0, 1) * (y < line)


def ferry() -> Painter:
    """A ferry at night that goes through the picture from the left."""
    x, y = grid()
    sky = graded(y, {0: "0b1220", 0.4: "16233a", WATERLINE: "2f3f58"})
    sea = graded(y, {WATERLINE: "223248", 0.75: "131e2c", 1: "080d14"})
    base = np.where((y < WATERLINE)[..., None], sky, sea).astype(np.float32)
    base = mix(base, rgb("0f1722"), _hills(x, y, WATERLINE, 0.07, 21))
    rng = np.random.default_rng(8)
    for _ in range(26):
        cx, cy, light = rng.random(), WATERLINE - 0.006 - 0.018 * rng.random(), 0.3 + 0.6 * rng.random()
        spot = np.exp(-(((x - cx) * WIDTH) ** 2 + ((y - cy) * HEIGHT) ** 2) / 2.4)
        streak = np.exp(-(((x - cx) * WIDTH) ** 2) / 5) * np.exp(-(y - WATERLINE) * 26) * (y > WATERLINE)
        base += (light * (spot + 0.3 * streak))[..., None] * rgb("ffd9a0")
    grain, glass = _grain(31), rgb("ffdf9e")
    line = round(WATERLINE * HEIGHT)
    sea_x, depth = x[line:], np.clip((y[line:] - WATERLINE) / (1 - WATERLINE), 0, 1)
    near = slice(line - 114, line + 102)
    px, py = (x[near] - 0.5) * WIDTH, (y[near] - WATERLINE) * HEIGHT

    def paint(number: int) -> np.ndarray:
        bow, turn = np.float32(bow_across(number / RATE)), np.float32(2 * np.pi * number / 50)
        wave = np.sin(depth**0.6 * 90 + turn + sea_x * 9) * np.sin(sea_x * 60 + depth * 130 - turn * 1.3)
        picture = base.copy()
        picture[line:] *= (1 + 0.16 * wave)[..., None]
        ship, along = picture[near], bow - px
        hull = (along > 0) & (along < FERRY_LENGTH) & (py < 9) & (py > -34 - 14 * np.exp(-np.maximum(along, 0) / 60))
        hull &= along > -(py + 6) * 0.7
        decks = (along > 64) & (along < FERRY_LENGTH - 26) & (py <= -30) & (py > -74)
        bridge = (along > 92) & (along < 190) & (py <= -70) & (py > -98)
        funnel = (along > 250) & (along < 288) & (py <= -70) & (py > -112)
        ship[hull | decks | bridge | funnel] = rgb("0c1118")
        ship[hull & (py > -26)] = rgb("161d27")
        rows = decks & ((py + 60) % 19 < 8) & ((along % 17) < 11)
        ship[rows] = glass * (0.72 + 0.28 * np.sin(np.floor(along[rows] / 17) * 12.9)[:, None] ** 2)
        ship[bridge & (py > -92) & (py < -80) & ((along % 13) < 10)] = glass * 0.9
        ends = np.clip(along / 90, 0, 1) * np.clip((FERRY_LENGTH - along) / 90, 0, 1)
        shine = ends * (py >= 9) * np.exp(-py / 42)
        shine[114:] *= 0.14 * (1 + wave[:102])
        ship += shine[..., None] * glass
        return shade(picture + grain[number % _GRAIN])

    return paint


def whale() -> Painter:
    """A whale's back in the fjord at first light; the sea moves, and comes round after two seconds."""
    x, y = grid()
    line = 0.6
    sky = graded(y, {0: "26364f", 0.35: "5b6a80", 0.52: "a98a80", line: "e0b08c"})
    sea = graded(y, {line: "8f7f7c", 0.68: "45566a", 1: "131d28"})
    base = np.where((y < line)[..., None], sky, sea).astype(np.float32)
    base = mix(base, rgb("4b5568"), _hills(x, y, line, 0.13, 4))
    base = mix(base, rgb("323c4c"), _hills(x, y, line + 0.003, 0.06, 5))
    grain, top = _grain(32), round(line * HEIGHT)
    sea_x, depth = x[top:], np.clip((y[top:] - line) / (1 - line), 0, 1)
    px, py = (sea_x - 0.5) * WIDTH, (y[top:] - 0.742) * HEIGHT
    back = (
        -30 * np.exp(-((px / 190) ** 2)) - 9 * np.exp(-(((px - 6) / 13) ** 2)) - 15 * np.exp(-(((px + 208) / 26) ** 2))
    )

    def paint(number: int) -> np.ndarray:
        turn = np.float32(2 * np.pi * number / STILL_FRAMES)
        wave = np.sin(depth**0.55 * 120 + turn + sea_x * 7) * np.sin(sea_x * 37 + depth * 90 - turn)
        picture = base.copy()
        picture[top:] *= (1 + 0.11 * wave)[..., None]
        body = (py > back) & (py < 5 + 3 * np.sin(px / 23 + turn)) & (np.abs(px) < 330) & (back < -1.2)
        picture[top:][body] = rgb("10161e")
        picture[top:][body & (py < back + 3)] = rgb("8c7a78")
        return shade(picture + grain[number % _GRAIN])

    return paint


def oar() -> Painter:
    """Dark water from above, and an oar that is drawn round in it."""
    x, y = grid()
    px, py = (x - 0.5) * WIDTH, (0.5 - y) * HEIGHT
    far = np.hypot(px, py * 1.3)
    base = mix(np.broadcast_to(rgb("0d1d2b"), (HEIGHT, WIDTH, 3)).copy(), rgb("03070c"), np.clip(far / 720, 0, 1))
    gunwale = (py < -262 + 26 * np.cos(px / 420)).astype(np.float32)
    grain = _grain(33)
    swell, swell_to = 0.05 * np.cos(px / 31 + py / 17), 0.05 * np.sin(px / 31 + py / 17)

    def paint(number: int) -> np.ndarray:
        share = number / OAR_FRAMES
        turn = 2 * np.pi * share
        bx, by = oar_across(share)
        off = np.hypot(px - bx, py - by).astype(np.float32)
        ripple = np.sin(off / 9 - turn * 6) * np.exp(-off / 120)
        picture = base * (1 + 0.35 * ripple + swell * np.sin(turn) + swell_to * np.cos(turn))[..., None].astype(
            np.float32
        )
        foot = np.array([bx * 0.35, -420.0])
        way = np.array([bx, by]) - foot
        length = np.linalg.norm(way)
        ux, uy = way / length
        along, off = (px - foot[0]) * ux + (py - foot[1]) * uy, -(px - foot[0]) * uy + (py - foot[1]) * ux
        shaft = (along < length - 70) & (np.abs(off) < 5)
        blade = (along >= length - 74) & (along < length + 12) & (np.abs(off) < 15)
        picture[shaft] = rgb("4a3524")
        picture[blade] = picture[blade] * 0.45 + rgb("2b2a2c") * 0.55
        picture = mix(picture, rgb("1d1712"), gunwale)
        return shade(picture + grain[number % _GRAIN])

    return paint


# The seal is seen for so long; the inside of the crate: across, up, width, height, px from the picture's centre.
SEAL_S = 8.0
DEPTHS_FRAMES = 200
# It reaches no farther from its middle.
_SEAL_PX = 190
CRATE = (0.0, -10.0, 760.0, 500.0)


def seal_at(seconds: float) -> tuple[float, float]:
    """Where the seal is at a second, in px from the picture's centre."""
    u = seconds / SEAL_S
    return float(1000 - 1900 * u), float(20 + 120 * np.sin(2 * np.pi * (u - 0.1)))


def _seal(x: Floats, y: Floats, seconds: float) -> Floats:
    """How much of each pixel is seal, softened by the water."""
    (here_x, here_y), (next_x, next_y) = seal_at(seconds), seal_at(seconds + 0.05)
    turn = np.arctan2(next_y - here_y, next_x - here_x)
    px, py = (x - 0.5) * WIDTH - here_x, (0.5 - y) * HEIGHT - here_y
    along, across = px * np.cos(turn) + py * np.sin(turn), -px * np.sin(turn) + py * np.cos(turn)
    across = across * (1 if np.cos(turn) > 0 else -1)
    # The hind part beats.
    across = across + 16 * np.sin(seconds * 5 + along / 60) * np.clip(-along / 110, 0, 1) ** 2
    body = np.sqrt((along / 92) ** 2 + (across / (25 + 5 * along / 92)) ** 2)
    head = np.hypot(along - 84, across - 3) / 19
    tail = np.sqrt(((along + 104) / 24) ** 2 + (across / (9 + 13 * np.clip(-(along + 92) / 30, 0, 1))) ** 2)
    fin = np.sqrt(((along - 18 + 0.7 * across) / 14) ** 2 + ((across + 28) / 22) ** 2)
    nearest = np.minimum(np.minimum(body, head), np.minimum(tail, fin))
    return np.asarray(np.clip((1.12 - nearest) / 0.24, 0, 1), np.float32)


def crate() -> Painter:
    """An open crate on the quay at night, under one lamp."""
    x, y = grid()
    px, py = (x - 0.5) * WIDTH - CRATE[0], (0.5 - y) * HEIGHT - CRATE[1]
    wide, high = CRATE[2] / 2, CRATE[3] / 2
    rng = np.random.default_rng(52)
    out = np.maximum(np.abs(px) - wide, np.abs(py) - high)
    inside = np.clip(0.5 - out, 0, 1).astype(np.float32)
    frame = np.clip(0.5 - np.abs(out - 22) + 22, 0, 1).astype(np.float32)
    planks = np.floor((py + high) / 62).astype(int) % 16
    tone = rng.uniform(0.75, 1.15, 16).astype(np.float32)[planks]
    streaks = np.repeat(np.cumsum(rng.normal(0, 0.02, (HEIGHT, 1)), axis=0), WIDTH, axis=1) + 0.03 * np.sin(
        px / 37 + 9 * planks
    )
    seams = np.clip(np.abs(((py + high) % 62) - 31) - 28.5, 0, 1)
    back = mix(graded(y, {0: "1a2026", 1: "0a0d11"}), graded(y, {0: "2e2822", 1: "14110f"}), inside)
    back *= (1 + inside * ((tone - 1) + streaks - 0.8 * seams))[..., None]
    beam = np.clip(np.minimum(out, 44 - out) / 6, 0, 1).astype(np.float32) * frame
    wood = graded(y, {0: "6a5138", 1: "3a2c20"}) * (1 + 0.25 * np.sin(px / 9 + py / 210))[..., None]
    picture = mix(back, wood.astype(np.float32), beam)
    lamp = np.exp(-(((x - 0.5) / 0.45) ** 2) - ((y - 0.05) / 0.75) ** 2)
    picture = (picture * (0.45 + 0.9 * lamp)[..., None]).astype(np.float32)
    grain = _grain(53)

    def paint(number: int) -> np.ndarray:
        return shade(picture + grain[number % _GRAIN])

    return paint


def depths() -> Painter:
    """Under water, with light that falls from above and comes round after two seconds, and a seal that swims through."""
    x, y = grid()
    base = graded(y, {0: "3f8f9c", 0.25: "1d5f74", 0.6: "0b3346", 1: "041019"})
    grain, rays = _grain(34), []
    for at, width, lean in ((0.2, 0.05, 0.16), (0.42, 0.09, 0.05), (0.63, 0.06, -0.07), (0.83, 0.04, -0.2)):
        ray = np.exp(-(((x - at - lean * y) / (width * (0.7 + y))) ** 2)) * np.exp(-2.3 * y)
        rays.append((0.16 * ray[..., None] * rgb("d9fff2")).astype(np.float32))

    def paint(number: int) -> np.ndarray:
        turn = 2 * np.pi * number / STILL_FRAMES
        picture = base + grain[number % _GRAIN]
        for n, ray in enumerate(rays):
            picture += ray * np.float32(1 + 0.35 * np.sin(turn + n * 1.7))
        # The seal, where it is.
        across, up = seal_at(number / RATE)
        left, top = int(WIDTH / 2 + across) - _SEAL_PX, int(HEIGHT / 2 - up) - _SEAL_PX
        rows, columns = (slice(max(0, at), max(0, at + 2 * _SEAL_PX)) for at in (top, left))
        here = picture[rows, columns]
        dark = np.float32(0.35) * here + np.float32(0.012)
        picture[rows, columns] = mix(here, dark, _seal(x[rows, columns], y[rows, columns], number / RATE))
        return shade(picture)

    return paint

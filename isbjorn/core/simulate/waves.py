"""Waves on a surface of water, exact at any moment: the wave equation in the surface's own modes.

h'' + 2γ h' + … = c² Δh on a rectangle with reflecting edges has cosines as its modes, which oscillate independently: an initial
dent is, s seconds later, e^(-γs) cos ωs of itself, with ω = c |k| (d'Alembert's equation, by Fourier). So nothing can become
unstable, energy never grows, and no wave runs faster or slower than it should. γ has a part that grows with k², so that small waves
fade sooner.

Modes are cached at tenths of a second, computed from one to the next; between them the births since then are added.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt
from numba import prange

from isbjorn.core.arrays import Doubles, Floats, Longs
from isbjorn.core.errors import Stale
from isbjorn.core.jit import njit
from isbjorn.core.runtime.memory import Cache, cached
from isbjorn.core.runtime.parallel import kernel_lock
from isbjorn.core.simulate.shared_states import SharedCaches

MOST_MODES, _FINEST = 256, 4.0
_PER_S = 10
# Waves below this amplitude are dropped; and births are considered for at most this many seconds.
_NOTHING, _LONGEST_S = 1e-4, 60.0
# Largest number of births in a tenth of a second; a sample represents more. And the modes times births that a jump may take.
_MOST_AT_ONCE, _LEAST_AT_ONCE, _MOST_WORK = 240, 3, 4e8


Swings = npt.NDArray[np.complex128]

# Dents are distributed to ages at which the fastest mode has turned by this many radians; this many ages precede the first.
_FINE, _BEFORE = 0.3, 3
# With no more dents than this, or than this for each age, adding them one by one is faster.
_FEW, _COST = 4, 0.06


@dataclass(frozen=True)
class Water:
    """A rectangle of water: width and length px; speed of waves px/s; damping 1/s; smooth px²/s; drop: the standard
    deviation of the dent that a birth makes, px."""

    width: float
    length: float
    speed: float
    damping: float
    smooth: float
    drop: float

    @property
    def modes(self) -> tuple[int, int]:
        """How many modes there are along the length and the width, even."""
        wanted = (_FINEST * side / (math.pi * self.drop) for side in (self.length, self.width))
        down, along = (min(MOST_MODES, max(8, 2 * math.ceil(n / 2))) for n in wanted)
        return down, along

    @property
    def lasts_s(self) -> float:
        """How long after a birth nothing is left of it, in whole tenths of a second."""
        return min(_LONGEST_S, math.ceil(_PER_S * -math.log(_NOTHING) / self.damping) / _PER_S)

    @property
    def most_at_once(self) -> int:
        """How many births of a tenth of a second are looked at: so that a jump to any moment takes some seconds at most."""
        down, along = self.modes
        steps = 2 * self.lasts_s * _PER_S
        return int(min(_MOST_AT_ONCE, max(_LEAST_AT_ONCE, _MOST_WORK / (down * along * steps))))

    def numbers(self) -> tuple[Doubles, Doubles]:
        """Turns ω in rad/s and dampings in 1/s of the modes, (down, along)."""
        down, along = self.modes
        kx, ky = np.pi * np.arange(along) / self.width, np.pi * np.arange(down) / self.length
        k2 = kx[None] ** 2 + ky[:, None] ** 2
        return self.speed * np.sqrt(k2), self.damping + self.smooth * k2


@dataclass(frozen=True)
class Dents:
    """Births on the surface: moments (n,) s; places u, v (n,) px from its corner; depths (n,) px, or (parts, n) of waves that are
    stored separately."""

    moments: Doubles
    u: Doubles
    v: Doubles
    depth: Doubles


def joined(found: list[Dents]) -> Dents:
    """All that falls into one water."""
    return Dents(*(np.concatenate([getattr(one, f) for one in found], axis=-1) for f in ("moments", "u", "v", "depth")))


@dataclass(frozen=True)
class Modes:
    """The modes of the height of a face at a moment, px, complex128 (down, along), or (parts, down, along): the real part is the
    height, the other that turned by a quarter."""

    swing: Swings

    def mixed(self, weights: Doubles) -> Modes:
        """Their parts added up, each times its weight."""
        return Modes(np.tensordot(weights, self.swing, axes=1))


@cached("tables", "Swings of water", "the water and the time", 0.05)
def _turned(water: Water, t: float) -> Swings:
    """By what each mode is multiplied when it swings on for t s, (down, along)."""
    turn, damping = water.numbers()
    return np.exp((1j * turn - damping) * t)


@njit(
    "void(c16[:,:,::1], f8[:,::1], f8[:,::1], f8[::1], f8[:,:,::1], f8[:,::1])",
    parallel=True,
    cache=True,
    error_model="numpy",
)
def _drop(swing: Swings, turn: Doubles, damping: Doubles, ages: Doubles, along: Doubles, down: Doubles) -> None:
    """Add dents of these ages in s to modes: along (parts, n, modes), down (n, modes)."""
    for j in prange(swing.shape[1]):
        for i in range(swing.shape[2]):
            w, g = turn[j, i], damping[j, i]
            for n in range(len(ages)):
                by = math.exp(-g * ages[n]) * down[n, j]
                c, s = by * math.cos(w * ages[n]), by * math.sin(w * ages[n])
                for part in range(swing.shape[0]):
                    swing[part, j, i] += along[part, n, i] * complex(c, s)


@njit(
    "void(c16[:,:,::1], c16[:,::1], c16[:,::1], i8[::1], i8[::1], f8[::1], f8[:,:,::1], f8[:,::1])", parallel=True, cache=True,
    error_model="numpy", fastmath={"contract"},
)  # fmt: skip
def _drop_evenly(
    swing: Swings, between: Swings, before: Swings, starts: Longs, birth: Longs, shares: Doubles, along: Doubles, down: Doubles
) -> None:  # fmt: skip
    """As `_drop`, of dents that are shared out to even ages: those from starts[k] on have shares of age k. between: by what modes
    are multiplied from each age to the next; before: from the first to age 0, (down, along)."""
    parts, _, columns = swing.shape
    for j in prange(swing.shape[1]):
        x, y, c, s = np.zeros(columns), np.zeros(columns), between[j].real.copy(), between[j].imag.copy()
        more = np.zeros(columns)
        for part in range(parts):
            x[:] = 0.0
            y[:] = 0.0
            for k in range(len(starts) - 2, -1, -1):
                more[:] = 0.0
                for n in range(starts[k], starts[k + 1]):
                    by, row = shares[n] * down[birth[n], j], along[part, birth[n]]
                    for i in range(columns):
                        more[i] += by * row[i]
                for i in range(columns):
                    a, b = x[i], y[i]
                    x[i] = more[i] + a * c[i] - b * s[i]
                    y[i] = a * s[i] + b * c[i]
            for i in range(columns):
                swing[part, j, i] += complex(x[i], y[i]) * before[j, i]


_dropped, _dropped_evenly = kernel_lock(_drop), kernel_lock(_drop_evenly)


def _spread(ages: Doubles, apart: float, count: int) -> Doubles:
    """Weights of dents of other ages at even ages, (n, count): by polynomials through the eight around each (Lagrange)."""
    at = ages / apart
    first = np.minimum(np.floor(at).astype(np.int64), count - 2 * _BEFORE - 2)
    x = at - first
    around = np.arange(-_BEFORE, _BEFORE + 2)
    shares = np.ones((len(ages), len(around)))
    for k, node in enumerate(around):
        for other in around:
            if other != node:
                shares[:, k] *= (x - other) / (node - other)
    out = np.zeros((len(ages), count))
    np.put_along_axis(out, first[:, None] + np.arange(len(around)), shares, axis=1)
    return out


def _fall(water: Water, swing: Swings, passed: float, ages: Doubles, along: Doubles, down: Doubles) -> None:
    """Add dents of these ages to modes (parts, down, along). Many are distributed to even ages, for which one sine is enough."""
    turn, damping = water.numbers()
    fastest = math.hypot(float(turn.max()), float(damping.max()))
    count = math.ceil(passed * fastest / _FINE) + 2 * _BEFORE + 2
    if passed <= 0 or len(ages) <= max(_FEW, _COST * count):
        _dropped(swing, turn, damping, ages, along, down)
        return
    apart = passed / (count - 2 * _BEFORE - 2)
    shares = _spread(ages, apart, count)
    age, birth = (np.ascontiguousarray(found) for found in np.nonzero(shares.T))
    starts = np.searchsorted(age, np.arange(count + 1))
    _dropped_evenly(
        swing, _turned(water, apart), _turned(water, -apart * _BEFORE), starts, birth, shares[birth, age], along, down
    )


def after(water: Water, modes: Modes, passed_s: float, dents: Dents, t: float) -> Modes:
    """Modes at shot time t, `passed_s` later, with the dents that came meanwhile."""
    down, along = water.modes

    def shares(count: int, side: float, at: Doubles) -> Doubles:
        k = np.pi * np.arange(count) / side
        norm = np.where(np.arange(count) == 0, 1.0, 2.0) / side * math.sqrt(2 * math.pi) * water.drop
        return np.ascontiguousarray(norm * np.exp(-0.5 * (k * water.drop) ** 2) * np.cos(at[:, None] * k))

    swing = modes.swing * _turned(water, passed_s)
    if len(dents.moments):
        depth = np.atleast_2d(dents.depth)
        _fall(
            water, swing.reshape(-1, down, along), passed_s, np.ascontiguousarray(t - dents.moments),
            np.ascontiguousarray(-depth[:, :, None] * shares(along, water.width, dents.u)), shares(down, water.length, dents.v),
        )  # fmt: skip
    # The mean level stays: a dent at one place raises the level everywhere else.
    swing[..., 0, 0] = 0.0
    return Modes(swing)


def still(water: Water, parts: int | None = None) -> Modes:
    """No wave."""
    return Modes(np.zeros(water.modes if parts is None else (parts, *water.modes), np.complex128))


def heights(water: Water, modes: Modes, finer: int = 2) -> Floats:
    """Heights in px on a grid of even cells over the face, `finer` cells for each mode, float32 (down, along); the first row at
    v = 0."""
    down, along = water.modes
    rows, columns = finer * down, finer * along
    whole = np.zeros((rows, columns), np.float32)
    scale_y = np.where(np.arange(down) == 0, math.sqrt(rows), math.sqrt(rows / 2))
    scale_x = np.where(np.arange(along) == 0, math.sqrt(columns), math.sqrt(columns / 2))
    whole[:down, :along] = modes.swing.real * scale_y[:, None] * scale_x
    return np.asarray(cv2.idct(whole), np.float32)


def _unpacked(water: Water, parts: int, there: npt.NDArray[np.uint8] | None) -> Modes | None:
    """Modes from their bytes; None if they are not what they should be."""
    shape = (parts, *water.modes)
    if there is None or len(there) != 16 * math.prod(shape):
        return None
    return Modes(there.view(np.complex128).reshape(shape))


_MODES: Cache[Modes] = Cache(
    "states", 0.2, what="Modes of water", depends_on="the water, and the motion of what falls into it"
)


def modes_at(
    water: Water, parts: int, t: float, begin_s: float, key: Callable[[float], object], dents: Callable[[float, float], Dents],
    stale: Callable[[], bool] | None = None, shared_caches: SharedCaches | None = None,
) -> Modes:  # fmt: skip
    """The modes of a surface at shot time t, from its first birth on, in this many parts.

    key: fingerprint of the births up to a moment; dents(after, until): those of a stretch of time; shared_caches: modes shared
    between processes. Raises Stale if `stale` reports that they are no longer wanted.
    """
    lasts = round(water.lasts_s * _PER_S)
    last = math.floor(t * _PER_S)
    # Always from the same moments on, so that it does not depend on what was asked for before.
    first = max((last // lasts - 1) * lasts, math.floor(max(begin_s, -_LONGEST_S) * _PER_S) - 1)
    motion = hashlib.sha256(repr((water, first, parts)).encode()).hexdigest()
    there: set[int] | None = None
    modes = None
    todo = []
    for n in range(last, first, -1):
        modes = _MODES.peek((water, parts, first, n, key(n / _PER_S)))
        if modes is None and shared_caches is not None:
            there = set(shared_caches.steps_of("waves", motion)) if there is None else there
            if n in there:
                modes = _unpacked(water, parts, shared_caches.more("waves", motion, repr(key(n / _PER_S)), n))
        if modes is not None:
            break
        todo.append(n)
    modes = still(water, parts) if modes is None else modes
    for n in reversed(todo):
        if stale is not None and stale():
            raise Stale
        modes = after(water, modes, 1 / _PER_S, dents((n - 1) / _PER_S, n / _PER_S), n / _PER_S)
        _MODES.add((water, parts, first, n, key(n / _PER_S)), modes)
        if shared_caches is not None:
            shared_caches.put_more("waves", motion, repr(key(n / _PER_S)), n, [modes.swing])
    rest = t - last / _PER_S
    return after(water, modes, rest, dents(last / _PER_S, t), t) if rest > 1e-9 else modes

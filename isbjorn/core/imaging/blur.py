"""Gaussian blur at a cost that hardly depends on its width.

A pyramid (Burt and Adelson 1983, "The Laplacian pyramid as a compact image code"): halved with the binomial 1 4 6 4 1 as often as
leaves a deviation of one and a half to three coarse pixels, blurred there, and doubled with the same binomial. Each halving and
each doubling adds a known variance, 4^i of the finest pixels squared, which is taken off what is left to blur; so the whole has the
asked one.
"""

from __future__ import annotations

import math

import cv2
import numpy as np
from numba import prange

from isbjorn.core.arrays import Floats
from isbjorn.core.jit import inline_kernel, njit
from isbjorn.core.runtime.parallel import kernel_lock

_LEAST = 1.53
# In standard deviations: values beyond are invisible.
_MARGIN = 3.5
_BORDER = cv2.BORDER_REFLECT_101
_MIRRORED = (_BORDER, _BORDER)
# A deviation from which on a picture is halved at least once.
HALVED_FROM = math.sqrt(4 * _LEAST**2 + 2)
# What is blurred wider than this is made small first: its cost does not grow with the width.
_WIDE, _SMALL = 64.0, 24.0


def _wide(picture: Floats, sigma: float) -> Floats:
    """A very wide blur: box means, whose variance, and that of their joining, is subtracted."""
    height, width = picture.shape[:2]
    fine = 2 ** math.ceil(math.log2(sigma / _SMALL))
    down, right = -height % fine, -width % fine
    work = cv2.copyMakeBorder(picture, 0, down, 0, right, cv2.BORDER_REFLECT) if down or right else picture
    small = (work.shape[1] // fine, work.shape[0] // fine)
    means = np.ascontiguousarray(cv2.resize(work, small, interpolation=cv2.INTER_AREA), np.float32)
    # A square has a variance of 1/12 of a coarse pixel, a tent of 1/6.
    soft = blur(means, math.sqrt((sigma / fine) ** 2 - 1 / 12 - 1 / 6))
    whole = cv2.resize(soft, (work.shape[1], work.shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.ascontiguousarray(whole[:height, :width], np.float32)


def _levels(sigma: float, smallest_side: int) -> int:
    """How often to halve."""
    level = 0
    while smallest_side >> (level + 1) >= 4:
        left = (sigma * sigma - 2 * (4 ** (level + 1) - 1) / 3) / 4 ** (level + 1)
        if left < _LEAST * _LEAST:
            break
        level += 1
    return level


Parts = tuple[tuple[float, float], ...]
_CONTRACT = {"contract", "nnan", "ninf", "nsz"}


@inline_kernel("i8(i8, i8)", cache=True, forceinline=True)
def mirrored(i: int, n: int) -> int:
    """A place beyond an end of n, mirrored about the first or the last."""
    i = abs(i)
    return max(0, 2 * (n - 1) - i) if i >= n else i


@inline_kernel("void(f4[::1], f4[::1], f4[::1], f4)", cache=True, fastmath=_CONTRACT)
def _add_two(soft: Floats, a: Floats, b: Floats, tap: float) -> None:
    for i in range(np.uint32(len(soft))):
        soft[i] += tap * (a[i] + b[i])


@inline_kernel("void(f4[::1], f4[::1], f4[::1], f4, f4[::1], f4[::1], f4)", cache=True, fastmath=_CONTRACT)
def _add_four(soft: Floats, a: Floats, b: Floats, near: float, c: Floats, d: Floats, far: float) -> None:
    for i in range(np.uint32(len(soft))):
        soft[i] += near * (a[i] + b[i]) + far * (c[i] + d[i])


@njit("void(f4[:,:,::1], f4[::1], f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _along(picture: Floats, taps: Floats, out: Floats) -> None:
    """Rows blurred by a symmetric kernel, given as its middle and its right half, mirrored about their ends."""
    height, width, n = picture.shape
    reach = len(taps) - 1
    for y in prange(height):
        row, wide, soft = picture[y].reshape(-1), np.empty((width + 2 * reach) * n, np.float32), out[y].reshape(-1)
        wide[reach * n : (reach + width) * n] = row
        for k in range(1, reach + 1):
            left, right = n * mirrored(-k, width), n * mirrored(width - 1 + k, width)
            for c in range(n):
                wide[(reach - k) * n + c] = row[left + c]
                wide[(reach + width - 1 + k) * n + c] = row[right + c]
        tap = taps[0]
        for i in range(np.uint32(len(row))):
            soft[i] = tap * row[i]
        for k in range(1, reach + 1, 2):
            # Two at a time: what is summed is not put down and taken up for each.
            a, b = wide[(reach - k) * n : (reach - k + width) * n], wide[(reach + k) * n : (reach + k + width) * n]
            if k == reach:
                _add_two(soft, a, b, taps[k])
            else:
                farther = wide[(reach - k - 1) * n :], wide[(reach + k + 1) * n :]
                _add_four(soft, a, b, taps[k], farther[0], farther[1], taps[k + 1])


@njit("void(f4[:,:,::1], f4[::1], f4, f4[:,:,::1])", parallel=True, cache=True, fastmath=_CONTRACT)
def _across(picture: Floats, taps: Floats, weight: float, out: Floats) -> None:
    """Add columns, blurred in the same way, times `weight`."""
    height = picture.shape[0]
    for y in prange(height):
        here, soft = picture[y].reshape(-1), out[y].reshape(-1)
        tap = weight * taps[0]
        for i in range(np.uint32(len(here))):
            soft[i] += tap * here[i]
        for k in range(1, len(taps), 2):
            a, b = picture[mirrored(y - k, height)].reshape(-1), picture[mirrored(y + k, height)].reshape(-1)
            if k == len(taps) - 1:
                _add_two(soft, a, b, weight * taps[k])
            else:
                c, d = (
                    picture[mirrored(y - k - 1, height)].reshape(-1),
                    picture[mirrored(y + k + 1, height)].reshape(-1),
                )
                _add_four(soft, a, b, weight * taps[k], c, d, weight * taps[k + 1])


_soft_along, _soft_across = kernel_lock(_along), kernel_lock(_across)


def blurred_sum(picture: Floats, parts: Parts, ends: tuple[int, int] = _MIRRORED) -> Floats:
    """The sum of blurs of one picture, parts of (sigma in px, weight): `blur` of each, on one pyramid that is built once.

    ends: how the picture continues to the right and downward.
    """
    height, width = picture.shape[:2]
    found = continued_sum(picture, parts, ends)
    return np.ascontiguousarray(found[:height, :width]).reshape(picture.shape)


def continued_sum(picture: Floats, parts: Parts, ends: tuple[int, int] = _MIRRORED) -> Floats:
    """As `blurred_sum`, (at least height, at least width, channels): it may include computed rows and columns beyond the ends."""
    height, width = picture.shape[:2]
    widest = max(sigma for sigma, _ in parts)
    if widest > _WIDE or min(sigma for sigma, _ in parts) < 0.05:
        whole = np.zeros_like(picture)
        for sigma, weight in parts:
            whole = np.asarray(cv2.scaleAdd(blur(picture, sigma), weight, whole), np.float32)
        return whole.reshape(height, width, -1)
    levels = [_levels(sigma, min(height, width)) for sigma, _ in parts]
    top = max(levels)
    work = _padded(picture, widest, 2**top, ends) if top or ends != _MIRRORED else picture
    pyramid = [work]
    for _ in range(top):
        pyramid.append(np.asarray(cv2.pyrDown(pyramid[-1], borderType=_BORDER), np.float32))
    total: Floats | None = None
    for level in range(top, -1, -1):
        here = np.ascontiguousarray(pyramid[level]).reshape(*pyramid[level].shape[:2], -1)
        finer = np.zeros_like(here) if total is None else cv2.pyrUp(total, borderType=cv2.BORDER_DEFAULT)
        total = np.ascontiguousarray(finer, np.float32).reshape(here.shape)
        for own, (sigma, weight) in zip(levels, parts, strict=True):
            if own == level:
                taps, along = _taps(sigma, level), np.empty_like(here)
                _soft_along(here, taps, along)
                _soft_across(along, taps, weight, total)
    assert total is not None
    return total


def _padded(picture: Floats, sigma: float, step: int, ends: tuple[int, int] = _MIRRORED) -> Floats:
    """A picture extended to the right and downward, mirrored, until its sides can be halved.

    To the left and upward nothing is needed: halving preserves the first pixel, about which each level is mirrored. Errors at the
    other ends, and in their mirrored parts, are beyond the reach of the blur.
    """
    height, width = picture.shape[:2]
    margin = step * math.ceil(_MARGIN * sigma / step)
    down, right = margin + -height % step, margin + -width % step
    if ends[0] == ends[1]:
        return np.asarray(cv2.copyMakeBorder(picture, 0, down, 0, right, ends[0]), np.float32)
    wider = cv2.copyMakeBorder(picture, 0, 0, 0, right, ends[0])
    return np.asarray(cv2.copyMakeBorder(wider, 0, down, 0, 0, ends[1]), np.float32)


def _taps(sigma: float, level: int) -> Floats:
    """The kernel that remains at a level, after halvings and before doublings: its middle and its right half."""
    left = math.sqrt(max(1e-6, (sigma * sigma - 2 * (4**level - 1) / 3) / 4**level))
    reach = max(1, math.ceil(4 * left))
    return np.ascontiguousarray(cv2.getGaussianKernel(2 * reach + 1, left, cv2.CV_32F)[reach:, 0])


def blur(picture: Floats, sigma: float) -> Floats:
    """Blur a picture (height, width[, channels]) by a Gaussian of standard deviation sigma in px; returns a new one.

    Beyond its edges the picture is mirrored. The error is below 0.5 % of the peak of a blurred narrow light.
    """
    if sigma < 0.05:
        return picture.copy()
    if sigma > _WIDE:
        return _wide(picture, sigma)
    return blurred_sum(picture, ((sigma, 1.0),))

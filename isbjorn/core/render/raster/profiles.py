"""Bodies as radial profiles.

A body is drawn as w(q) with q = clamp(c0 - c1 r², 0, 1), r the distance of the pixel's centre from the body's:
one line without a branch or a root for every body.
- hard disc: w = q with q falling from 1 to 0 over one pixel at the edge (r² is close to linear there).
- soft disc: w = q² (3 - 2q), q falling from the inner radius to the edge.
Light is area × opacity at any size. An edge is never sharper than a pixel or so, and moves so that the area stays. A body
of less area than a soft disc of `SMALLEST` radius is drawn as that disc, fainter; one of less than a square pixel is
spread over 3 × 3 pixels by the quadratic B-spline, a partition of unity, so that it neither flickers nor vanishes.
"""

from __future__ import annotations

import math

from isbjorn.core.document.parts.bodies import OneBody
from isbjorn.core.jit import inline_kernel

HARD, SOFT = 0, 1
SMALLEST = 1.5
SPECK_AREA = 1.0


def pack_body(body: OneBody) -> tuple[int, float]:
    """A disc's profile code, and the inner radius of its edge as a share of its radius; of another body, those of a soft disc."""
    hard, inner = body.disc or (False, 0.0)
    return HARD if hard else SOFT, inner


@inline_kernel("UniTuple(f8,2)(f8, f8, i8)", cache=True, forceinline=True)
def edge(inner: float, radius: float, profile: int) -> tuple[float, float]:
    """c0 and c1 of a body of `radius` px. The edge has a least width, and keeps the body's area."""
    r0, r1 = radius * inner, radius
    # The soft profile is steeper in its middle: sampled at pixel centres, it needs more room for the same error of light.
    least = 1.0 if profile == HARD else 1.6
    if r1 - r0 < least:
        squares = r0 * r0 + r1 * r1
        if squares <= least * least:
            r0, r1 = 0.0, math.sqrt(squares)
        else:
            r0 = 0.5 * (math.sqrt(2 * squares - least * least) - least)
            r1 = r0 + least
    c1 = 1.0 / (r1 * r1 - r0 * r0)
    return r1 * r1 * c1, c1


@inline_kernel("f8(i8, f8)", cache=True)
def mean_cover(profile: int, inner: float) -> float:
    """The mean of w over the disc of the body's radius: 1 for a hard disc, 1/2 for a soft one that is all edge.

    In s = r² (in which area is even), w falls as q²(3 - 2q) from s = inner² to 1, whose mean there is 1/2.
    """
    if profile == HARD:
        return 1.0
    return inner * inner + 0.5 * (1.0 - inner * inner)


def area(body: OneBody, radius: float) -> float:
    """Light of a body of full opacity, in px² of full cover."""
    profile, inner = pack_body(body)
    return math.pi * radius * radius * mean_cover(profile, inner)

"""Blend modes against the formulas of the W3C text, written out a second time, plainly; and laws that hold for all of them."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core.render.raster.blends import MODES
from isbjorn.core.render.raster.pixel_pass import lay

LUM = np.array([0.3, 0.59, 0.11])
unit = st.floats(0, 1, width=32)
colour = st.tuples(unit, unit, unit)


def lum(c: np.ndarray) -> float:
    return float(c @ LUM)


def clip_colour(c: np.ndarray) -> np.ndarray:
    level, low, high = lum(c), c.min(), c.max()
    if low < 0:
        c = level + (c - level) * level / (level - low)
    if high > 1:
        c = level + (c - level) * (1 - level) / (high - level)
    return c


def set_lum(c: np.ndarray, level: float) -> np.ndarray:
    return clip_colour(c + (level - lum(c)))


def sat(c: np.ndarray) -> float:
    return float(c.max() - c.min())


def set_sat(c: np.ndarray, level: float) -> np.ndarray:
    """The text's own steps: the middle, then the largest, then the smallest."""
    low, middle, high = np.argsort(c, kind="stable")
    found = np.zeros(3)
    if c[high] > c[low]:
        found[middle] = (c[middle] - c[low]) * level / (c[high] - c[low])
        found[high] = level
    return found


def hard_light(b: float, s: float) -> float:
    return b * 2 * s if s <= 0.5 else b + (2 * s - 1) - b * (2 * s - 1)


def soft_light(b: float, s: float) -> float:
    if s <= 0.5:
        return b - (1 - 2 * s) * b * (1 - b)
    d = ((16 * b - 12) * b + 4) * b if b <= 0.25 else math.sqrt(b)
    return b + (2 * s - 1) * (d - b)


def dodge(b: float, s: float) -> float:
    return 0.0 if b == 0 else 1.0 if s == 1 else min(1.0, b / (1 - s))


def burn(b: float, s: float) -> float:
    return 1.0 if b == 1 else 0.0 if s == 0 else 1 - min(1.0, (1 - b) / s)


CHANNELS = {
    "normal": lambda b, s: s,
    "multiply": lambda b, s: b * s,
    "screen": lambda b, s: b + s - b * s,
    "overlay": lambda b, s: hard_light(s, b),
    "darken": min,
    "lighten": max,
    "dodge": dodge,
    "burn": burn,
    "hard light": hard_light,
    "soft light": soft_light,
    "difference": lambda b, s: abs(b - s),
    "exclusion": lambda b, s: b + s - 2 * b * s,
}
WHOLE = {
    "hue": lambda b, s: set_lum(set_sat(s, sat(b)), lum(b)),
    "saturation": lambda b, s: set_lum(set_sat(b, sat(s)), lum(b)),
    "colour": lambda b, s: set_lum(s, lum(b)),
    "luminosity": lambda b, s: set_lum(b, lum(s)),
}


def reference(mode: str, b: np.ndarray, ab: float, s: np.ndarray, a: float) -> np.ndarray:
    """Premultiplied result of a source over a backdrop, both plain colours with alpha."""
    if mode in CHANNELS:
        mixed = np.array([CHANNELS[mode](float(x), float(y)) for x, y in zip(b, s, strict=True)])
    else:
        mixed = WHOLE[mode](b, s)
    c = (1 - ab) * a * s + (1 - a) * ab * b + a * ab * mixed
    return np.array([*c, a + ab - a * ab])


def laid(mode: str, b: np.ndarray, ab: float, s: np.ndarray, a: float) -> np.ndarray:
    below = np.array([[[*(b * ab), ab]]], np.float32)
    lay(np.array([[[*(s * a), a]]], np.float32), below, mode)
    return below[0, 0].astype(float)


class Formulas(unittest.TestCase):
    @settings(max_examples=300)
    @given(st.sampled_from([*CHANNELS, *WHOLE]), colour, unit, colour, unit)
    def test_every_mode_is_what_the_text_says_over_any_alpha(
        self, mode: str, backdrop: tuple[float, ...], ab: float, source: tuple[float, ...], a: float
    ) -> None:
        # Alpha so small that a division by it says nothing any more is left out, and so are the steep ends of dodge and burn.
        ab, a = (0.0 if x < 1e-3 else x for x in (ab, a))
        b, s = np.array(backdrop), np.array(source)
        if mode in ("dodge", "burn"):
            b, s = np.clip(b, 0.02, 0.98), np.clip(s, 0.02, 0.98)
        np.testing.assert_allclose(laid(mode, b, ab, s, a), reference(mode, b, ab, s, a), atol=2e-4)

    def test_all_modes_of_the_document_are_tested(self) -> None:
        self.assertEqual(set(MODES) - {"add"}, {*CHANNELS, *WHOLE})

    def test_dodge_and_burn_at_their_ends(self) -> None:
        for mode, b, s, wanted in (
            ("dodge", 0.0, 1.0, 0.0), ("dodge", 0.3, 1.0, 1.0), ("dodge", 0.0, 0.0, 0.0), ("burn", 1.0, 0.0, 1.0),
            ("burn", 0.4, 0.0, 0.0), ("burn", 1.0, 1.0, 1.0),
        ):  # fmt: skip
            with self.subTest(mode=mode, b=b, s=s):
                found = laid(mode, np.full(3, b), 1.0, np.full(3, s), 1.0)
                np.testing.assert_allclose(found, [wanted] * 3 + [1], atol=1e-6)


class Light(unittest.TestCase):
    """Beyond white, where the text says nothing."""

    def test_a_neutral_colour_changes_nothing_however_bright_it_is_below(self) -> None:
        bright = np.array([4.0, 2.0, 9.0])
        neutral = {
            "screen": 0.0, "multiply": 1.0, "lighten": 0.0, "difference": 0.0, "exclusion": 0.0, "dodge": 0.0, "burn": 1.0,
            "hard light": 0.5, "soft light": 0.5,
        }  # fmt: skip
        for mode, at in neutral.items():
            with self.subTest(mode):
                np.testing.assert_allclose(laid(mode, bright, 1.0, np.full(3, at), 1.0)[:3], bright, rtol=1e-5)

    @given(st.sampled_from(sorted(MODES)), st.floats(0, 50), st.floats(0, 50), unit, unit)
    def test_nothing_is_ever_below_black_nor_lost(self, mode: str, b: float, s: float, ab: float, a: float) -> None:
        found = laid(mode, np.full(3, b), ab, np.full(3, s), a)
        self.assertTrue(np.isfinite(found).all())
        self.assertGreaterEqual(found.min(), -1e-3)
        self.assertLessEqual(found[3], 1 + 1e-5)

    def test_add_brings_light_and_no_cover(self) -> None:
        below = np.array([[[0.2, 0.3, 0.4, 0.5]]], np.float32)
        lay(np.array([[[1, 2, 3, 1]]], np.float32), below, "add")
        np.testing.assert_allclose(below[0, 0], [1.2, 2.3, 3.4, 0.5], rtol=1e-6)


if __name__ == "__main__":
    unittest.main()

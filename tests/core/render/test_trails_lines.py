"""Trails, further heads, and lines between neighbours."""

import math
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Solver, render_frame
from isbjorn.core.render.raster.neighbours import pairs
from isbjorn.core.render.raster.strokes import draw_strokes, polylines, strokes_of
from tests.shots import gravity, one_emitter


def one_flying(trail: dict[str, Any] | None = None, **emitter: Any) -> np.ndarray:
    """Light of one particle that flies to the right from the middle at 250 px/s, 10 px a frame; at frame 20."""
    shot = one_emitter(
        width=600, height=100,
        emitter={
            "rate": 0, "bursts": [{"count": 1}], "direction": 0, "speed": 250, "size": 8, "lifespan": 9, "across": -200,
            "blend": "add", "trail": trail, **emitter,
        },
    )  # fmt: skip
    return render_frame(shot, 20)


HEAD = 300 - 200 + 200.0  # where it is on the picture at frame 20
PLAIN = {"length": 10, "width": 100, "tail": 100, "opacity": 100, "fade": 0, "softness": 0, "head_shown": False}


class Trails(unittest.TestCase):
    def extent(self, light: np.ndarray, level: float = 0.02) -> tuple[int, int]:
        columns = np.flatnonzero(light.max(axis=0) > level)
        return int(columns.min()), int(columns.max())

    def test_a_trail_is_so_many_frames_long(self) -> None:
        for frames in (2, 10, 17.5):
            first, last = self.extent(one_flying({**PLAIN, "length": frames})[..., 0])
            self.assertAlmostEqual(last, HEAD, delta=2)
            self.assertAlmostEqual(last - first, 10 * frames, delta=3)

    def test_or_so_many_px_and_never_reaches_before_the_birth(self) -> None:
        first, last = self.extent(one_flying({**PLAIN, "by": "px", "length": 64})[..., 0])
        self.assertAlmostEqual(last - first, 64, delta=3)
        first, _ = self.extent(one_flying({**PLAIN, "length": 100})[..., 0])
        self.assertAlmostEqual(first, 100, delta=2)

    def test_it_tapers_and_fades_toward_its_end(self) -> None:
        light = one_flying({**PLAIN, "tail": 0, "fade": 100})[..., 0].astype(float)
        wide = [(light[:, round(HEAD) - d] > 0.3 * light[50, round(HEAD) - d]).sum() for d in (5, 50, 85)]
        self.assertGreater(wide[0], wide[1])
        self.assertGreater(wide[1], wide[2])
        middle = [float(light[50, round(HEAD) - d]) for d in (2, 50, 98)]
        self.assertAlmostEqual(middle[1] / middle[0], 0.5, delta=0.06)
        self.assertLess(middle[2], 0.1)

    def test_its_width_is_that_of_the_particle(self) -> None:
        light = one_flying(PLAIN)[..., 0].astype(float)
        self.assertAlmostEqual(float(light[:, round(HEAD) - 40].sum()), 8, delta=0.5)

    def test_no_joint_is_darker_or_brighter_than_the_line(self) -> None:
        shot = one_emitter(
            width=500, height=400, forces=[gravity(500)],
            emitter={
                "rate": 0, "bursts": [{"count": 1}], "direction": 60, "speed": 420, "size": 10, "lifespan": 9, "across": -200,
                "up": -100, "blend": "add", "trail": {**PLAIN, "length": 30},
            },
        )  # fmt: skip
        light = render_frame(shot, 35)[..., 0]
        self.assertLessEqual(float(light.max()), 1.01)
        # Along the middle of the way it is full, joint after joint.
        solver = Solver(shot)
        for frame in np.arange(10, 34.5, 0.25):
            from fractions import Fraction

            x, y = solver.at(Fraction(float(frame))).position[0, :2]
            at = light[round(200 - y - 0.5), round(250 + x - 0.5)]
            self.assertGreater(float(at), 0.9, frame)

    def test_after_death_it_is_caught_up_or_ends(self) -> None:
        for after, wanted in (("is caught up", 50), ("ends with it", 0)):
            # Dead for five frames at frame 20.
            light = one_flying({**PLAIN, "after_death": after}, lifespan=15 / 25)[..., 0]
            columns = np.flatnonzero(light.max(axis=0) > 0.02)
            self.assertAlmostEqual(float(np.ptp(columns)) if len(columns) else 0, wanted, delta=3)

    def test_a_head_may_wait_for_its_trail(self) -> None:
        gone = one_flying({**PLAIN, "width": 0, "head_shown": True}, lifespan=15 / 25)
        self.assertEqual(float(gone.max()), 0)
        waits = one_flying({**PLAIN, "width": 0, "head_shown": True, "head_waits": True}, lifespan=15 / 25)[..., 0]
        first, last = self.extent(waits)
        self.assertAlmostEqual((first + last) / 2, HEAD - 50, delta=2)

    def test_glow_is_wider_and_only_light(self) -> None:
        plain, glowing = (one_flying({**PLAIN, "glow": g}, blend="normal") for g in (0, 200))
        np.testing.assert_array_equal(plain[..., 3], glowing[..., 3])
        self.assertGreater(float(glowing[..., 0].sum()), 1.5 * float(plain[..., 0].sum()))

    def test_colours_of_each_age_lie_where_it_had_them(self) -> None:
        ramp = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}], "mix": "linear"}
        picture = one_flying({**PLAIN, "length": 19, "colours": "of each age"}, colour=ramp, lifespan=0.8001)
        young, old = picture[50, 114], picture[50, round(HEAD) - 6]
        self.assertGreater(young[0], 5 * young[2])
        self.assertGreater(old[2], 5 * old[0])
        even = one_flying({**PLAIN, "length": 19}, colour=ramp, lifespan=0.8001)
        self.assertGreater(even[50, 114, 2], 5 * even[50, 114, 0])

    def test_a_trail_is_the_same_whatever_was_seen_before(self) -> None:
        shot = one_emitter(
            width=200, height=200, forces=[gravity(300)],
            emitter={"spread": 180, "trail": {"length": 12}, "lifespan": {"value": 1, "spread": 0.5}},
        )  # fmt: skip
        fresh = render_frame(shot, 40)
        solver = Solver(shot)
        for frame in (90, 3, 41):
            render_frame(shot, frame, solver=solver)
        np.testing.assert_array_equal(render_frame(shot, 40, solver=solver), fresh)


class Heads(unittest.TestCase):
    def test_more_heads_follow_in_time_ever_smaller(self) -> None:
        heads = {"count": 3, "gap_s": 0.2, "size": 50, "opacity": 100}
        light = one_flying(heads=heads, size=16, body={"kind": "hard disc"})[..., 0].astype(float)
        columns = light.sum(axis=0)
        for k in range(4):
            at = round(HEAD - 50 * k)
            wanted = math.pi * (8 * 0.5**k) ** 2
            self.assertAlmostEqual(float(columns[at - 12 : at + 13].sum()), wanted, delta=0.12 * wanted)


class Strokes(unittest.TestCase):
    def stroke(self, width: float, soft: float = 0.0) -> np.ndarray:
        out = np.zeros((100, 200, 4), np.float32)
        ends = np.array([[[30.3, 50.2], [170.7, 50.2]]])
        way = ends[:, 1] - ends[:, 0]
        draw_strokes(strokes_of(ends, np.full((1, 2), width / 2), np.ones((1, 2, 4)), way, way, soft), out)
        return out[..., 3]

    def test_light_is_width_times_length_down_to_hairs(self) -> None:
        for soft in (0.0, 0.5, 1.0):
            for width in (0.05, 0.4, 1, 1.6, 2.2, 2.8, 9):
                with self.subTest(width=width, soft=soft):
                    found = float(self.stroke(width, soft)[:, 60:140].sum()) / 80
                    self.assertAlmostEqual(found / (width * (1 - soft / 2)), 1, delta=0.06)

    def test_two_pieces_in_a_line_are_as_one(self) -> None:
        points = np.array([[[20.0, 20.0], [60.0, 35.0], [100.0, 50.0]]])
        out, whole = np.zeros((80, 140, 4), np.float32), np.zeros((80, 140, 4), np.float32)
        draw_strokes(polylines(points, np.full((1, 3), 4.0), np.ones((1, 3, 4)), np.ones((1, 2), bool), 0.3), out)
        draw_strokes(
            polylines(points[:, ::2], np.full((1, 2), 4.0), np.ones((1, 2, 4)), np.ones((1, 1), bool), 0.3), whole
        )
        np.testing.assert_allclose(out, whole, atol=2e-3)


class Neighbours(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(2, 60), st.floats(1, 90), st.integers(1, 6), st.integers(0, 10_000), st.booleans())
    def test_pairs_are_those_that_looking_at_everybody_finds(
        self, count: int, reach: float, most: int, seed: int, deep: bool
    ) -> None:
        rng = np.random.default_rng(seed)
        place = (rng.random((count, 3)) * [200, 120, 80 if deep else 0]).astype(np.float32)
        away = np.linalg.norm(place[:, None].astype(float) - place[None], axis=2)
        np.fill_diagonal(away, np.inf)
        chosen = [
            set(np.argsort(row, kind="stable")[:most][np.sort(row, kind="stable")[:most] <= reach]) for row in away
        ]
        wanted = {(i, j) for i in range(count) for j in chosen[i] if i < j and i in chosen[j]}
        found, distance = pairs(place, reach, most)
        self.assertEqual({(int(a), int(b)) for a, b in found}, wanted)
        np.testing.assert_allclose(distance, [away[a, b] for a, b in found], rtol=1e-4)

    def test_no_particle_has_more_lines_than_allowed(self) -> None:
        place = np.random.default_rng(4).random((3000, 3)).astype(np.float32) * 300
        joined, _ = pairs(place, 40, 3)
        self.assertLessEqual(int(np.bincount(joined.ravel()).max()), 3)


class Lines(unittest.TestCase):
    def two(self, apart: float, **lines: Any) -> np.ndarray:
        """Two still particles, one red and one blue, on a level line."""
        ramp = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}], "mix": "linear"}
        shot = one_emitter(
            width=300, height=100,
            emitter={
                "across": {
                    "value": 0, "keys": [{"at_s": 0, "value": -apart / 2, "joint": "hold"}, {"at_s": 0.02, "value": apart / 2}],
                },
                "rate": 0, "bursts": [{"count": 1, "at_s": t} for t in (0, 0.03)], "speed": 0, "lifespan": 0,
                "colour": ramp, "colour_by": "distance",
                "colour_of": "m", "colour_from": 0, "colour_to": 1, "size": 2, "blend": "add",
                "lines": {"distance": 100, "width": 3, "opacity": 100, "fade": 0, "softness": 0, "bodies": False, **lines},
            },
            markers=[{"id": "m"}],
        )  # fmt: skip
        return render_frame(shot, 5)

    def test_a_line_joins_those_within_the_distance_only(self) -> None:
        self.assertGreater(float(self.two(80)[..., :3].sum()), 20)
        self.assertEqual(float(self.two(80, distance=10).max()), 0)

    def test_it_fades_toward_the_distance(self) -> None:
        place = 0.5 * 300
        near, far = (float(self.two(60, fade=100, distance=d)[50, round(place), :3].sum()) for d in (400, 66))
        self.assertGreater(near, 3 * max(far, 1e-6))

    def test_its_ends_have_the_colours_of_its_particles(self) -> None:
        shot = one_emitter(
            width=200, height=100,
            emitter={
                "rate": 0, "bursts": [{"count": 1, "at_s": 0}, {"count": 1, "at_s": 1}], "direction": 0, "speed": 50,
                "lifespan": 2.5,
                "across": -40, "blend": "add", "size": 2,
                "colour": {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}], "mix": "linear"},
                "lines": {"distance": 100, "width": 4, "opacity": 100, "fade": 0, "bodies": False},
            },
        )  # fmt: skip
        # At 1.2 s one is 0.2 s old at 70 px, the other 1.2 s old at 120 px.
        picture = render_frame(shot, 30)
        young, old = picture[50, 72], picture[50, 117]
        self.assertGreater(young[0] / young[2], 3)
        self.assertLess(old[0] / old[2], 2)
        self.assertGreater(old[2], 0.2)


if __name__ == "__main__":
    unittest.main()

"""The camera: keyed, turned, flat or in perspective; the free look; what the kernel draws is what `Projection` says."""

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.render.scene.camera import Orbit, projection, to_draw
from tests.shots import one_emitter

STILL = {"speed": 0, "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "size": 30, "body": {"kind": "hard disc"}}
DEEP = {"kind": "perspective", "focal_mm": 36, "filmback_mm": 36}


def shot(camera: dict[str, Any], **emitter: Any) -> Shot:
    return one_emitter(emitter={**STILL, **emitter}, camera=camera)


def centre(picture: np.ndarray) -> tuple[float, float]:
    """Centre of the light of a picture, in px from the middle, x right, y up."""
    light = picture[..., 3].astype(np.float64)
    y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]] + 0.5
    return float((x * light).sum() / light.sum() - light.shape[1] / 2), float(
        light.shape[0] / 2 - (y * light).sum() / light.sum()
    )


class Turned(unittest.TestCase):
    def seen(self, camera: dict[str, Any], frame: int = 0, **emitter: Any) -> tuple[float, float]:
        return centre(render_frame(shot({**DEEP, **camera}, **emitter), frame, 0.5, False))

    def test_pan_to_the_left_moves_things_to_the_right(self) -> None:
        x, y = self.seen({"pan": 10})
        self.assertAlmostEqual(x, 640 * np.tan(np.radians(10)), delta=0.6)
        self.assertAlmostEqual(y, 0, delta=0.3)

    def test_pitch_upward_moves_things_down(self) -> None:
        _, y = self.seen({"pitch": 8})
        self.assertAlmostEqual(y, -640 * np.tan(np.radians(8)), delta=0.6)

    def test_roll_counter_clockwise_turns_the_picture_clockwise(self) -> None:
        x, y = self.seen({"roll": 90}, across=200)
        self.assertAlmostEqual(x, 0, delta=0.3)
        self.assertAlmostEqual(y, -100, delta=0.5)

    def test_moved_aside_and_into_the_picture(self) -> None:
        self.assertAlmostEqual(self.seen({"across": 100})[0], -50, delta=0.3)
        self.assertAlmostEqual(self.seen({"up": 60})[1], -30, delta=0.3)
        # Halfway to the picture plane, everything on it is twice as large.
        self.assertAlmostEqual(self.seen({"forward": 640}, across=100)[0], 100, delta=0.5)

    def test_keys_move_it_over_the_shot(self) -> None:
        pan = {
            "value": 0,
            "keys": [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 4, "value": 20, "joint": "straight"}],
        }
        at = [self.seen({"pan": pan}, frame)[0] for frame in (0, 50, 100)]
        np.testing.assert_allclose(at, [640 * np.tan(np.radians(d)) for d in (0, 10, 20)], atol=0.8)

    def test_a_keyed_lens_zooms_and_stays_where_it_is(self) -> None:
        focal = {"value": 36, "keys": [{"at_s": 0, "value": 36}, {"at_s": 2, "value": 72}]}
        wide, close = (self.seen({"focal_mm": focal}, frame, across=100)[0] for frame in (0, 50))
        self.assertAlmostEqual(close, 2 * wide, delta=0.5)

    def test_flat_it_can_be_moved_and_rolled_too(self) -> None:
        picture = render_frame(shot({"kind": "flat", "across": 80, "roll": 180}, depth=500), 0, 0.5, False)
        self.assertAlmostEqual(centre(picture)[0], 40, delta=0.3)


class Sorted(unittest.TestCase):
    def test_depth_is_the_cameras_depth(self) -> None:
        emitter = {
            "speed": 0,
            "rate": 60,
            "size": 20,
            "order": "farthest first",
            "shape": {"kind": "sphere", "radius": 200},
        }
        for pan in (0, 90, 180):
            made = one_emitter(emitter=emitter, camera={**DEEP, "pan": pan})
            found, view = Solver(made).at(50), projection(made)
            order = to_draw(made, found, view).records
            depth = (found.position - view.eye) @ view.axes[2]
            from isbjorn.core.render.scene.camera import rank

            self.assertTrue((np.diff(depth[rank(made.emitters[0], found, view)]) >= -1e-3).all())
            self.assertEqual(len(order), len(found))


class FreeLook(unittest.TestCase):
    def test_straight_from_the_front_it_sees_what_the_camera_sees(self) -> None:
        made = shot(DEEP, across=90, up=40, depth=70)
        front = projection(made, 1.0, 0.0, Orbit(0, 0, 1))
        through = projection(made)
        place = np.array([[90, 40, 70], [-300, 100, -200]])
        np.testing.assert_allclose(front.place(place)[0], through.place(place)[0], atol=1e-3)

    def test_from_the_side_depth_is_seen_as_width(self) -> None:
        view = projection(shot(DEEP), 1.0, 0.0, Orbit(90, 0, 1))
        (near,), _ = view.place([[0, 0, 100]])
        (far,), _ = view.place([[0, 0, -100]])
        self.assertLess(near[0], 640)
        self.assertGreater(far[0], 640)
        self.assertAlmostEqual(float(near[1]), 360, delta=1e-3)

    def test_it_takes_no_notice_of_the_shots_camera(self) -> None:
        place = [[50, 60, 70]]
        views = [projection(shot({**DEEP, **c}), 1.0, 0.0, Orbit(30, 20, 2)) for c in ({}, {"pan": 40, "roll": 20})]
        np.testing.assert_array_equal(views[0].place(place)[0], views[1].place(place)[0])


class Agreement(unittest.TestCase):
    @settings(max_examples=40)
    @given(
        st.sampled_from(["flat", "perspective"]),
        st.tuples(*[st.floats(-60, 60)] * 3),
        st.tuples(*[st.floats(-200, 200)] * 3),
        st.tuples(*[st.floats(-200, 200)] * 3),
    )
    def test_the_kernel_draws_where_the_projection_says(
        self, kind: str, turns: tuple[float, ...], moves: tuple[float, ...], place: tuple[float, ...]
    ) -> None:
        camera = dict(zip(("pan", "pitch", "roll", "across", "up", "forward"), (*turns, *moves), strict=True))
        made = shot({**DEEP, **camera, "kind": kind}, across=place[0], up=place[1], depth=place[2])
        found, view = Solver(made).at(0), projection(made)
        record = to_draw(made, found, view).records[0]
        (pixel,), (grown,) = view.place(found.position)
        if record[0] > -1e8:
            np.testing.assert_allclose(record[:2], pixel, atol=0.02)
            self.assertGreater(grown, 0)
        else:
            radius = 15 * max(grown, 0)
            inside = -radius < pixel[0] < 1280 + radius and -radius < pixel[1] < 720 + radius and grown > 0
            self.assertFalse(inside and grown > 0.01 and abs(pixel[0] - 640) < 600 and abs(pixel[1] - 360) < 320)


if __name__ == "__main__":
    unittest.main()

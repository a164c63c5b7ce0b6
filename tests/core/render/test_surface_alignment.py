"""Bodies aligned with the surface that they touch: seen as a disc on it would be, by any camera."""

import math
import unittest
from typing import Any, ClassVar

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import draw_particles
from isbjorn.core.render.scene.camera import projection


class OnASurface(unittest.TestCase):
    """A body on a surface is seen as a disc on it would be."""

    FLOOR: ClassVar[dict[str, Any]] = {"kind": "surface", "id": "floor", "up": -120, "outcome": "stick"}
    LENS: ClassVar[dict[str, Any]] = {"kind": "perspective", "focal_mm": 40}

    def seen(self, at: tuple[float, float], camera: dict[str, Any] | None = None, **more: Any) -> np.ndarray:
        one = {
            "id": "e", "shape": {"kind": "point"}, "across": at[0], "depth": at[1], "up": -119, "rate": 0, "bursts": [{"count": 1}],
            "lifespan": 0, "speed": 0, "size": {"value": 90, "spread": 0}, "body": {"kind": "hard disc"},
            "facing": "surface", **more,
        }  # fmt: skip
        whole = {
            "width": 640,
            "height": 360,
            "emitters": [one],
            "forces": [self.FLOOR],
            "links": [{"force": "floor", "emitter": "e"}],
        }
        return np.asarray(
            draw_particles(Solver(parse_shot({**whole, "camera": camera or self.LENS})), 3).picture[..., 3],
            float,
        )

    def test_a_disc_is_the_projected_circle(self) -> None:
        for at in ((0.0, 0.0), (150.0, -200.0), (-120.0, 150.0)):
            cover = self.seen(at)
            view = projection(parse_shot({"width": 640, "height": 360, "camera": self.LENS}), 1.0, 0.0, None)
            # It touches the floor when its centre is a radius above it.
            turn = np.linspace(0, 2 * np.pi, 400)
            rim = np.stack([at[0] + 45 * np.cos(turn), np.full(400, -75.0), at[1] + 45 * np.sin(turn)], axis=1)
            x, y = view.place(rim.astype(np.float32))[0].astype(float).T
            area = 0.5 * abs(float((x[1:] * y[:-1] - x[:-1] * y[1:]).sum()))
            with self.subTest(at=at):
                self.assertAlmostEqual(float(cover.sum()), area, delta=0.04 * area)
                rows, columns = np.nonzero(cover > 0.5)
                self.assertAlmostEqual(float(np.ptp(columns)), float(np.ptp(x)), delta=3)
                self.assertAlmostEqual(float(np.ptp(rows)), float(np.ptp(y)), delta=3)

    def test_seen_edge_on_it_is_a_hair_and_raised_it_is_seen(self) -> None:
        flat: dict[str, Any] = {"kind": "flat"}
        edge, raised = (self.seen((0, 0), flat, turn_x=angle) for angle in (0, 30))
        self.assertLess(float(edge.sum()), 0.05 * math.pi * 45**2)
        self.assertAlmostEqual(float(raised.sum()), math.pi * 45**2 * 0.5, delta=0.03 * math.pi * 45**2)

    def test_without_a_surface_it_faces_the_viewer(self) -> None:
        one = {
            "id": "e", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0,
            "size": {"value": 90, "spread": 0}, "body": {"kind": "hard disc"}, "facing": "surface",
        }  # fmt: skip
        cover = draw_particles(Solver(parse_shot({"width": 640, "height": 360, "emitters": [one]})), 3).picture[..., 3]
        self.assertAlmostEqual(float(cover.sum()), math.pi * 45**2, delta=0.01 * math.pi * 45**2)

    def test_what_is_born_of_a_touch_lies_where_that_was(self) -> None:
        rain = {
            "id": "r",
            "shape": {"kind": "line", "length": 300},
            "up": 100,
            "direction": 270,
            "spread": 0,
            "speed": 400,
            "rate": 20,
        }
        ring = {"id": "m", "born_of": "r", "born_when": "at touch", "facing": "surface", "lifespan": 0, "speed": 0,
                "size": {"value": 60, "spread": 0}, "body": {"kind": "ring"}, "shape": {"kind": "point"}}  # fmt: skip
        whole = {"width": 640, "height": 360, "camera": self.LENS, "forces": [self.FLOOR | {"outcome": "die"}]}
        document = parse_shot(
            {**whole, "emitters": [rain | {"opacity": 0}, ring], "links": [{"force": "floor", "emitter": "r"}]}
        )
        rows, columns = np.nonzero(draw_particles(Solver(document), 60).picture[..., 3] > 0.2)
        self.assertGreater(len(rows), 100)
        self.assertGreater(float(np.ptp(columns)), 4 * float(np.ptp(rows)))


if __name__ == "__main__":
    unittest.main()

"""Bursts that fill a shape to a given share with bodies of the sizes that are drawn."""

import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core.document import Artwork, Ball, Box, Disc, Letters, Rectangle
from isbjorn.core.emit.shapes import measure, outline
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import Solver
from isbjorn.core.render.composite.mattes import filled
from tests.shots import one_emitter


def at(t: float = 0.0) -> ShapeSetting:
    return ShapeSetting(np.array([t]), Readings(one_emitter()))


class Measures(unittest.TestCase):
    def test_flat_and_solid_shapes(self) -> None:
        thick = {"fill": "shell", "thickness": 10, "shell_side": "inward"}
        for shape, amount, power in (
            (Disc(radius=50), math.pi * 2500, 2), (Disc(radius=50, half="upper"), math.pi * 1250, 2),
            (Disc(radius=50, fill="edge"), math.pi * 100, 1), (Disc(radius=50, **thick), math.pi * 900, 2),
            (Rectangle(width=80, height=30), 2400, 2), (Rectangle(width=80, height=30, fill="edge"), 220, 1),
            (Rectangle(width=80, height=30, **thick), 2400 - 600, 2), (Ball(radius=30), math.pi * 36_000, 3),
            (Ball(radius=30, fill="edge"), math.pi * 3600, 2), (Box(width=10, height=20, deep=30), 6000, 3),
            (Box(width=10, height=20, deep=30, fill="edge"), 2200, 2),
        ):  # fmt: skip
            with self.subTest(shape=shape):
                found = measure(type(shape).model_validate(shape.model_dump()), at())
                assert found is not None
                self.assertAlmostEqual(found[0], amount, delta=1e-6 * amount)
                self.assertEqual(found[1], power)

    def test_letters_and_artwork_without_their_holes(self) -> None:
        ring = "M0 0H100V100H0Z M25 25V75H75V25Z"
        for shape in (Letters(text="Bø8", height=200), Artwork(paths=(ring,), width=200)):
            lines = outline(shape, at())
            found = measure(shape, at())
            assert found is not None
            corner = np.min([line.min(axis=0) for line in lines], axis=0)
            solid = found[0] / self.raster(lines, corner)
            self.assertAlmostEqual(solid, 1.0, delta=0.01)

    @staticmethod
    def raster(lines: Any, corner: Any) -> float:
        """The area in px within outlines with holes in the opposite direction, by the winding of each pixel."""
        cover = np.zeros((400, 700))
        for line in lines:
            turns = np.sum(line[:-1, 0] * line[1:, 1] - line[1:, 0] * line[:-1, 1])
            cover += np.sign(turns) * filled((line - corner)[:, :2] + 5, 700, 400)
        return float(np.clip(np.abs(cover), 0, 1).sum())


class Fills(unittest.TestCase):
    def covered(self, **emitter: Any) -> float:
        p = Solver(one_emitter(emitter={"rate": 0, "lifespan": 0, "speed": 0, **emitter})).at(3)
        return float((math.pi / 4 * p.size.astype(np.float64) ** 2).sum())

    def test_so_much_is_covered_as_is_said(self) -> None:
        burst = [{"at_s": 0, "fill": 60}]
        for shape, area in (
            ({"kind": "disc", "radius": 450}, math.pi * 202_500),
            ({"kind": "rectangle", "width": 900, "height": 600}, 540_000),
        ):
            for size in ({"value": 12, "spread": 9}, {"value": 10, "spread": 4, "spread_shape": "bell"}, {"value": 7}):
                with self.subTest(shape=shape, size=size):
                    share = self.covered(bursts=burst, shape=shape, size=size) / area
                    self.assertAlmostEqual(share, 0.6, delta=0.03)

    def test_bodies_that_push_lie_still_as_they_were_filled_in(self) -> None:
        for share in (50, 70, 85):
            for spacing in ("random", "even"):
                shot = one_emitter(
                    emitter={
                        "rate": 0, "lifespan": 0, "speed": 0, "shape": {"kind": "rectangle", "width": 160, "height": 90},
                        "bursts": [{"at_s": 0, "fill": share}], "size": {"value": 10, "spread": 6}, "spacing": spacing,
                    }, forces=[{"kind": "push", "id": "push"}],
                )  # fmt: skip
                solver = Solver(shot)
                first, later = solver.at(1), solver.at(60)
                with self.subTest(share=share, spacing=spacing):
                    self.assertLess(float(np.linalg.norm(later.velocity, axis=1).max()), 0.5)
                    self.assertLess(float(np.abs(later.position - first.position).max()), 6)
                    gaps = np.linalg.norm(later.position[:, None] - later.position[None], axis=2)
                    radii = later.size / 2
                    over = radii[:, None] + radii[None] - gaps
                    np.fill_diagonal(over, 0)
                    self.assertLess(float((over / np.minimum(radii[:, None], radii[None])).max()), 0.02)

    def test_twice_as_large_a_source_takes_four_times_as_many(self) -> None:
        given = {"bursts": [{"at_s": 0, "fill": 30}], "shape": {"kind": "disc", "radius": 100}, "size": 8}
        one, four = (self.covered(**given, scale=scale) for scale in (100, 200))
        self.assertAlmostEqual(four / one, 4, delta=0.1)

    def test_a_point_and_bodies_of_no_size_take_as_many_as_are_said(self) -> None:
        for more in ({"shape": {"kind": "point"}}, {"shape": {"kind": "disc", "radius": 20}, "size": 0}):
            shot = one_emitter(
                emitter={"rate": 0, "lifespan": 0, "bursts": [{"at_s": 0, "count": 17, "fill": 50}], **more}
            )
            self.assertEqual(len(Solver(shot).at(3)), 17)

    def test_an_edit_of_sizes_bears_others(self) -> None:
        given = one_emitter(emitter={
            "rate": 0, "lifespan": 0, "size": 10, "bursts": [{"at_s": 0, "fill": 50}], "shape": {"kind": "disc", "radius": 100},
        })  # fmt: skip
        before = Solver(given)
        smaller = given.emitters[0].model_copy(
            update={"size": given.emitters[0].size.model_copy(update={"value": 5.0})}
        )
        after = given.model_copy(update={"emitters": (smaller,)})
        self.assertEqual(len(Solver(after, before.cache, before=before).at(3)), len(Solver(after).at(3)))
        self.assertAlmostEqual(len(Solver(after).at(3)) / len(before.at(3)), 4, delta=0.05)


if __name__ == "__main__":
    unittest.main()

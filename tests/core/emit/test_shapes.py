"""Where particles are born: even by length, area or volume on every shape, and exactly in its outline."""

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from isbjorn.core import IsbjornError, Solver
from isbjorn.core.document import Emitter
from isbjorn.core.emit.shapes import artwork, outline
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.geometry.outlines import paths_of_svg
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.runtime.shared_cache import LASTING, SharedCache, keep_on
from tests.core.media.test_media import InFolder
from tests.shots import chi_square, newborn, one_emitter


def spread(values: np.ndarray, low: float, high: float, bins: int = 40) -> float:
    return chi_square(np.histogram(values, bins, (low, high))[0])


def born(kind: str, **fields: Any) -> np.ndarray:
    """Places (3, n) on a shape."""
    emitter = {name: fields.pop(name) for name in ("spacing", "turn", "scale") if name in fields}
    return newborn(shape={"kind": kind, **fields}, **emitter)[0].astype(np.float64)


class Even(unittest.TestCase):
    def test_sphere_by_volume_on_its_surface_and_in_a_shell(self) -> None:
        inside = born("sphere", radius=80)
        radius = np.linalg.norm(inside, axis=0)
        self.assertLess(spread((radius / 80) ** 3, 0, 1), 4)
        self.assertLess(spread(inside[2] / np.maximum(radius, 1e-9), -1, 1), 4)
        edge = born("sphere", radius=80, fill="edge")
        np.testing.assert_allclose(np.linalg.norm(edge, axis=0), 80, rtol=1e-5)
        self.assertLess(spread(edge[2], -80, 80), 4)
        self.assertLess(spread(np.arctan2(edge[1], edge[0]), -math.pi, math.pi), 4)
        for side, low, high in (("inward", 60, 80), ("outward", 80, 100), ("both", 70, 90)):
            shell = np.linalg.norm(born("sphere", radius=80, fill="shell", thickness=20, shell_side=side), axis=0)
            self.assertTrue(low - 0.01 <= shell.min() and shell.max() <= high + 0.01, side)
            self.assertLess(spread((shell**3 - low**3) / (high**3 - low**3), 0, 1), 4)

    def test_disc_shell_and_halves(self) -> None:
        ring = born("disc", radius=60, fill="shell", thickness=20)
        radius = np.hypot(ring[0], ring[1])
        self.assertLess(spread((radius**2 - 40**2) / (60**2 - 40**2), 0, 1), 4)
        for half, axis, sign in (("right", 0, 1), ("left", 0, -1), ("upper", 1, 1), ("lower", 1, -1)):
            found = born("disc", radius=60, half=half)
            self.assertGreaterEqual(float((found[axis] * sign).min()), 0)
            self.assertLess(spread(found[1 - axis], -60, 60, 3), 4000)
        near = born("sphere", radius=50, half="near")
        self.assertGreaterEqual(float(near[2].min()), 0)

    def test_box_by_volume_and_by_area(self) -> None:
        inside = born("box", width=200, height=100, deep=60)
        for axis, half in enumerate((100, 50, 30)):
            self.assertLess(spread(inside[axis], -half, half), 4)
        faces = born("box", width=200, height=100, deep=60, fill="edge")
        on = [np.isclose(np.abs(faces[axis]), half, atol=1e-3) for axis, half in enumerate((100, 50, 30))]
        self.assertTrue((on[0] | on[1] | on[2]).all())
        areas = np.array([100 * 60, 200 * 60, 200 * 100], float)
        counts = np.array([float(np.sum(o)) for o in on])
        np.testing.assert_allclose(counts / counts.sum(), areas / areas.sum(), atol=0.01)
        shell = born("box", width=200, height=100, deep=60, fill="shell", thickness=10)
        inner = (np.abs(shell[0]) < 89.99) & (np.abs(shell[1]) < 39.99) & (np.abs(shell[2]) < 19.99)
        self.assertEqual(int(inner.sum()), 0)
        volume = (200 * 100 - 180 * 80) * 60 + 180 * 80 * 20
        thin = np.abs(shell[2]) > 20
        self.assertAlmostEqual(float(thin.mean()), 200 * 100 * 20 / volume, delta=0.01)

    def test_all_of_a_shell_along_a_path_lies_within_it(self) -> None:
        """Round sharp corners, and where what the path bounds is thinner than the shell."""
        spike = [(0, 0), (200, 8), (0, 16), (-60, 120), (-50, -90)]
        points = [{"x": x, "y": y} for x, y in spike]
        corners = np.array([*spike, spike[0]], float)
        for side, within in (("inward", 30), ("outward", 30), ("both", 15)):
            shell = born("path", points=points, closed=True, fill="shell", thickness=30, shell_side=side)[:2].T
            a, w = corners[:-1], np.diff(corners, axis=0)
            p = shell[:, None] - a
            t = np.clip((p * w).sum(axis=2) / (w * w).sum(axis=1), 0, 1)
            away = np.linalg.norm(p - t[..., None] * w, axis=2).min(axis=1)
            self.assertLess(float(away.max()), within + 0.01, side)
            crosses = ((a[:, 1] > shell[:, None, 1]) != ((a + w)[:, 1] > shell[:, None, 1])) & (
                p[..., 0] < w[:, 0] * p[..., 1] / np.where(w[:, 1] == 0, 1, w[:, 1])
            )
            inside = crosses.sum(axis=1) % 2 == 1
            clear = away > 0.01
            self.assertTrue(side == "both" or (inside[clear] == (side == "inward")).all(), side)

    def test_rectangle_shell(self) -> None:
        shell = born("rectangle", width=200, height=100, fill="shell", thickness=20)
        self.assertEqual(int(((np.abs(shell[0]) < 79.99) & (np.abs(shell[1]) < 29.99)).sum()), 0)
        self.assertLessEqual(float(np.abs(shell[0]).max()), 100.001)
        upper = np.abs(shell[1]) > 30
        self.assertAlmostEqual(float(upper.mean()), 200 * 40 / (200 * 100 - 160 * 60), delta=0.01)

    def test_path_by_length_and_inside_by_area(self) -> None:
        corner = [{"x": 0, "y": 0}, {"x": 300, "y": 0}, {"x": 300, "y": 100}]
        along = born("path", points=corner)
        level = np.isclose(along[1], 0, atol=1e-3) & (along[0] < 299.999)
        self.assertAlmostEqual(float(level.mean()), 0.75, delta=0.01)
        self.assertLess(spread(along[0][level], 0, 300), 4)
        square = [{"x": -50, "y": -50}, {"x": 50, "y": -50}, {"x": 50, "y": 50}, {"x": -50, "y": 50}]
        inside = born("path", points=square, closed=True, fill="inside")
        cells = ((inside[0] + 50) / 10).astype(int).clip(0, 9) * 10 + ((inside[1] + 50) / 10).astype(int).clip(0, 9)
        self.assertLess(chi_square(np.bincount(cells, minlength=100)), 4)
        bent = [{"x": 0, "y": 0, "leave": [0, 200]}, {"x": 200, "y": 0, "arrive": [0, 200]}]
        arc = born("path", points=bent)
        self.assertAlmostEqual(float(arc[1].max()), 150, delta=0.2)

    def test_a_drawing_is_read_once_and_again_where_its_cache_is_damaged(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        shared_cache = SharedCache(folder, 1 << 20)
        keep_on(shared_cache)
        self.addCleanup(LASTING.clear)
        paths = ("M0 0H100V50H0Z M20 20V30H40V20Z", "M120 0C140 0 140 20 120 20Z")
        made = artwork._made(paths)
        found = artwork._found(paths)
        assert found is not None
        for mine, theirs in zip(found.lines, made.lines, strict=True):
            np.testing.assert_array_equal(mine, theirs)
        for name in ("bottom", "top", "ends", "run"):
            np.testing.assert_array_equal(getattr(found.cut, name), getattr(made.cut, name))
        self.assertIsNone(artwork._found(paths[:1]))
        shared_cache.put(artwork._GROUP, artwork._digest(paths), [np.zeros(7, np.uint8)])
        self.assertIsNone(artwork._found(paths))

    def test_letters_and_artwork_by_area_and_along_their_edge(self) -> None:
        art = {"paths": ["M0 0H100V50H0Z", "M120 0H140V50H120Z"], "width": 280}
        inside = born("artwork", **art)
        wide = inside[0] < 61
        self.assertAlmostEqual(float(wide.mean()), 100 / 120, delta=0.01)
        self.assertLess(spread(inside[1], -50, 50), 4)
        edge = born("artwork", fill="edge", **art)
        self.assertAlmostEqual(float((edge[0] < 61).mean()), 300 / 440, delta=0.012)
        for fill in ("inside", "edge", "shell"):
            letters = born("letters", text="ØÅ", height=100, fill=fill)
            self.assertTrue(np.isfinite(letters).all())
            self.assertGreater(float(np.ptp(letters[0])), 80)
        ring = born("letters", text="O", height=200)
        middle = np.hypot(ring[0], ring[1]) < 15
        self.assertEqual(int(middle.sum()), 0, "the counter of the letter stays empty")

    def test_even_spacing_leaves_no_gaps(self) -> None:
        for kind in ("line", "disc", "sphere", "box"):
            even, chance = (born(kind, spacing=s)[:, :400] for s in ("even", "random"))
            gaps = []
            for found in (even, chance):
                off = np.linalg.norm(found[:, :, None] - found[:, None, :], axis=0) + np.eye(400) * 1e9
                gaps.append(float(off.min(axis=1).min()))
            with self.subTest(kind):
                self.assertGreater(gaps[0], 1.4 * gaps[1])


class Outlines(unittest.TestCase):
    def test_what_is_drawn_is_what_is_filled(self) -> None:
        shapes = (
            {"kind": "line", "length": 90, "angle": 30}, {"kind": "box"}, {"kind": "sphere", "half": "upper"},
            {"kind": "path", "closed": True, "fill": "inside"}, {"kind": "letters", "text": "kelp"},
            {"kind": "disc", "fill": "shell", "shell_side": "outward", "thickness": 30},
        )  # fmt: skip
        setting = ShapeSetting(np.zeros(1), Readings(one_emitter()))
        for shape in shapes:
            drawn = np.concatenate(outline(Emitter.model_validate({"shape": shape}).shape, setting))
            place, _ = newborn(shape=shape)
            for axis in range(2):
                with self.subTest(shape=shape, axis=axis):
                    self.assertAlmostEqual(float(drawn[:, axis].max()), float(place[axis].max()), delta=1.6)
                    self.assertAlmostEqual(float(drawn[:, axis].min()), float(place[axis].min()), delta=1.6)

    def test_turn_and_size_of_the_source_turn_and_size_its_births(self) -> None:
        turned = born("line", length=100, turn=90, scale=200)
        self.assertLess(float(np.abs(turned[0]).max()), 1e-3)
        self.assertAlmostEqual(float(np.ptp(turned[1])), 200, delta=0.2)


class FromPlate(InFolder):
    def test_bright_edges_and_moving(self) -> None:
        import cv2

        for number in range(3):
            picture = np.zeros((90, 160, 3), np.uint8)
            picture[20:40, 30 + 20 * number : 70 + 20 * number] = 255
            cv2.imwrite(str(self.folder / f"p.{number:04}.png"), picture)
        media = {"media": str(self.folder / "p.%04d.png"), "rate": "25"}

        def places(by: str, frame: int) -> np.ndarray:
            emitter = {"shape": {"kind": "plate", "by": by, "above": 30}, "speed": 0, "rate": 4000, "lifespan": 0.039}
            found = Solver(one_emitter(emitter=emitter, plate=media, last_frame=2)).at(frame)
            self.assertGreater(len(found), 50)
            # In cells of the picture of 160 × 90.
            return np.stack([found.position[:, 0] / 8 + 80, 45 - found.position[:, 1] / 8])

        bright = places("bright", 1)
        self.assertTrue(
            (bright[0] > 29).all() and (bright[0] < 91).all() and (bright[1] > 19).all() and (bright[1] < 41).all()
        )
        edges = places("edges", 1)
        self.assertEqual(int(((edges[0] > 56) & (edges[0] < 64) & (edges[1] > 25) & (edges[1] < 35)).sum()), 0)
        moving = places("moving", 2)
        still = (moving[0] > 53) & (moving[0] < 67)
        self.assertLessEqual(int(still.sum()), 2, "bright particles do not move, except those born on the very frame")

    def test_without_a_plate_no_particle_is_seen(self) -> None:
        found = Solver(one_emitter(emitter={"shape": {"kind": "plate"}})).at(50)
        self.assertTrue((np.abs(found.position[:, :2]) > 1e6).any(axis=1).all())


class Drawings(unittest.TestCase):
    def test_svg_paths_are_read_with_their_transforms(self) -> None:
        svg = b"""<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 100">
          <g transform="translate(10 0)"><rect width="20" height="10"/></g><circle cx="50" cy="50" r="10"/></svg>"""
        paths = paths_of_svg(svg)
        self.assertEqual(len(paths), 2)
        self.assertIn("30", paths[0])

    def test_what_is_no_drawing_is_named(self) -> None:
        for content in (b"", b"not xml", b"<svg xmlns='http://www.w3.org/2000/svg'></svg>", b"\x00\xff" * 50):
            with self.assertRaises(IsbjornError):
                paths_of_svg(content)

    def test_letters_that_cannot_be_drawn_are_named(self) -> None:
        with self.assertRaises(IsbjornError):
            born("letters", text=" ")

    def test_the_font_ships(self) -> None:
        from isbjorn.core.evaluate.geometry.glyphs import FONT

        self.assertTrue(Path(FONT).is_file())
        self.assertTrue((FONT.parent / "LICENSE").is_file() or any(FONT.parent.glob("LICENSE*")))


if __name__ == "__main__":
    unittest.main()

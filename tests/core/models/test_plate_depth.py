"""The depth of the plate: what is nearer in the footage hides particles behind it, pixel by pixel, from an empty shot."""

import unittest
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from isbjorn.core import render_frame
from isbjorn.core.arrays import Floats
from isbjorn.core.document import Shot
from isbjorn.core.frame import Solver, compositor_of
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.render.composite.passes import measured
from tests.core.media.test_media import InFolder

_W, _H = 300, 200
EYE = _W / 36 * 35


def write(path: Path, values: Floats, names: tuple[str, ...]) -> None:
    spec = oiio.ImageSpec(values.shape[1], values.shape[0], len(names), "float" if path.suffix == ".exr" else "uint16")
    spec.channelnames = names
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec)
    assert out.write_image(np.ascontiguousarray(values, np.float32))
    out.close()


class Depth(InFolder):
    def distances(self, name: str, values: Floats) -> None:
        """An EXR with colours and the distances as its channel Z."""
        colours = np.full((*values.shape, 3), 0.2, np.float32)
        write(self.folder / name, np.concatenate([colours, values[..., None]], axis=2), ("R", "G", "B", "Z"))

    def shot(self, depth: float = 0, matte: dict[str, Any] | None = None, **emitter: Any) -> Shot:
        e = {
            "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 40, "shape": {"kind": "point"},
            "depth": depth, "body": {"kind": "hard disc"}, "hidden_by": ["m"],
        }  # fmt: skip
        read = {"id": "m", "kind": "depth", "media": "z.exr", "values": "distance", "unit": 1, "fade": 0, "feather": 0}
        given = {
            "emitters": [e | emitter], "mattes": [read | (matte or {})], "width": _W, "height": _H,
            "camera": {"kind": "perspective"},
        }  # fmt: skip
        return Shot.model_validate(given)

    def cover(self, shot: Shot, frame: int = 0) -> Floats:
        return render_frame(shot, frame, plates=PlateReader(self.folder))[..., 3]

    def test_a_wall_hides_what_is_behind_it_and_nothing_before(self) -> None:
        self.distances("z.exr", np.full((_H, _W), EYE + 50, np.float32))
        free = self.cover(self.shot(0, hidden_by=[]))
        np.testing.assert_allclose(self.cover(self.shot(0)), free, atol=1e-6)
        self.assertGreater(float(self.cover(self.shot(-49)).sum()), 900)
        self.assertLess(float(self.cover(self.shot(-51)).max()), 1e-6)
        # A margin brings it back.
        self.assertGreater(float(self.cover(self.shot(-51, {"margin": 5})).sum()), 900)

    def test_a_post_cuts_a_body_behind_it_at_its_pixels(self) -> None:
        walls = np.full((_H, _W), EYE + 900, np.float32)
        walls[:, : _W // 2] = EYE + 10
        self.distances("z.exr", walls)
        free, there = self.cover(self.shot(-100, hidden_by=[])), self.cover(self.shot(-100))
        self.assertLess(float(there[:, : _W // 2].max()), 1e-6)
        np.testing.assert_allclose(there[:, _W // 2 :], free[:, _W // 2 :], atol=1e-5)

    def test_it_fades_over_a_depth(self) -> None:
        walls = np.full((_H, _W), EYE, np.float32)
        self.distances("z.exr", walls)
        full = float(self.cover(self.shot(10, {"fade": 100})).sum())
        seen = [float(self.cover(self.shot(-z, {"fade": 100})).sum()) / full for z in (20, 95)]
        self.assertGreater(seen[0], 0.4)
        self.assertLess(seen[1], 0.5)
        self.assertLess(float(self.cover(self.shot(-101, {"fade": 100})).max()), 1e-6)

    def test_grey_says_how_near(self) -> None:
        grey = np.full((_H, _W), 0.5, np.float32)
        grey[:, _W // 2 :] = 0
        write(self.folder / "z.png", np.repeat(grey[..., None], 3, axis=2), ("R", "G", "B"))
        matte = {"media": "z.png", "values": "grey", "white": 100, "black": -300, "fade": 0}
        # Half grey stands at -100, and black nowhere.
        self.assertGreater(float(self.cover(self.shot(-98, matte)).sum()), 600)
        behind = self.cover(self.shot(-103, matte))
        self.assertLess(float(behind[:, : _W // 2].max()), 1e-6)
        self.assertGreater(float(behind[:, _W // 2 :].sum()), 250)

    def test_it_goes_with_the_plate(self) -> None:
        for n, far in enumerate((EYE - 200, EYE - 200, EYE + 500)):
            self.distances(f"z.{n:04d}.exr", np.full((_H, _W), far, np.float32))
        shot = self.shot(0, {"media": "z.####.exr"})
        plate = {"media": "z.####.exr", "offset_s": 4 / 25, "beyond": "hold"}
        shot = Shot.model_validate(shot.model_dump() | {"plate": plate})
        seen = [float(self.particles_only(shot, frame).max()) for frame in (0, 5, 6, 7)]
        self.assertEqual([round(s) for s in seen], [0, 0, 1, 1])

    def particles_only(self, shot: Shot, frame: int) -> Floats:
        motion = Solver(shot, plates=PlateReader(self.folder))
        return compositor_of(motion, frame).laid(None)[..., 3]

    def test_the_passes_are_hidden_as_the_picture_is(self) -> None:
        walls = np.full((_H, _W), EYE + 900, np.float32)
        walls[:, : _W // 2] = EYE + 10
        self.distances("z.exr", walls)
        shot = self.shot(-100, bursts=[{"count": 40}], shape={"kind": "box", "width": 260, "height": 150, "deep": 400})
        motion = Solver(shot, plates=PlateReader(self.folder))
        found, alpha = measured(compositor_of(motion, 0)), compositor_of(motion, 0).laid(None)[..., 3]
        np.testing.assert_allclose(found.cover, alpha, atol=1e-3)
        depth = found.depth[np.isfinite(found.depth) & (found.cover > 0.9)]
        self.assertGreater(len(depth), 1000)
        # What is seen to the left is before the post.
        left = found.depth[:, : _W // 2 - 1][found.cover[:, : _W // 2 - 1] > 0.9]
        self.assertLess(float(left.max()), EYE + 30)

    def test_a_file_without_distances_hides_nothing(self) -> None:
        self.distances("z.exr", np.zeros((_H, _W), np.float32))
        self.assertGreater(float(self.cover(self.shot(-500)).sum()), 100)

    def test_many_particles_are_as_few_each(self) -> None:
        rng = np.random.default_rng(3)
        walls = (EYE + 300 * rng.random((20, 30))).astype(np.float32).repeat(10, axis=0).repeat(10, axis=1)
        self.distances("z.exr", walls)
        cloud = {"kind": "box", "width": 280, "height": 180, "deep": 600}
        shot = self.shot(-150, {"fade": 8}, bursts=[{"count": 600}], size=3, shape=cloud, body={"kind": "hard disc"})
        seen, free = self.cover(shot), self.cover(shot.model_copy(update={"mattes": ()}))
        motion = Solver(shot, plates=PlateReader(self.folder))
        p, view = motion.at(0), compositor_of(motion, 0).context.view
        pixels, _ = view.place(p.position)
        at = pixels.astype(int)
        inside = (at[:, 0] > 2) & (at[:, 0] < _W - 3) & (at[:, 1] > 2) & (at[:, 1] < _H - 3)
        x, y = at[inside].T
        gap = EYE - p.position[inside, 2] - walls[y, x]
        clear = np.abs(gap) > 40
        wanted = (gap[clear] < 0).astype(float)
        got = seen[y, x][clear] / np.maximum(free[y, x][clear], 1e-6)
        # Another body may be before or behind it; in one of a few.
        self.assertGreater(float((np.abs(got - wanted) < 0.1).mean()), 0.85)


if __name__ == "__main__":
    unittest.main()

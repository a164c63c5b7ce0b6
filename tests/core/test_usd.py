"""Particles as data: read again by the libraries of their formats."""

import csv
import shutil
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Usd, UsdGeom

from isbjorn.core import Solver
from isbjorn.core.deliver import Delivery, Order, deliver, settled
from isbjorn.core.deliver.check import check_files
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media import usd
from isbjorn.core.render.camera import projection
from tests.shots import one_emitter

CAMERA = {
    "kind": "perspective", "pan": 12, "pitch": -5, "roll": 7,
    "across": {"value": 0, "keys": [{"at_s": 0, "value": 0}, {"at_s": 2, "value": 90}]},
}  # fmt: skip


class Usds(unittest.TestCase):
    shot = one_emitter(
        width=320, height=200, rate="30000/1001", name="Pier", camera=CAMERA,
        emitter={"name": "Sparks, low", "spread": 360, "rate": 90, "size": {"value": 9, "spread": 4}, "speed": 200},
    )  # fmt: skip

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def delivered(self, shot: Shot | None = None, **more: Any) -> Usd.Stage:
        made = deliver(
            shot or self.shot, self.folder, "u{version}", format="usd", processes=1, **{"first": 30, "last": 79, **more}
        )
        return Usd.Stage.Open(str(made[0]))

    def test_a_frame_is_the_particles_of_that_frame(self) -> None:
        stage = self.delivered()
        self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode()), (30, 79))
        self.assertAlmostEqual(stage.GetTimeCodesPerSecond(), 30000 / 1001, places=9)
        self.assertEqual(UsdGeom.GetStageUpAxis(stage), "Y")
        self.assertAlmostEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.01)
        points = UsdGeom.Points.Get(stage, "/Shot/Sparks__low")
        self.assertEqual(points.GetPrim().GetDisplayName(), "Sparks, low")
        for frame in (30, 51, 79):
            p = Solver(self.shot).at(frame)
            np.testing.assert_array_equal(points.GetPointsAttr().Get(frame), p.position.astype(np.float32))
            np.testing.assert_array_equal(points.GetVelocitiesAttr().Get(frame), p.velocity.astype(np.float32))
            np.testing.assert_array_equal(points.GetWidthsAttr().Get(frame), p.size)
            np.testing.assert_array_equal(points.GetIdsAttr().Get(frame), p.id)
            colour = UsdGeom.PrimvarsAPI(points).GetPrimvar("displayColor")
            np.testing.assert_array_equal(colour.Get(frame), p.colour)
            self.assertEqual(colour.GetInterpolation(), "vertex")
            low, high = np.array(points.GetExtentAttr().Get(frame))
            self.assertTrue((low <= p.position.min(axis=0)).all() and (high >= p.position.max(axis=0)).all())

    def test_its_camera_sees_them_where_the_shot_shows_them(self) -> None:
        stage = self.delivered()
        for frame in (30, 60):
            camera = UsdGeom.Camera.Get(stage, "/Shot/Camera").GetCamera(frame)
            view, lens = camera.frustum.ComputeViewMatrix(), camera.frustum.ComputeProjectionMatrix()
            p = Solver(self.shot).at(frame)
            wanted, grown = projection(self.shot, 1.0, float(self.shot.seconds(frame))).place(p.position)
            for place, there, seen in zip(p.position, wanted, grown, strict=True):
                if seen > 0:
                    x, y, _ = lens.Transform(view.Transform(Gf.Vec3d(*map(float, place))))
                    np.testing.assert_allclose([160 * (1 + x), 100 * (1 - y)], there, atol=0.02)

    def test_retimed_and_saved_in_pieces_it_is_the_same(self) -> None:
        whole = self.delivered(retime={"speed": 50})
        self.addCleanup(setattr, usd, "_HELD_BYTES", usd._HELD_BYTES)
        usd._HELD_BYTES = 1
        pieces = self.delivered(retime={"speed": 50})
        moment = 30 + Fraction(7, 2)
        for stage in (whole, pieces):
            points = UsdGeom.Points.Get(stage, "/Shot/Sparks__low")
            self.assertEqual(len(points.GetPointsAttr().GetTimeSamples()), 100)
            np.testing.assert_array_equal(
                points.GetPointsAttr().Get(37), Solver(self.shot).at(moment).position.astype(np.float32)
            )

    def test_emitters_of_one_name_and_none_alive(self) -> None:
        emitters = [{"id": i, "name": "Camera", "rate": 0} for i in "abc"]
        stage = self.delivered(Shot.model_validate({"emitters": emitters}), last=31)
        names = [p.GetName() for p in stage.GetPrimAtPath("/Shot").GetChildren()]
        self.assertEqual(sorted(names), ["Camera", "Camera_2", "Camera_3", "Camera_4"])
        self.assertEqual(len(UsdGeom.Points.Get(stage, "/Shot/Camera_2").GetPointsAttr().Get(31)), 0)

    def test_a_stopped_one_leaves_nothing_half_and_a_wrong_one_is_found(self) -> None:
        order = Order.model_validate({"format": "usd", "first": 0, "last": 47, "folder": str(self.folder), "name": "x"})
        delivery = Delivery(self.shot, settled(self.shot, order), processes=1)
        (path,) = delivery.run()
        self.assertEqual([p.name for p in self.folder.iterdir()], ["x.usdc"])
        stage = self.delivered()
        shutil.copy(stage.GetRootLayer().realPath, path)
        with self.assertRaisesRegex(IsbjornError, "all frames"):
            check_files(delivery._maker(), [path])


class Tables(unittest.TestCase):
    def test_each_frame_is_a_table(self) -> None:
        shot = one_emitter()
        with tempfile.TemporaryDirectory() as folder:
            for form in ("csv", "npz"):
                made = deliver(shot, folder, form, format=form, first=25, last=27, existing="refuse", processes=1)
                self.assertEqual([p.name for p in made], [f"{form}.{n:04d}.{form}" for n in (25, 26, 27)])
                wanted = Solver(shot).at(26)
                if form == "npz":
                    np.testing.assert_array_equal(np.load(made[1])["position"], wanted.position)
                else:
                    rows = list(csv.DictReader(made[1].read_text().splitlines()))
                    np.testing.assert_allclose([float(r["position_y_px"]) for r in rows], wanted.position[:, 1])


if __name__ == "__main__":
    unittest.main()

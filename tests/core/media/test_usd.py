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
from isbjorn.core.appearance.particles import births_of
from isbjorn.core.deliver import Delivery, Order, deliver, named_order
from isbjorn.core.deliver.check import check_files
from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.media.exchange import usd
from isbjorn.core.media.exchange.usd_in import read_scene, with_scene
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.draw.emitters import EmitterRasteriser
from isbjorn.core.render.models.bodies import stretched, turned_bodies
from isbjorn.core.render.scene.camera import projection
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

    def test_models_are_instances_of_their_meshes_as_they_are_drawn(self) -> None:
        for more in (
            {"facing": "motion", "stretch": 50},
            {"turn_x": {"value": 0, "spread": 180}, "spin_y": 90, "angle": 20},
        ):
            with self.subTest(list(more)):
                self.instanced(more)

    def instanced(self, more: dict[str, Any]) -> None:
        """The instances of an emitter of cubes, stones and stars stand as they are drawn."""
        shot = one_emitter(
            emitter={
                "name": "Cubes", "spread": 360, "in_depth": True, "rate": 30, "size": {"value": 40, "spread": 10}, "speed": 200,
                "body": {"kind": "model", "form": "box", "height": 50}, "colour_by": "random",
                "mixed": [{"kind": "model", "form": "gem"}, {"kind": "star"}], **more,
            }
        )  # fmt: skip
        stage = self.delivered(shot)
        made = UsdGeom.PointInstancer.Get(stage, "/Shot/Cubes_Models")
        points = UsdGeom.Points.Get(stage, "/Shot/Cubes")
        self.assertEqual(points.GetPurposeAttr().Get(), "guide")
        solver = Solver(shot)
        p = solver.at(50)
        np.testing.assert_array_equal(made.GetIdsAttr().Get(50), p.id)
        meshes = [UsdGeom.Mesh.Get(stage, path) for path in made.GetPrototypesRel().GetTargets()]
        self.assertEqual([len(mesh.GetFaceVertexCountsAttr().Get()) for mesh in meshes[:1] + meshes[2:]], [6, 2])
        kinds = np.array(made.GetProtoIndicesAttr().Get(50))
        self.assertEqual(set(kinds.tolist()), {0, 1, 2})
        # Where a corner of each is: as `draw_bodies` places it.
        context = RenderContext(shot, solver, shot.seconds(50), 1.0, solver.plates)
        pen = EmitterRasteriser(context, shot.emitters[0], 0, "normal")
        births = births_of(p.id)
        wanted = turned_bodies(pen, p)
        longer = stretched(wanted, p.velocity, pen.stretch(p, births)) * (p.size.astype(float) / 2)[:, None, None]
        found = made.ComputeInstanceTransformsAtTime(50, 50, UsdGeom.PointInstancer.ExcludeProtoXform)
        corner = np.array([0.7, -0.3, 0.5])
        for k in range(len(p)):
            there = found[k].Transform(Gf.Vec3d(*corner))
            np.testing.assert_allclose(there, p.position[k] + longer[k] @ corner, atol=0.15)
        colours = UsdGeom.PrimvarsAPI(made).GetPrimvar("displayColor").Get(50)
        np.testing.assert_allclose(colours, p.colour.astype(np.float32))
        # Particles that are no models have none.
        self.assertFalse(self.delivered().GetPrimAtPath("/Shot/Sparks__low_Models"))

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
        delivery = Delivery(self.shot, named_order(self.shot, order), processes=1)
        (path,) = delivery.run()
        self.assertEqual([p.name for p in self.folder.iterdir()], ["x.usdc"])
        stage = self.delivered()
        shutil.copy(stage.GetRootLayer().realPath, path)
        with self.assertRaisesRegex(IsbjornError, "all frames"):
            check_files(delivery._maker(), [path])


class Scenes(unittest.TestCase):
    """What others solved comes back as keys."""

    def read(self, stage: Usd.Stage, shot: Shot | None = None) -> tuple[Shot, list[str]]:
        text = stage.GetRootLayer().ExportToString().encode()
        return with_scene(
            shot or one_emitter(width=320, height=200, rate="30000/1001"), read_scene(text, 100.0), "s.usda"
        )

    def test_a_camera_sees_what_it_saw(self) -> None:
        keys = lambda *values: {"value": values[0], "keys": [{"at_s": k, "value": v} for k, v in enumerate(values)]}  # noqa: E731
        camera = {
            "kind": "perspective", "pan": keys(0, 200, 380), "pitch": keys(5, -20, 10), "roll": keys(0, 30, -10), "up": 15,
            "across": keys(0, 90, -20), "forward": keys(0, 40, 100), "focal_mm": keys(28, 50, 35), "filmback_mm": 24,
        }  # fmt: skip
        shot = one_emitter(width=320, height=200, rate="30000/1001", last_frame=59, first_frame=0, camera=camera)
        with tempfile.TemporaryDirectory() as folder:
            made = deliver(shot, folder, "c", format="usd", existing="refuse", processes=1)
            other, taken = with_scene(
                one_emitter(width=320, height=200, rate="30000/1001"), read_scene(made[0].read_bytes(), 100.0), "c"
            )
        self.assertEqual(taken, ["camera Camera"])
        rng = np.random.default_rng(2)
        points = rng.uniform(-120, 120, (40, 3))
        for frame in range(0, 60, 7):
            t = float(shot.seconds(frame))
            (wanted, grown), (found, _) = (projection(one, 1.0, t).place(points) for one in (shot, other))
            near = (grown > 0) & (grown < 4)
            np.testing.assert_allclose(found[near], wanted[near], atol=0.6)
        self.assertLess(len(other.camera.pan.keys), 60)

    def test_units_and_the_way_up_are_those_of_the_file(self) -> None:
        stage = Usd.Stage.CreateInMemory()
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        stage.SetTimeCodesPerSecond(25)
        group = UsdGeom.Xform.Define(stage, "/World")
        group.AddTranslateOp().Set(Gf.Vec3d(0, 0, 200))
        UsdGeom.Xform.Define(stage, "/World/Lamp").AddTranslateOp().Set(Gf.Vec3d(100, 0, 50))
        moving = UsdGeom.Xform.Define(stage, "/World/Boat").AddTranslateOp()
        for code in range(0, 51):
            moving.Set(Gf.Vec3d(10 * code, -300, 0), code)
        shot, taken = self.read(stage, one_emitter(rate="25", first_frame=10, last_frame=60))
        self.assertEqual(sorted(taken), ["marker Boat", "marker Lamp"])
        lamp, boat = sorted(shot.markers, key=lambda m: m.name, reverse=True)
        # A centimetre is a px here; Z up of the file is Y up of the shot, and its -Y comes toward the viewer.
        self.assertEqual((lamp.across.value, lamp.up.value, lamp.depth.value, lamp.across.keys), (100, 250, 0, ()))
        self.assertEqual(boat.depth.value, 300)
        self.assertEqual([key.at_s for key in boat.across.keys], [-0.4, 1.6])
        self.assertEqual([key.value for key in boat.across.keys], [0, 500])

    def test_a_file_opens_nothing_but_itself(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            secret = Usd.Stage.CreateNew(f"{folder}/secret.usda")
            UsdGeom.Camera.Define(secret, "/Secret")
            secret.GetRootLayer().Save()
            stage = Usd.Stage.CreateInMemory()
            stage.GetRootLayer().subLayerPaths.append(f"{folder}/secret.usda")
            prim = stage.DefinePrim("/Mine", "Xform")
            prim.GetReferences().AddReference(f"{folder}/secret.usda", "/Secret")
            with self.assertRaisesRegex(IsbjornError, "no camera and no transforms"):
                self.read(stage)

    def test_what_is_none_is_said(self) -> None:
        for content in (b"", b"no usd", b"#usda 1.0\n(((", b"PXR-USDC" + bytes(200)):
            with self.assertRaisesRegex(IsbjornError, "an OpenUSD file"):
                read_scene(content, 100.0)
        with self.assertRaisesRegex(IsbjornError, "no camera and no transforms"):
            self.read(Usd.Stage.CreateInMemory())


class SceneTables(unittest.TestCase):
    """Cameras and places as CSV."""

    def test_a_camera_and_a_place(self) -> None:
        rows = ["name,frame,x,y,z,pan,pitch,roll,focal"]
        rows += [f"lens,{n},{10 * n},5,{1244.4444},{n},0,-{n},35" for n in range(11)]
        rows += [f"buoy,{n},{n * n},-{n},7,,,," for n in range(11)]
        shot, taken = with_scene(parse_shot({}), read_scene("\n".join(rows).encode(), 100.0, "25"), "solve.csv")
        self.assertEqual(taken, ["camera lens", "marker buoy"])
        readings = Readings(shot)
        for n in (0, 3, 10):
            t = n / 25
            self.assertAlmostEqual(readings.now(shot.camera.across, t), 10 * n, delta=0.06)
            self.assertAlmostEqual(readings.now(shot.camera.pan, t), n, delta=0.006)
            self.assertAlmostEqual(readings.now(shot.camera.roll, t), -n, delta=0.006)
            self.assertAlmostEqual(readings.now(shot.markers[0].across, t), n * n, delta=0.06)
        self.assertAlmostEqual(shot.camera.forward.value, 0, delta=0.06)

    def test_tables_that_are_none(self) -> None:
        for text, why in (
            ("a,b\n1,2", "the columns frame"), ("frame,x,y\n1,2", "nor a table"), ("frame,x,y\n1,2,z", "a value of y"),
            ("frame,x,y\n1,2,nan", "a value of y"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaisesRegex(IsbjornError, why):
                read_scene(text.encode(), 100.0)


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

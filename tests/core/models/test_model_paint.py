"""Colours that models bring: in pictures and at corners, on bodies and at births; and what their pixels measure."""

import dataclasses
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from PIL import Image

from isbjorn.core import Solver, render_frame
from isbjorn.core.arrays import Bytes, Doubles, Floats
from isbjorn.core.document import Shot
from isbjorn.core.document.parts.models import ModelBody
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.meshes import Mesh
from isbjorn.core.evaluate.geometry.paint import Paint
from isbjorn.core.evaluate.geometry.solids import mesh_of_solid, solid
from isbjorn.core.frame import compositor_of
from isbjorn.core.media.read.models import ImportedModel, take_model
from isbjorn.core.render.composite.passes import measured, normals
from isbjorn.core.render.models.faces import ALPHA, TINT, instance_of, joined
from isbjorn.core.render.models.surroundings import built_in
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.render.scene.lights import LAMP
from tests.core.models.test_models import drawn, material, turned

RNG = np.random.default_rng(7)
PICTURE: Bytes = RNG.integers(0, 256, (16, 32, 3)).astype(np.uint8)
CORNERS = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float64)


def as_light(encoded: Doubles) -> Doubles:
    """IEC 61966-2-1, of values in [0, 1]."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


def sheet(times: float = 1.0, picture: Bytes = PICTURE) -> Mesh:
    """A card of 2 by 1 with a picture on it, so many times to each side."""
    places = np.append(CORNERS * times, np.zeros((4, 1)), axis=1)[None].astype(np.float32)
    card = solid("card", 0, 1, 0.5)
    corners = card.points[card.faces[0]]
    # The corner of the card at the lower left is that of the picture.
    order = [int(np.argmin(np.linalg.norm(corners[:, :2] - (p * 2 - 1) * [1, 0.5], axis=1))) for p in CORNERS]
    values = np.zeros((len(card.faces), 4, 3), np.float32)
    values[0, order] = places[0]
    return dataclasses.replace(card, paint=Paint(values, np.zeros(len(card.faces), np.int32), (picture,)))


def between(picture: Bytes, x: Doubles, y: Doubles) -> Doubles:
    """The light of a picture at places in its pixels, (…, 3), linear between their middles, repeated."""
    light = as_light(picture / 255)
    height, width = picture.shape[:2]
    total = np.zeros((*x.shape, 3))
    for row in range(height):
        for column in range(width):
            away = [np.abs((at - 0.5 - k + n / 2) % n - n / 2) for at, k, n in ((x, column, width), (y, row, height))]
            total += (np.clip(1 - away[0], 0, 1) * np.clip(1 - away[1], 0, 1))[..., None] * light[row, column]
    return total


class OnBodies(unittest.TestCase):
    def test_a_picture_is_read_between_its_pixels(self) -> None:
        y, x = np.mgrid[0:64, 0:128] + 0.5
        shown = drawn(sheet(), [(0, 0, 0)], 64)[68:132, 36:164]
        np.testing.assert_allclose(shown[..., :3], between(PICTURE, x / 4, y / 4), atol=1e-5)

    def test_it_repeats(self) -> None:
        y, x = np.mgrid[0:64, 0:128] + 0.5
        tile = np.ascontiguousarray(PICTURE[:8, :8])
        shown = drawn(sheet(3, tile), [(0, 0, 0)], 64)[68:132, 36:164]
        expected = between(tile, x * 3 * 8 / 128, y * 3 * 8 / 64)
        np.testing.assert_allclose(shown[..., :3], expected, atol=2e-5)

    def test_from_afar_it_is_as_bright_as_on_the_whole(self) -> None:
        noise = RNG.integers(0, 256, (128, 256, 3)).astype(np.uint8)
        small = drawn(sheet(1, noise), [(0, 0, 0)], 8)
        mean = small[..., :3].sum(axis=(0, 1)) / small[..., 3].sum()
        np.testing.assert_allclose(mean, as_light(noise / 255).mean(axis=(0, 1)), atol=0.01)
        # What is smaller than a pixel shows its mean, not one of its points.
        self.assertLess(float(small[98:102, 94:106, :3].std()), 0.06)

    def test_it_lies_on_a_turned_card_as_a_ray_finds_it(self) -> None:
        # Colours (u, v, 0) at the corners are places on the card, linear in space and not on the picture.
        card = solid("card", 0, 1, 1)
        corners = 0.5 + 0.5 * card.points[card.faces]
        card = dataclasses.replace(
            card, paint=Paint(corners.astype(np.float32), np.full(len(card.faces), -1, np.int32))
        )
        view = Projection(200, 200, 1.0, 1.0, 300.0, np.array([0.0, 0.0, 300.0]), np.eye(3))
        turn, half = turned((20, 50, 10)), 90.0
        geometry = joined([card])
        row = instance_of(view, geometry, np.zeros(3), turn, half)
        row[0, TINT : TINT + 3], row[0, ALPHA] = 1, 1
        out = np.zeros((200, 200, 4), np.float32)
        zero = np.zeros(1, np.int64)
        draw_models(view.packed, row, zero, geometry, zero, material(), np.zeros(0, LAMP), built_in("none"), out)
        y, x = np.mgrid[0:200, 0:200] + 0.5
        ray = np.stack([x - 100, 100 - y, np.full_like(x, -300)], axis=-1)
        normal = turn[:, 2]
        reach = -(np.array([0, 0, 300]) @ normal) / (ray @ normal)
        place = ((np.array([0, 0, 300]) + reach[..., None] * ray) @ turn) / half
        inside = (np.abs(place[..., :2]) < 0.97).all(axis=-1)
        self.assertGreater(int(inside.sum()), 5000)
        np.testing.assert_allclose(out[inside][:, :2], 0.5 + 0.5 * place[inside][:, :2], atol=2e-4)

    def test_it_is_lit_and_tinted(self) -> None:
        plain = dataclasses.replace(sheet(), paint=None)
        light = built_in("day")
        lit, white, shown = (
            drawn(mesh, [(0, 0, 0)], 64, colours=[(0.5, 0.5, 1)], of=material(kind), around=light)
            for mesh, kind in ((sheet(), "matte"), (plain, "matte"), (sheet(), "glowing"))
        )
        np.testing.assert_allclose(lit[100, 70:130, :3] * [0.5, 0.5, 1], (white * shown)[100, 70:130, :3], atol=1e-5)

    def test_pictures_of_several_models_stay_apart(self) -> None:
        red, green = (np.full((4, 4, 3), c, np.uint8) for c in ([255, 0, 0], [0, 255, 0]))
        geometry = joined([sheet(1, red), dataclasses.replace(sheet(), paint=None), sheet(1, green)])
        self.assertEqual(len(geometry.levels), 24)
        first, second = (geometry.texels[geometry.levels[k, 0]].tolist() for k in (0, 12))
        self.assertEqual((first, second), ([255, 0, 0], [0, 255, 0]))
        self.assertEqual(sorted(set(geometry.pages.tolist())), [-1, 0, 1])


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def take(self, name: str, content: bytes | str) -> tuple[ImportedModel, Mesh]:
        (self.folder / name).write_bytes(content.encode() if isinstance(content, str) else content)
        found = take_model(str(self.folder / name), str(self.folder / "model.npz"))
        return found, mesh_of_solid(ModelBody(form="file", media=str(self.folder / "model.npz"), digest=found.digest))

    def coloured(self, **base: Any) -> Any:
        """A box whose sides are welded again, of one material of glTF."""
        box = trimesh.creation.box((2, 1, 1))
        box.visual = trimesh.visual.TextureVisuals(
            uv=np.abs(box.vertices[:, :2]), material=trimesh.visual.material.PBRMaterial(**base)
        )
        return box

    def test_a_picture_in_a_binary_gltf_and_its_factor(self) -> None:
        box = self.coloured(baseColorTexture=Image.fromarray(PICTURE), baseColorFactor=[0.5, 1.0, 0.25, 1.0])
        found, mesh = self.take("box.glb", box.export(file_type="glb"))
        self.assertEqual((found.points, found.closed), (8, True))
        assert mesh.paint is not None
        self.assertEqual(set(mesh.paint.pages.tolist()), {0})
        light = as_light(PICTURE / 255) * [128 / 255, 1, 64 / 255]
        np.testing.assert_allclose(as_light(mesh.paint.pictures[0] / 255), light, atol=0.005)
        np.testing.assert_allclose(
            mesh.paint.values[:, :3, 0], np.abs(mesh.points[mesh.faces[:, :3], 0] * 1), atol=1e-6
        )

    def test_colours_of_materials(self) -> None:
        scene = trimesh.Scene()
        for n, colour in enumerate(([1.0, 0, 0, 1.0], [0, 0.5, 0, 1.0])):
            box = self.coloured(baseColorFactor=colour)
            scene.add_geometry(box, transform=trimesh.transformations.translation_matrix([3 * n, 0, 0]))
        _, mesh = self.take("two.glb", scene.export(file_type="glb"))
        assert mesh.paint is not None
        right = mesh.points[mesh.faces[:, 0], 0] > 0
        np.testing.assert_allclose(mesh.paint.values[right], np.broadcast_to([0, 0.5, 0], (12, 4, 3)), atol=0.003)
        np.testing.assert_allclose(mesh.paint.values[~right], np.broadcast_to([1, 0, 0], (12, 4, 3)))

    def test_colours_of_faces(self) -> None:
        box = trimesh.creation.box((1, 1, 1))
        box.visual.face_colors = [[255, 0, 0, 255]] * 6 + [[0, 128, 0, 255]] * 6
        _, mesh = self.take("box.ply", box.export(file_type="ply"))
        assert mesh.paint is not None
        np.testing.assert_allclose(mesh.paint.values[0], np.broadcast_to([1, 0, 0], (4, 3)), atol=1e-6)
        green = float(as_light(np.array(128 / 255)))
        np.testing.assert_allclose(mesh.paint.values[11], np.broadcast_to([0, green, 0], (4, 3)), atol=1e-6)

    def usd(self, colour: str, interpolation: str) -> Mesh:
        text = f"""#usda 1.0
(upAxis = "Y")
def Mesh "m" {{
  int[] faceVertexCounts = [4, 3]
  int[] faceVertexIndices = [0, 1, 2, 3, 1, 4, 2]
  point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0)]
  color3f[] primvars:displayColor = [{colour}] ( interpolation = "{interpolation}" )
}}
"""
        return self.take("m.usda", text)[1]

    def test_colours_of_openusd(self) -> None:
        red, green, blue = "(1, 0, 0)", "(0, 1, 0)", "(0, 0, 1)"
        cases = {
            "constant": (red, [[[1, 0, 0]] * 3] * 3),
            "uniform": (f"{red}, {green}", [[[1, 0, 0]] * 3] * 2 + [[[0, 1, 0]] * 3]),
            "vertex": (
                f"{red}, {green}, {blue}, {red}, {red}",
                [
                    [[1, 0, 0], [0, 1, 0], [0, 0, 1]],
                    [[1, 0, 0], [0, 0, 1], [1, 0, 0]],
                    [[0, 1, 0], [1, 0, 0], [0, 0, 1]],
                ],
            ),
            "faceVarying": (
                ", ".join([red] * 4 + [green, blue, red]),
                [[[1, 0, 0]] * 3, [[1, 0, 0]] * 3, [[0, 1, 0], [0, 0, 1], [1, 0, 0]]],
            ),
        }
        for interpolation, (colour, expected) in cases.items():
            paint = self.usd(colour, interpolation).paint
            assert paint is not None
            np.testing.assert_allclose(paint.values[:, :3], expected, err_msg=interpolation)
        self.assertIsNone(self.usd("(1, 1, 1)", "constant").paint)

    def test_a_picture_in_a_package_of_openusd(self) -> None:
        from pxr import Sdf, Usd, UsdGeom, UsdShade, UsdUtils

        Image.fromarray(PICTURE).save(self.folder / "wood.png")
        stage = Usd.Stage.CreateNew(str(self.folder / "m.usdc"))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        mesh = UsdGeom.Mesh.Define(stage, "/m")
        mesh.CreatePointsAttr([(0, 0, 0), (2, 0, 0), (2, 1, 0), (0, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
        places = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex")
        places.Set([(0, 0), (1, 0), (1, 1), (0, 1)])
        material_ = UsdShade.Material.Define(stage, "/look")
        surface, texture = (UsdShade.Shader.Define(stage, f"/look/{name}") for name in ("surface", "texture"))
        surface.CreateIdAttr("UsdPreviewSurface")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set("wood.png")
        out = texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
        surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(out)
        material_.CreateSurfaceOutput().ConnectToSource(surface.CreateOutput("surface", Sdf.ValueTypeNames.Token))
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material_)
        stage.GetRootLayer().Save()
        self.assertTrue(UsdUtils.CreateNewUsdzPackage(str(self.folder / "m.usdc"), str(self.folder / "made.usdz")))
        # Beside its file, a picture is outside, and not read.
        _, alone = self.take("n.usdc", (self.folder / "m.usdc").read_bytes())
        self.assertIsNone(alone.paint)
        _, packed = self.take("packed.usdz", (self.folder / "made.usdz").read_bytes())
        assert packed.paint is not None
        np.testing.assert_array_equal(packed.paint.pictures[0], PICTURE)
        shown = drawn(packed, [(0, 0, 0)], 64)[68:132, 36:164]
        np.testing.assert_allclose(shown, drawn(sheet(), [(0, 0, 0)], 64)[68:132, 36:164], atol=1e-5)

    def test_large_pictures_are_made_smaller_and_too_large_ones_refused(self) -> None:
        wide = self.coloured(baseColorTexture=Image.new("RGB", (5000, 20), (188, 188, 188)))
        _, mesh = self.take("wide.glb", wide.export(file_type="glb"))
        assert mesh.paint is not None
        self.assertEqual(mesh.paint.pictures[0].shape, (8, 2048, 3))
        self.assertEqual(set(mesh.paint.pictures[0].flat), {188})
        tall = self.coloured(baseColorTexture=Image.new("RGB", (40, 9000), (188, 60, 20)))
        _, mesh = self.take("tall.glb", tall.export(file_type="glb"))
        assert mesh.paint is not None
        self.assertEqual(mesh.paint.pictures[0].shape[0], 2048)
        self.assertEqual(mesh.paint.pictures[0][1000, 2].tolist(), [188, 60, 20])
        huge = self.coloured(baseColorTexture=Image.new("1", (9_000, 9_000)))
        with self.assertRaisesRegex(IsbjornError, "picture of the model is too large"):
            self.take("huge.glb", huge.export(file_type="glb"))

    def test_colours_that_older_files_have_at_their_points(self) -> None:
        path = self.folder / "old.npz"
        points, colours = np.eye(3, dtype=np.float32), np.eye(3, dtype=np.float32)
        np.savez(
            path,
            points=points,
            faces=np.array([[0, 1, 2, -1]], np.int32),
            colours=colours,
            facts=np.array([3, 1, 1, 0]),
        )
        from isbjorn.core.evaluate.external_files import digest_of

        paint = mesh_of_solid(ModelBody(form="file", media=str(path), digest=digest_of(path))).paint
        assert paint is not None
        np.testing.assert_array_equal(paint.values[0, :3], np.eye(3))

    def test_damaged_colours_are_reported(self) -> None:
        from isbjorn.core.evaluate.external_files import digest_of

        one = np.array([[0, 1, 2, -1]], np.int32)
        for n, (values, pages) in enumerate(
            ((np.zeros((2, 4, 3)), [-1]), (np.full((1, 4, 3), np.nan), [-1]), (np.zeros((1, 4, 3)), [0]))
        ):
            path = self.folder / f"bad{n}.npz"
            np.savez(
                path,
                points=np.eye(3, dtype=np.float32),
                faces=one,
                paint=values,
                pages=np.array(pages),
                facts=np.array([3, 1, 1, 0]),
            )
            with self.assertRaisesRegex(IsbjornError, "not a model"):
                mesh_of_solid(ModelBody(form="file", media=str(path), digest=digest_of(path)))


class AtBirth(unittest.TestCase):
    def test_births_have_the_colour_of_their_place(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            # Colours (x, y, z) at the corners of a box: linear over its faces and edges, so that a colour is a place.
            box = trimesh.creation.box((1, 1, 1))
            box.visual.vertex_colors = np.append(
                np.rint((box.vertices + 0.5) * 255), np.full((8, 1), 255), axis=1
            ).astype(np.uint8)
            path = Path(folder) / "box.glb"
            path.write_bytes(box.export(file_type="glb"))
            found = take_model(str(path), str(Path(folder) / "model.npz"))
            for births in ("faces", "edges", "corners", "inside"):
                shape = {"kind": "model", "form": "file", "media": str(Path(folder) / "model.npz"), "digest": found.digest,
                         "births": births, "size": 100, "angle": 30, "turn_x": 20}  # fmt: skip
                e = {
                    "id": "e",
                    "rate": 0,
                    "bursts": [{"count": 400}],
                    "lifespan": 0,
                    "speed": 0,
                    "shape": shape,
                    "colour_by": "source",
                }
                p = Solver(Shot.model_validate({"emitters": [e]})).at(2)
                place = p.position @ turned((20, 0, 30)).astype(np.float32) / 100 + 0.5
                if births == "inside":
                    # That of the nearest corner.
                    place = np.rint(place)
                np.testing.assert_allclose(p.colour, place, atol=1e-4, err_msg=births)

    def test_a_picture_at_births(self) -> None:
        mesh = sheet()
        assert mesh.paint is not None
        u = RNG.random((50, 2))
        corners = np.array([0, 1, 2])
        a, b, c = (mesh.paint.values[0, corners[k], :2].astype(np.float64) for k in range(3))
        shares = np.stack([1 - u[:, 0], u[:, 0] * (1 - u[:, 1]), u[:, 0] * u[:, 1]], axis=1)
        found = mesh.paint.at(np.zeros(50, np.int64), np.tile(corners, (50, 1)), shares)
        place = shares @ np.stack([a, b, c])
        np.testing.assert_allclose(found, between(PICTURE, place[:, 0] * 32, (1 - place[:, 1]) * 16), atol=1e-6)


class Measures(unittest.TestCase):
    def ball(self, **more: Any) -> Shot:
        e = {
            "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 4, "speed": 0, "size": 120, "shape": {"kind": "point"},
            "body": {"kind": "model", "form": "ball", "detail": 5, "material": "matte"},
        }  # fmt: skip
        return Shot.model_validate(
            {"emitters": [e | more], "width": 200, "height": 200, "camera": {"kind": "perspective"}}
        )

    def hit(self) -> tuple[Doubles, Doubles]:
        """Where rays of the camera meet a ball of 60 px at the origin: how far away along the view, and the normals."""
        away = 200 * 35 / 36
        y, x = np.mgrid[0:200, 0:200] + 0.5
        ray = np.stack([(x - 100) / away, (100 - y) / away, np.full_like(x, -1)], axis=-1)
        eye = np.array([0, 0, away])
        a, b = (ray**2).sum(axis=-1), ray @ eye
        root = b * b - a * (away**2 - 60**2)
        reach = np.where(root > 0, (-b - np.sqrt(np.maximum(root, 0))) / a, np.nan)
        return reach, (eye + reach[..., None] * ray) / 60

    def test_depth_is_that_of_each_pixel(self) -> None:
        found = measured(compositor_of(Solver(self.ball()), 1)).depth
        reach, normal = self.hit()
        inside = normal[..., 2] > 0.5
        self.assertGreater(int(inside.sum()), 9000)
        np.testing.assert_allclose(found[inside], reach[inside], atol=0.6)

    def test_normals_are_those_of_each_pixel(self) -> None:
        found = normals(compositor_of(Solver(self.ball()), 1))
        _, normal = self.hit()
        inside = normal[..., 2] > 0.5
        # Two degrees and a half: the ball has 20,480 faces.
        cosine = np.einsum("ni,ni->n", found[inside], normal[inside])
        self.assertGreater(float(cosine.min()), math.cos(math.radians(2.5)))
        np.testing.assert_allclose(np.linalg.norm(found[inside], axis=1), 1, atol=1e-5)
        np.testing.assert_array_equal(found[0, 0], [0, 0, 0])
        flat = normals(compositor_of(Solver(self.ball(body={"kind": "hard disc"})), 1))
        np.testing.assert_allclose(flat[100, 100], [0, 0, 1])

    def test_depth_of_a_flat_picture(self) -> None:
        shot = self.ball(depth=-40).model_copy(update={"camera": Shot().camera})
        found = measured(compositor_of(Solver(shot), 1)).depth
        self.assertAlmostEqual(float(found[100, 100]), 40 - 60, delta=0.2)

    def test_colours_of_a_file_do_not_change_what_is_measured(self) -> None:
        self.assertEqual(len(joined([sheet()]).bare.paint), 0)

    def test_roughness_over_life(self) -> None:
        def shown(roughness: object, frame: int) -> Floats:
            body = {
                "kind": "model",
                "form": "ball",
                "detail": 4,
                "material": "metal",
                "surroundings": "studio",
                "roughness": roughness,
            }
            return render_frame(self.ball(body=body, bursts=[{"count": 1}]), frame)

        curve = {"points": [{"at": at, "value": at, "joint": "straight"} for at in (0, 1)]}
        changing = {"value": 80, "over_life": curve}
        for frame in (10, 50):
            age01 = frame / 25 / 4
            np.testing.assert_allclose(shown(changing, frame), shown(80 * age01, frame), atol=2e-3)
        self.assertGreater(float(np.abs(shown(changing, 10) - shown(80, 10)).max()), 0.05)


if __name__ == "__main__":
    unittest.main()

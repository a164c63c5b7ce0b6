"""Models as bodies: forms, coverage, depth, materials and light, against closed forms."""

import dataclasses
import itertools
import math
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from isbjorn.core import render_frame
from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.document import Shot
from isbjorn.core.evaluate.geometry.meshes import Mesh, face_normals, welded
from isbjorn.core.evaluate.geometry.paint import Paint
from isbjorn.core.evaluate.geometry.solids import solid
from isbjorn.core.records import Records, make_record
from isbjorn.core.render.models.faces import (
    ALPHA,
    FIRST,
    INSTANCE_COLUMNS,
    LAST,
    POINT,
    POINTS,
    RADIUS,
    TINT,
    joined,
    seen_faces,
)
from isbjorn.core.render.models.shading import KINDS, MATERIAL
from isbjorn.core.render.models.surroundings import Surroundings, built_in, even
from isbjorn.core.render.models.tiles import draw_models
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.render.scene.lights import LAMP
from tests.threads import MANY, threads

SIDE = 200
FORMS = {
    "box": (1, 0.7, 0.4, 0), "ball": (3,), "capsule": (1.2,), "cone": (1, 0.2), "torus": (0.3,), "drop": (0.3,), "gem": (8, 0.7),
    "card": (1, 0.5),
}  # fmt: skip


def turned(degrees: tuple[float, float, float]) -> Doubles:
    x, y, z = np.radians(degrees)
    about_x = np.array([[1, 0, 0], [0, np.cos(x), -np.sin(x)], [0, np.sin(x), np.cos(x)]])
    about_y = np.array([[np.cos(y), 0, np.sin(y)], [0, 1, 0], [-np.sin(y), 0, np.cos(y)]])
    about_z = np.array([[np.cos(z), -np.sin(z), 0], [np.sin(z), np.cos(z), 0], [0, 0, 1]])
    return np.asarray(about_z @ about_x @ about_y)


def flat(side: int = SIDE) -> Projection:
    return Projection(side, side, 1.0, 1.0, None, np.zeros(3), np.eye(3))


def material(kind: str = "glowing", rough: float = 0.5, index: float = 1.5, behind: float = 100.0) -> Records:
    return make_record(
        MATERIAL, kind=KINDS[kind], rough=rough, strength=1, index=index, rim=np.ones(3), fall=3, behind=behind, sky=0
    )


def drawn(
    mesh: Mesh, places: list[tuple[float, float, float]], radius: float = 60.0, turns: tuple[float, float, float] = (0, 0, 0),
    colours: list[tuple[float, float, float]] | None = None, opacity: float = 1.0, of: Records | None = None,
    groups: list[int] | None = None, around: Surroundings | None = None, lamps: Records | None = None, side: int = SIDE,
    onto: Floats | None = None, below: Floats | None = None,
) -> Floats:  # fmt: skip
    """Instances of a mesh on a flat picture of a side, whose middle is the origin."""
    geometry, n = joined([mesh]), len(places)
    rows = np.zeros((n, INSTANCE_COLUMNS))
    rows[:, :9] = (turned(turns) * radius).reshape(-1)
    rows[:, 9:12], rows[:, ALPHA], rows[:, RADIUS] = places, opacity, radius
    rows[:, TINT : TINT + 3] = colours or [(1, 1, 1)] * n
    rows[:, [FIRST, LAST, POINT, POINTS]] = geometry.ranges[0]
    out = np.zeros((side, side, 4), np.float32) if onto is None else onto
    draw_models(
        flat(side).packed, rows, np.array(groups or [0] * n), geometry, np.zeros(n, np.int64), of if of is not None else material(),
        np.zeros(0, LAMP) if lamps is None else lamps, around or built_in("none"), out, below,
    )  # fmt: skip
    return out


def lamp(x: float, y: float, z: float) -> Records:
    return make_record(LAMP, place=(x, y, z), radius=1e6, falloff=1, power=1, light=(1, 1, 1))


class Forms(unittest.TestCase):
    def test_they_fit_their_size_and_face_outward(self) -> None:
        for form, measures in FORMS.items():
            mesh = solid(form, 40, *measures)
            self.assertAlmostEqual(float(np.ptp(mesh.points, axis=0).max()), 2, places=5, msg=form)
            if form != "card":
                self.assertTrue(mesh.is_closed, form)
                self.assertGreater(mesh.volume, 0, form)

    def test_volumes_and_areas(self) -> None:
        box = solid("box", 0, 1, 0.7, 0.4, 0)
        self.assertAlmostEqual(box.volume, 2 * 1.4 * 0.8, places=5)
        self.assertAlmostEqual(box.area, 2 * (2 * 1.4 + 2 * 0.8 + 1.4 * 0.8), places=5)
        ball = solid("ball", 40, 5)
        self.assertAlmostEqual(ball.volume / (4 / 3 * math.pi), 1, delta=0.002)
        self.assertAlmostEqual(ball.area / (4 * math.pi), 1, delta=0.002)
        # Of a prism with 32 sides instead of a cylinder, and a pyramid instead of a cone.
        sides = 32 / (2 * math.pi) * math.sin(2 * math.pi / 32)
        self.assertAlmostEqual(solid("cone", 40, 1, 1).volume / (2 * math.pi * sides), 1, places=4)
        self.assertAlmostEqual(solid("cone", 40, 1, 0).volume / (2 / 3 * math.pi * sides), 1, places=4)
        # Pappus: the tube's area times the way of its middle.
        self.assertAlmostEqual(solid("torus", 40, 0.3).volume / (2 * math.pi**2 * 0.3**2 * 0.7), 1, delta=0.05)

    def test_a_bevel_cuts_what_it_says(self) -> None:
        # Half a share b off each edge of a cube of side 2: twelve prisms, and eight corners.
        for bevel in (0.1, 0.4):
            b = bevel
            cut = 12 * (b * b / 2) * (2 - 2 * b) + 8 * (b**3 - b**3 / 6)
            self.assertAlmostEqual(solid("box", 0, 1, 1, 1, bevel).volume, 8 - cut, places=4)

    def test_normals_are_smooth_below_an_angle(self) -> None:
        ball = solid("ball", 60, 3)
        corners = ball.points[ball.faces[:, :3]]
        self.assertLess(float(np.abs(ball.normals[:, :3] - corners).max()), 0.02)
        box = solid("box", 40, 1, 1, 1, 0)
        expected = np.repeat(face_normals(box.points, box.faces)[:, None], 4, axis=1)
        self.assertLess(float(np.abs(box.normals - expected).max()), 1e-6)

    def test_edges_know_how_sharp_they_are(self) -> None:
        edges, cosine = solid("box", 0, 1, 1, 1, 0).edges
        self.assertEqual(len(edges), 12)
        np.testing.assert_allclose(cosine, 0, atol=1e-6)
        single = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
        self.assertEqual(
            Mesh(single, np.array([[0, 1, 2, -1]], np.int32), np.zeros((1, 4, 3), np.float32)).edges[1].tolist(),
            [-2] * 3,
        )

    def test_edges_of_any_faces_are_those_found_one_by_one(self) -> None:
        rng = np.random.default_rng(1)
        for points, faces in ((30, 200), (300, 90), (4, 60)):
            drawn = np.array([rng.permutation(points)[:4] for _ in range(faces)], np.int32)
            drawn[::2, 3] = -1
            # Many of them meet in one point.
            drawn[:20, 0] = np.where((drawn[:20] == 0).any(axis=1), drawn[:20, 0], 0)
            mesh = Mesh(rng.random((points, 3)).astype(np.float32), drawn, np.zeros((faces, 4, 3), np.float32))
            found: dict[tuple[int, int], list[int]] = {}
            for number, row in enumerate(drawn.tolist()):
                corners = [corner for corner in row if corner >= 0]
                for ends in itertools.pairwise([*corners, corners[0]]):
                    found.setdefault((min(ends), max(ends)), []).append(number)
            edges, cosine = mesh.edges
            self.assertEqual([tuple(ends) for ends in edges.tolist()], sorted(found))
            normals = mesh.face_normals
            for ends, angle, mean in zip(sorted(found), cosine, mesh.edge_normals(np.arange(len(edges))), strict=True):
                at = found[ends]
                self.assertAlmostEqual(float(angle), normals[at[0]] @ normals[at[1]] if len(at) > 1 else -2, places=6)
                total = normals[at].sum(axis=0)
                np.testing.assert_allclose(mean * np.linalg.norm(total), total, atol=1e-6)

    def test_points_in_one_place_are_joined(self) -> None:
        points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
        joined_points, faces, left = welded(points, np.array([[0, 1, 2, -1], [3, 4, 5, -1], [0, 0, 1, -1]], np.int32))
        self.assertEqual((len(joined_points), faces.tolist()), (4, [[0, 1, 2, -1], [1, 3, 2, -1]]))
        self.assertEqual(left.tolist(), [True, True, False])


class Coverage(unittest.TestCase):
    def test_a_turned_square_covers_its_area(self) -> None:
        card = solid("card", 0, 1, 1)
        for turn, (x, y) in itertools.product((0.0, 7.0, 31.0, 45.0), ((0, 0), (0.3, 0.6))):
            cover = drawn(card, [(x, y, 0)], 50, (0, 0, turn))[..., 3]
            self.assertAlmostEqual(float(cover.sum()) / 100**2, 1, delta=0.002, msg=turn)
            self.assertLessEqual(float(cover.max()), 1 + 1e-6)

    def test_faces_that_share_an_edge_leave_no_gap_and_no_seam(self) -> None:
        for form, measures in FORMS.items():
            cover = drawn(solid(form, 40, *measures), [(0.2, 0.4, 0)], 70, (20, 35, 10))[..., 3]
            inside = np.zeros(cover.shape, bool)
            full = cover > 0.999
            inside[1:-1, 1:-1] = full[1:-1, :-2] & full[1:-1, 2:] & full[:-2, 1:-1] & full[2:, 1:-1]
            self.assertTrue((cover[inside] > 1 - 1e-6).all(), form)

    def test_light_of_a_speck_does_not_depend_on_the_sub_pixel_position(self) -> None:
        shown = []
        for shift in np.linspace(0, 1, 9):
            e = {
                "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 0.6,
                "shape": {"kind": "point"}, "across": float(shift), "body": {"kind": "model", "material": "glowing"},
            }  # fmt: skip
            shown.append(
                float(render_frame(Shot.model_validate({"emitters": [e], "width": 64, "height": 64}), 1).sum())
            )
        self.assertLess(np.ptp(shown) / np.mean(shown), 0.2)
        self.assertGreater(min(shown), 0)

    def test_the_number_of_threads_never_shows(self) -> None:
        places = [(float(x), float(y), float(z)) for x, y, z in np.random.default_rng(4).uniform(-90, 90, (60, 3))]
        pictures = []
        for count in (1, MANY):
            with threads(count):
                pictures.append(
                    drawn(
                        solid("gem", 0, 8, 0.7),
                        places,
                        30,
                        (20, 30, 40),
                        of=material("plastic"),
                        around=built_in("day"),
                    )
                )
        np.testing.assert_array_equal(*pictures)


class Order(unittest.TestCase):
    RED, BLUE = (1.0, 0.0, 0.0), (0.0, 0.0, 1.0)

    def test_the_nearer_one_hides_the_other_in_any_order(self) -> None:
        ball = solid("ball", 40, 3)
        for places, colours in (
            ([(0, 0, 0), (10, 0, 50)], [self.RED, self.BLUE]), ([(10, 0, 50), (0, 0, 0)], [self.BLUE, self.RED]),
        ):  # fmt: skip
            picture = drawn(ball, places, 40, colours=colours)
            np.testing.assert_allclose(picture[SIDE // 2, SIDE // 2], [0, 0, 1, 1], atol=1e-6)

    def test_bodies_that_pass_through_each_other_meet_where_their_surfaces_do(self) -> None:
        # Two balls side by side at one depth: the plane between them is in the middle.
        picture = drawn(solid("ball", 40, 5), [(-20, 0, 0), (20, 0, 0)], 40, colours=[self.RED, self.BLUE])
        row = picture[SIDE // 2]
        self.assertGreater(row[SIDE // 2 - 2, 0], 0.99)
        self.assertGreater(row[SIDE // 2 + 1, 2], 0.99)

    def test_groups_are_drawn_one_over_the_other(self) -> None:
        ball = solid("ball", 40, 3)
        picture = drawn(ball, [(0, 0, 50), (0, 0, 0)], 40, colours=[self.RED, self.BLUE], groups=[1, 2])
        np.testing.assert_allclose(picture[SIDE // 2, SIDE // 2], [0, 0, 1, 1], atol=1e-6)

    def test_what_lets_light_through_is_mixed_and_hidden_by_solid_ones(self) -> None:
        ball = solid("ball", 40, 3)
        behind = drawn(ball, [(0, 0, 50), (0, 0, 0)], 40, colours=[self.RED, self.BLUE], groups=[0, 1], opacity=1.0)
        np.testing.assert_allclose(behind[SIDE // 2, SIDE // 2], [1, 0, 0, 1], atol=1e-6)
        mixed = drawn(ball, [(0, 0, 0), (0, 0, 50)], 40, colours=[self.RED, self.BLUE], groups=[1, 2], opacity=0.5)
        np.testing.assert_allclose(mixed[SIDE // 2, SIDE // 2], [0.25, 0, 0.5, 0.75], atol=1e-6)

    def test_only_faces_toward_the_viewer_are_drawn(self) -> None:
        geometry = joined([solid("box", 0, 1, 1, 1, 0)])
        rows = np.zeros((1, INSTANCE_COLUMNS))
        rows[0, :9], rows[0, LAST], rows[0, POINTS] = (turned((30, 30, 0)) * 50).reshape(-1), 6, 8
        self.assertEqual(len(seen_faces(flat().packed, rows, geometry)[0]), 3)


class Light(unittest.TestCase):
    """A ball, whose normal is known at each pixel."""

    RADIUS = 80.0

    def setUp(self) -> None:
        self.ball = solid("ball", 60, 5)
        at = np.arange(SIDE) + 0.5 - SIDE / 2
        self.x, self.y = np.meshgrid(at / self.RADIUS, -at / self.RADIUS)
        rest = 1 - self.x**2 - self.y**2
        self.inside = rest > 0.15
        self.z = np.sqrt(np.maximum(rest, 0))

    def test_a_matte_ball_falls_off_by_the_cosine(self) -> None:
        far = 1e5
        for direction in ((0.0, 0.0, 1.0), (0.6, 0.0, 0.8), (-0.48, 0.6, 0.64)):
            lamps = lamp(*(far * d for d in direction))
            lamps["radius"] = 2 * far
            shown = drawn(self.ball, [(0, 0, 0)], self.RADIUS, of=material("matte"), lamps=lamps)[..., 0]
            expected = np.maximum(0, self.x * direction[0] + self.y * direction[1] + self.z * direction[2])
            self.assertLess(float(np.abs(shown - expected)[self.inside].max()), 0.01)

    def test_in_even_light_a_white_ball_is_as_bright_as_what_surrounds_it(self) -> None:
        for kind, rough in itertools.product(("metal", "plastic", "matte"), (0.1, 0.3, 0.6, 1.0)):
            shown = drawn(self.ball, [(0, 0, 0)], self.RADIUS, of=material(kind, rough), around=even())[..., 0]
            self.assertLess(float(np.abs(shown - 1)[self.inside].max()), 0.01, (kind, rough))

    def test_a_gloss_follows_the_distribution_of_its_facets(self) -> None:
        # Light and view straight on: D F / 4 with D = a² / (π ((n·h)² (a² - 1) + 1)²), and light of strength π.
        lamps = lamp(0, 0, 1e5)
        lamps["radius"] = 1e6
        rough = 0.5
        gloss = drawn(self.ball, [(0, 0, 0)], self.RADIUS, of=material("metal", rough), lamps=lamps)[..., 0]
        a2 = rough**4
        spread = a2 / (self.z**2 * (a2 - 1) + 1) ** 2
        masks = 2 * self.z * np.sqrt(self.z**2 * (1 - a2) + a2)
        expected = spread * 0.5 / np.maximum(masks, 1e-9) * self.z
        self.assertLess(float(np.abs(gloss / np.maximum(expected, 1e-9) - 1)[self.inside].max()), 0.03)

    def test_a_mirror_shows_the_direction_that_it_reflects(self) -> None:
        sky = built_in("day")
        shown = drawn(self.ball, [(0, 0, 0)], self.RADIUS, of=material("metal", 0.0), around=sky)
        up, down = shown[SIDE // 2 - 50, SIDE // 2], shown[SIDE // 2 + 50, SIDE // 2]
        self.assertGreater(up[2], 1.3 * up[0], "the sky is blue")
        self.assertLess(abs(down[2] / down[0] - 1), 0.4, "the ground is grey")

    def test_the_rim_glows_where_the_surface_turns_away(self) -> None:
        shown = drawn(self.ball, [(0, 0, 0)], self.RADIUS, of=material("rim"))[..., 0]
        expected = (1 - self.z) ** 3
        self.assertLess(float(np.abs(shown - expected)[self.inside].max()), 0.02)

    def test_glass_bends_the_picture_as_a_ball_does(self) -> None:
        index, behind = 1.5, 40.0
        below = np.zeros((SIDE, SIDE, 4), np.float32)
        below[..., 0] = (np.arange(SIDE) + 0.5)[None, :]
        below[..., 3] = 1
        shown = drawn(
            self.ball, [(0, 0, 0)], self.RADIUS, of=material("glass", 0.0, index, behind), onto=below.copy(), below=below
        )  # fmt: skip
        for x in (-40, -16, 8, 24, 44):
            column, row = SIDE // 2 + x, SIDE // 2
            offset = (column + 0.5 - SIDE / 2) / self.RADIUS
            # Through a ball, step by step in the plane of the ray: in, across, and out.
            into = math.asin(offset)
            inner = math.asin(offset / index)
            heading = -(into - inner)
            chord = 2 * math.cos(inner)
            out_x = offset + chord * math.sin(heading)
            heading *= 2
            landed = SIDE / 2 + self.RADIUS * out_x + behind * math.tan(heading)
            cosine, bent = math.cos(into), math.cos(inner)
            s, p = (cosine - index * bent) / (cosine + index * bent), (index * cosine - bent) / (index * cosine + bent)
            through = 1 - 0.5 * (s * s + p * p)
            self.assertAlmostEqual(float(shown[row, column, 0]) / through, landed, delta=1.0, msg=x)


class Around(unittest.TestCase):
    """What surrounds a polished ball, from each of its sources."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def ball(self, plate: str = "", **body: object) -> Floats:
        look = {"kind": "model", "form": "ball", "detail": 4, "material": "metal", "roughness": 0} | body
        e = {
            "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 160, "shape": {"kind": "point"},
            "body": look,
        }  # fmt: skip
        over = {"plate": {"media": plate, "name": "Plate"}} if plate else {}
        return render_frame(Shot.model_validate({"emitters": [e], "width": 200, "height": 200} | over), 0)

    def picture(self, name: str, pixels: Floats) -> str:
        path = self.folder / name
        cv2.imwrite(str(path), np.round(pixels[..., ::-1] * 255).astype(np.uint8))
        return str(path)

    def test_a_picture_of_all_directions(self) -> None:
        sky = np.zeros((64, 128, 3), np.float32)
        sky[:32, :, 0], sky[32:, :, 2] = 1, 1
        shown = self.ball(surroundings="picture", sky=self.picture("sky.png", sky))
        np.testing.assert_allclose(shown[60, 100, :3], [1, 0, 0], atol=0.02)
        np.testing.assert_allclose(shown[140, 100, :3], [0, 0, 1], atol=0.02)

    def test_the_plate(self) -> None:
        plate = np.zeros((90, 160, 3), np.float32)
        plate[:, :80, 1] = 1
        shown = self.ball(self.picture("plate.png", plate), surroundings="plate")
        self.assertGreater(float(shown[100, 60, 1]), 0.9)
        self.assertLess(float(shown[100, 140, 1]), 0.1)
        # Without a plate there is nothing to mirror.
        self.assertLess(float(self.ball(surroundings="plate")[100, 60, :3].max()), 1e-6)

    def test_each_body_has_its_own(self) -> None:
        mixed = {
            "id": "e", "rate": 0, "bursts": [{"count": 60}], "lifespan": 0, "speed": 0, "size": 12,
            "shape": {"kind": "rectangle", "width": 180, "height": 180},
            "body": {"kind": "model", "form": "ball", "surroundings": "day"},
            "mixed": [{"kind": "model", "form": "ball", "surroundings": "none"}],
        }  # fmt: skip
        shown = render_frame(Shot.model_validate({"emitters": [mixed], "width": 200, "height": 200}), 0)
        covered = shown[shown[..., 3] > 0.99]
        dark = (covered[:, :3].max(axis=1) < 1e-6).mean()
        self.assertTrue(0.25 < dark < 0.75, dark)


class InShots(unittest.TestCase):
    def shot(self, **more: object) -> Shot:
        e = {
            "id": "e", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "size": 60, "shape": {"kind": "point"},
            "body": {"kind": "model", "material": "glowing"},
        }  # fmt: skip
        camera = more.pop("camera", {})
        return Shot.model_validate({"emitters": [e | more], "width": 200, "height": 200, "camera": camera})

    def test_colours_of_a_file_are_tinted_by_the_particle(self) -> None:
        orange = Paint(np.tile(np.float32([1, 0.5, 0]), (6, 4, 1)), np.full(6, -1, np.int32))
        red = dataclasses.replace(solid("box", 0, 1, 1, 1, 0), paint=orange)
        shown = drawn(red, [(0, 0, 0)], 40, colours=[(0.5, 1.0, 1.0)])
        np.testing.assert_allclose(shown[SIDE // 2, SIDE // 2], [0.5, 0.5, 0, 1], atol=1e-6)

    def test_its_largest_measure_is_the_size(self) -> None:
        cover = render_frame(self.shot(), 0)[..., 3]
        self.assertAlmostEqual(float(cover.sum()), 60**2, delta=20)

    def test_it_turns_about_three_axes_by_angle_and_spin(self) -> None:
        # A cube turned by 45° about the upright axis is wider by the root of 2.
        for given in ({"turn_y": 45}, {"turn_x": 45}, {"angle": 45, "turn_y": 0}, {"spin_y": 45}):
            cover = render_frame(self.shot(**given), 25 if "spin_y" in given else 0)[..., 3]
            across, down = cover.max(axis=0).sum(), cover.max(axis=1).sum()
            self.assertAlmostEqual(float(max(across, down)), 60 * math.sqrt(2), delta=1.5, msg=given)

    def test_it_faces_its_way_in_depth(self) -> None:
        # A long capsule that flies straight away from the viewer is seen end on.
        body = {"kind": "model", "material": "glowing", "form": "capsule", "length": 300}
        flying = {"body": body, "facing": "motion", "speed": 10, "in_depth": True, "spread": 0, "direction": 0}
        along = render_frame(self.shot(**flying), 1)[..., 3]
        self.assertGreater(float(along.max(axis=0).sum()), 3 * float(along.max(axis=1).sum()))
        away = render_frame(self.shot(**flying, tilt=90), 1)[..., 3]
        self.assertAlmostEqual(float(away.max(axis=0).sum()), float(away.max(axis=1).sum()), delta=1.5)

    def test_motion_blur_is_the_mean_of_what_is_seen_meanwhile(self) -> None:
        moving = {"speed": 600, "spread": 0, "direction": 0, "across": -96}
        blurred = render_frame(self.shot(**moving, camera={"shutter": 360, "shutter_phase": -180}), 4)[..., 3]
        self.assertAlmostEqual(float(blurred.sum()), 60**2, delta=40)
        # 24 px in a frame: the edge rises evenly over them.
        edge = blurred[100][blurred[100] > 0.02]
        self.assertAlmostEqual(float((edge < 0.98).sum()), 48, delta=6)
        self.assertLess(float(np.abs(np.diff(edge)).max()), 0.12)

    def test_out_of_focus_it_is_soft_and_keeps_its_light(self) -> None:
        camera = {"kind": "perspective", "aperture": 30, "focus": 120}
        sharp = render_frame(self.shot(camera={"kind": "perspective"}), 0)[..., 3]
        soft = render_frame(self.shot(camera=camera), 0)[..., 3]
        self.assertAlmostEqual(float(soft.sum() / sharp.sum()), 1, delta=0.02)
        self.assertGreater(((soft > 0.02) & (soft < 0.98)).sum(), 3 * ((sharp > 0.02) & (sharp < 0.98)).sum())

    def test_models_and_flat_bodies_are_mixed_by_weight(self) -> None:
        many = {
            "bursts": [{"count": 400}], "size": 4, "shape": {"kind": "rectangle", "width": 180, "height": 180},
            "mixed": [{"kind": "hard disc", "weight": 1}],
        }  # fmt: skip
        both = float(render_frame(self.shot(**many), 0)[..., 3].sum())
        boxes = float(render_frame(self.shot(**many | {"mixed": []}), 0)[..., 3].sum())
        discs = float(render_frame(self.shot(**many | {"mixed": [], "body": {"kind": "hard disc"}}), 0)[..., 3].sum())
        self.assertAlmostEqual(both / (0.5 * (boxes + discs)), 1, delta=0.06)


if __name__ == "__main__":
    unittest.main()

"""Trees of meshes: distances and casts against closed forms and against every triangle."""

import unittest

import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.evaluate.geometry import mesh_casts, mesh_trees
from isbjorn.core.evaluate.geometry.mesh_trees import PLACED_WIDTH, TURN, UNIT, tree_of
from isbjorn.core.evaluate.geometry.meshes import Mesh, mesh_of, rotations
from isbjorn.core.evaluate.geometry.solids import solid


def placed(unit: float, turn: Doubles | None = None) -> Doubles:
    rows = np.zeros((1, 1, PLACED_WIDTH))
    rows[0, 0, UNIT] = unit
    rows[0, 0, TURN:] = (np.eye(3) if turn is None else turn).reshape(-1)
    return rows


def distances(mesh: Mesh, rows: Doubles, places: Doubles) -> Doubles:
    return np.array([mesh_trees.distance(tree_of(mesh), rows, 0, 0, 0, *place) for place in places])


def cast(tree: Floats, rows: Doubles, start: Doubles, way: Doubles, length: float, radius: float) -> Doubles:
    return np.array(mesh_casts.cast(tree, rows, 0, 0, 0, *start, *way, length, radius, 0.01))


class Distances(unittest.TestCase):
    def setUp(self) -> None:
        self.places = np.random.default_rng(5).uniform(-160, 160, (3000, 3))

    def test_of_a_box_they_are_exact_inside_and_outside(self) -> None:
        box = solid("box", 0.0, 1.0, 0.6, 0.4, 0.0)
        d = distances(box, placed(100), self.places)
        q = np.abs(self.places) - [100, 60, 40]
        wanted = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)
        np.testing.assert_allclose(d[:, 0], wanted, atol=1e-4)
        # The vector away from it is the distance's slope.
        further = distances(box, placed(100), self.places + 0.01 * d[:, 1:])
        np.testing.assert_allclose(further[:, 0] - d[:, 0], 0.01, atol=2e-4)

    def test_a_turned_model_is_the_same_in_turned_places(self) -> None:
        turn = rotations(np.array([0.7]), np.array([[0.3, -1.1]]), None)[0]
        torus = solid("torus", 30.0, 0.3)
        straight, turned = distances(torus, placed(100), self.places), placed(100, turn)
        there = distances(torus, turned, self.places @ turn.T)
        np.testing.assert_allclose(there[:, 0], straight[:, 0], atol=1e-4)
        np.testing.assert_allclose(there[:, 1:], straight[:, 1:] @ turn.T, atol=1e-5)

    def test_of_a_fine_ball_they_are_those_of_a_sphere(self) -> None:
        ball = solid("ball", 0.0, 5.0)
        d = distances(ball, placed(100), self.places)[:, 0]
        far = np.linalg.norm(self.places, axis=1) - 100
        # A facet lies at most r (1 - cos) within the sphere.
        self.assertGreater(float((d - far).min()), -1e-4)
        self.assertLess(float((d - far).max()), 0.05)

    def test_what_is_at_least_so_far_never_is_nearer(self) -> None:
        for mesh in (solid("gem", 0.0, 8.0, 0.8), solid("card", 0.0, 1.0, 0.7)):
            d = distances(mesh, placed(100), self.places)[:, 0]
            least = np.array([mesh_trees.least_distance(tree_of(mesh), placed(100), 0, 0, 0, *p) for p in self.places])
            self.assertTrue((np.abs(least) <= np.abs(d) + 1e-4).all())
            self.assertTrue((least * d >= 0).all())
            # Most places need no more than that.
            self.assertGreater(float((np.abs(least) > 0.3 * np.abs(d)).mean()), 0.6)

    def test_an_open_mesh_has_no_inside(self) -> None:
        d = distances(solid("card", 0.0, 1.0, 1.0), placed(100), self.places)
        self.assertGreaterEqual(float(d[:, 0].min()), 0)

    def test_a_face_without_area_changes_nothing(self) -> None:
        points = np.array([[-1, -1, 0], [1, -1, 0], [0, 1, 0], [0, 0, 0]], np.float32)
        whole = mesh_of(points, np.array([[0, 1, 2, -1]], np.int32), 0)
        with_line = mesh_of(points, np.array([[0, 1, 2, -1], [0, 1, 1, -1], [3, 3, 3, -1]], np.int32), 0)
        a, b = (distances(mesh, placed(100), self.places[:200]) for mesh in (whole, with_line))
        np.testing.assert_allclose(a, b, atol=1e-4)

    def test_the_tree_finds_what_a_look_at_every_triangle_finds(self) -> None:
        rng = np.random.default_rng(11)
        points = rng.uniform(-1, 1, (60, 3)).astype(np.float32)
        faces = np.concatenate([rng.integers(0, 60, (90, 3)), np.full((90, 1), -1)], axis=1).astype(np.int32)
        mesh = mesh_of(points, faces, 0)
        found = distances(mesh, placed(1), self.places / 100)[:, 0]
        each = []
        for face in mesh.triangles:
            single = Mesh(mesh.points, np.array([[*face, -1]], np.int32), mesh.normals[:1])
            a, b, c = mesh.points[face]
            if np.linalg.norm(np.cross(b - a, c - a)) > 1e-12:
                each.append(distances(single, placed(1), self.places[:200] / 100)[:, 0])
        np.testing.assert_allclose(found[:200], np.min(each, axis=0), atol=1e-5)

    def test_at_the_middle_of_a_fine_hollow_the_work_is_bounded(self) -> None:
        tree = tree_of(solid("ball", 0.0, 6.0)).copy()
        middle = mesh_trees.distance(tree, placed(100), 0, 0, 0, 0.0, 0.0, 0.0)[0]
        self.assertAlmostEqual(middle, -100, delta=0.05)
        # Of 81,920 triangles, all as far away, only thousands are read: others could be anywhere within their boxes.
        tree[-27 * 81_920 :].reshape(-1, 27)[20_000:, :9] *= 0.001
        again = mesh_trees.distance(tree, placed(100), 0, 0, 0, 0.0, 0.0, 0.0)[0]
        self.assertEqual(again, middle)


class Casts(unittest.TestCase):
    def test_a_ball_meets_faces_edges_and_corners_where_geometry_says(self) -> None:
        tree, rows = tree_of(solid("box", 0.0, 1.0, 1.0, 1.0, 0.0)), placed(100)
        x = np.array([1.0, 0, 0])
        face = cast(tree, rows, np.array([-300.0, 10, 5]), x, 1000, 20)
        self.assertAlmostEqual(face[0], 180, delta=0.01)
        np.testing.assert_allclose(face[1:], [-1, 0, 0], atol=1e-9)
        edge = cast(tree, rows, np.array([-300.0, 112, 5]), x, 1000, 20)
        self.assertAlmostEqual(edge[0], 200 - 16, delta=0.02)
        np.testing.assert_allclose(edge[1:], [-0.8, 0.6, 0], atol=2e-3)
        corner = cast(tree, rows, np.array([-300.0, 112, 109]), x, 1000, 20)
        self.assertAlmostEqual(corner[0], 200 - np.sqrt(400 - 144 - 81), delta=0.02)
        self.assertEqual(cast(tree, rows, np.array([-300.0, 121, 5]), x, 1000, 20)[0], 1e300)
        self.assertEqual(cast(tree, rows, np.array([-300.0, 10, 5]), x, 170, 20)[0], 1e300)

    def test_one_that_slides_along_a_flat_mesh_feels_none_of_its_edges(self) -> None:
        n = 9
        at = np.linspace(-1, 1, n)
        points = np.array([[x, y, 0] for x in at for y in at], np.float32)
        corner = [i * n + j for i in range(n - 1) for j in range(n - 1)]
        faces = [(k, k + n, k + n + 1, -1) for k in corner] + [(k, k + n + 1, k + 1, -1) for k in corner]
        tree = tree_of(mesh_of(points, np.array(faces, np.int32), 0))
        for angle in np.linspace(0, np.pi, 41):
            way = np.array([np.cos(angle), np.sin(angle), 0])
            for gap in (0.001, 0.006, 0.0099):
                start = np.array([3.0, 1.7, 20 + gap]) - 60 * way
                self.assertEqual(cast(tree, placed(100), start, way, 120, 20)[0], 1e300, (angle, gap))

    def test_a_ball_of_any_size_stops_at_a_sphere(self) -> None:
        tree = tree_of(solid("ball", 0.0, 5.0))
        rng = np.random.default_rng(2)
        for radius in (0.05, 3, 60):
            for _ in range(60):
                a, b = rng.normal(size=(2, 3))
                start = 300 * a / np.linalg.norm(a)
                way = 60 * b / np.linalg.norm(b) - start
                way /= np.linalg.norm(way)
                across = np.linalg.norm(np.cross(start, way))
                wanted = -start @ way - np.sqrt((100 + radius) ** 2 - across**2)
                self.assertAlmostEqual(cast(tree, placed(100), start, way, 1000, radius)[0], wanted, delta=0.25)


if __name__ == "__main__":
    unittest.main()

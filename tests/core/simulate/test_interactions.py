"""Interacting particles: neighbours, flocks, cohesion, push; and the promises for every motion."""

import math
import unittest
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from isbjorn.core.document import Shot
from isbjorn.core.document.parts.interactions import Cohesion, Flock, Push
from isbjorn.core.frame import Solver
from isbjorn.core.simulate.checkpoints import Checkpoints, StateCache
from isbjorn.core.simulate.forces.force_layout import WIDTH
from isbjorn.core.simulate.interactions import cohere, flock, push
from isbjorn.core.simulate.interactions.grid import grid_of, near
from isbjorn.core.simulate.interactions.interaction_view import EmitterPart, InteractionView
from tests.threads import MANY, threads

_H = 1 / 60
_NOTHING = np.zeros((1, 0, WIDTH))


def read(number: Any) -> float:
    return float(number.value)


def together(place: Any, velocity: Any, radius: Any = 5.0, mass: Any = 1.0, h: float = _H) -> InteractionView:
    """Particles in the open: places and velocities (n, 3) when a step begins, which then go straight on."""
    x, v = (np.ascontiguousarray(np.asarray(a, np.float32).T) for a in (place, velocity))
    n = x.shape[1]
    part = EmitterPart(
        0, n, _NOTHING, np.zeros((0, 3)), (np.zeros((1, 2, 2), np.float32), np.zeros(1, np.float32)), False
    )
    each = [np.broadcast_to(np.asarray(a, np.float32), (n,)).copy() for a in (radius, mass)]
    after = np.ascontiguousarray(x + v * np.float32(h))
    return InteractionView(x, v, after, v.copy(), *each, np.zeros(n, np.float32), np.ones(n, np.float32), (part,), h)


def swaying(place: Any, velocity: Any, **more: Any) -> InteractionView:
    found = together(place, velocity, **more)
    found.place[:] = found.before
    return found


def ones(t: InteractionView, value: float = 1.0) -> Any:
    return np.full(t.place.shape[1], value, np.float32)


def scattered(n: int, across: float, seed: int = 3, deep: bool = True) -> Any:
    place = np.random.default_rng(seed).uniform(-across / 2, across / 2, (n, 3))
    return place if deep else place * [1, 1, 0]


def aligning(**more: Any) -> Flock:
    given = {"separation": 0, "cohesion": 0, "view": 360, "least_speed": 0, "top_speed": 0, "shy": 0, "radius": 100}
    return Flock.model_validate(given | more)


class Neighbours(unittest.TestCase):
    def test_the_grid_holds_each_once_and_leaves_out_no_neighbour(self) -> None:
        for deep in (True, False):
            place = scattered(700, 400, deep=deep)
            # One that flew far makes it no larger.
            place[0] = (3e6, -2e6, 1e5)
            x = np.ascontiguousarray(place.T.astype(np.float32))
            grid = grid_of(x, 30.0)
            self.assertEqual(sorted(grid.order.tolist()), list(range(700)))
            self.assertLessEqual(len(grid.starts), 4097)
            # Neighbours are those that another way finds.
            found = near(x, np.ones(700, np.float32), 30.0)
            pairs = cKDTree(x.T.astype(np.float64)).query_pairs(30.0)
            mine = {
                tuple(sorted((int(found.order[i]), int(found.order[j]))))
                for i in range(700) for j in found.others[i, : found.count[i]]
            }  # fmt: skip
            self.assertEqual(mine, pairs)
            self.assertEqual(set(found.stands_for.tolist()), {1.0})

    def test_where_too_many_are_near_some_stand_for_all(self) -> None:
        for n, across in ((300, 40), (6000, 20)):
            x = np.ascontiguousarray(scattered(n, across).T.astype(np.float32))
            found = near(x, np.ones(n, np.float32), 100.0)
            self.assertLessEqual(int(found.count.max()), 64)
            for_all = found.count * found.stands_for
            np.testing.assert_allclose(for_all.mean(), n - 1, rtol=0.01)
            np.testing.assert_allclose(for_all, n - 1, rtol=0.25)
            # What one has for a neighbour has it for one.
            pairs = {(i, int(j)) for i in range(n) for j in found.others[i, : found.count[i]]}
            self.assertEqual(pairs, {(j, i) for i, j in pairs})
            # They are taken from everywhere: their middle is the middle of all.
            rows = zip(found.others, found.count, strict=True)
            middle = np.mean([x[:, found.order[row[:c]]].mean(axis=1) for row, c in rows], axis=0)
            np.testing.assert_allclose(middle, x.mean(axis=1), atol=0.05 * across)


class Flocks(unittest.TestCase):
    def test_two_take_on_each_other_s_way_as_fast_as_it_says(self) -> None:
        velocity = np.array([[60.0, 0, 0], [-20, 30, 0]])
        for _ in range(60):
            t = swaying([[0, 0, 0], [40, 0, 0]], velocity)
            velocity = velocity + flock.velocity_pass(aligning(alignment=1.5), read, t, ones(t)).T
        np.testing.assert_allclose(velocity[0] - velocity[1], np.array([80, -30, 0]) * math.exp(-1.5), rtol=1e-4)

    def test_alignment_keeps_momentum_and_speeds_come_to_the_mean(self) -> None:
        place, velocity = scattered(300, 340), scattered(300, 200, 5)
        mean, force = velocity.mean(axis=0), aligning(alignment=40)
        first = np.abs(velocity - mean).mean()
        for _ in range(300):
            t = swaying(place, velocity)
            velocity = velocity + flock.velocity_pass(force, read, t, ones(t)).T
            np.testing.assert_allclose(velocity.mean(axis=0), mean, atol=2e-3)
        self.assertLess(np.abs(velocity - mean).mean(), 0.02 * first)

    def test_nothing_blows_up_at_any_setting(self) -> None:
        place, velocity = scattered(200, 20), np.zeros((200, 3))
        wild = aligning(alignment=1e4, separation=1e6, apart=5, cohesion=1e6, top_speed=0)
        for _ in range(120):
            t = swaying(place, velocity)
            velocity = velocity + flock.velocity_pass(wild, read, t, ones(t)).T
            place = place + velocity * _H
        self.assertTrue(np.isfinite(place).all())
        self.assertLess(np.linalg.norm(velocity, axis=1).max(), 5e4)

    def test_particles_behind_are_not_seen(self) -> None:
        for view, changed in ((360, [True, True]), (180, [False, True])):
            t = swaying([[0, 0, 0], [-30, 0, 0]], [[50, 0, 0], [80, 0, 0]])
            by = flock.velocity_pass(aligning(view=view), read, t, ones(t))
            self.assertEqual((np.linalg.norm(by, axis=0) > 0).tolist(), changed)

    def test_speeds_stay_between_two(self) -> None:
        t = swaying([[0, 0, 0], [900, 0, 0], [1800, 0, 0]], [[5, 0, 0], [0, 900, 0], [0, 0, 100]])
        by = flock.velocity_pass(aligning(least_speed=60, top_speed=200), read, t, ones(t))
        np.testing.assert_allclose(np.linalg.norm(t.velocity + by, axis=0), [60, 200, 100], rtol=1e-5)


class Liquids(unittest.TestCase):
    def test_two_come_to_rest_where_they_neither_pull_nor_push(self) -> None:
        place, velocity = np.array([[0.0, 0, 0], [22, 3, 0]]), np.zeros((2, 3))
        force = Cohesion.model_validate({"strength": 300, "radius": 40, "firmness": 0, "viscosity": 6})
        for _ in range(900):
            t = swaying(place, velocity)
            velocity = velocity + cohere.velocity_pass(force, read, t, ones(t, 300)).T
            place = place + velocity * _H
        # 128 (1-q)³q³ = 1.
        p = (1 / 128) ** (1 / 3)
        self.assertAlmostEqual(
            float(np.linalg.norm(place[0] - place[1])) / 40, (1 - math.sqrt(1 - 4 * p)) / 2, delta=2e-3
        )

    def test_momentum_is_kept_by_all_masses(self) -> None:
        rng = np.random.default_rng(1)
        place, velocity, mass = scattered(150, 110), scattered(150, 80, 8), rng.uniform(0.2, 5, 150)
        force = Cohesion.model_validate({"strength": 2000, "radius": 30})
        before = (velocity * mass[:, None]).sum(axis=0)
        for _ in range(60):
            t = swaying(place, velocity, mass=mass)
            velocity = velocity + cohere.velocity_pass(force, read, t, ones(t, 2000)).T
            place = place + velocity * _H
        np.testing.assert_allclose((velocity * mass[:, None]).sum(axis=0), before, atol=0.02 * mass.sum())

    def test_a_square_of_liquid_becomes_round_and_does_not_fall_into_one(self) -> None:
        grid = np.stack(np.meshgrid(np.arange(16) * 7.0, np.arange(8) * 7.0), axis=-1).reshape(-1, 2)
        place = np.concatenate([grid - grid.mean(axis=0), np.zeros((128, 1))], axis=1)
        velocity = np.zeros((128, 3))
        force = Cohesion.model_validate({"strength": 700, "radius": 36})

        def longer() -> float:
            return float(place[:, 0].std() / place[:, 1].std())

        first = longer()
        for _ in range(420):
            t = swaying(place, velocity)
            velocity = velocity + cohere.velocity_pass(force, read, t, ones(t, 700)).T
            place = place + velocity * _H
        self.assertGreater(first, 1.9)
        self.assertLess(longer(), 1.35)
        near, _ = cKDTree(place).query(place, k=2)
        self.assertGreater(float(np.median(near[:, 1])), 3.0)

    def test_nothing_blows_up_at_any_strength(self) -> None:
        place, velocity = scattered(300, 30), np.zeros((300, 3))
        force = Cohesion.model_validate({"strength": 1e6, "radius": 40, "firmness": 1000, "viscosity": 0})
        for _ in range(240):
            t = swaying(place, velocity)
            velocity = velocity + cohere.velocity_pass(force, read, t, ones(t, 1e6)).T
            place = place + velocity * _H
        self.assertTrue(np.isfinite(place).all())
        self.assertLess(np.linalg.norm(velocity, axis=1).max(), 1e4)


class Strengths(unittest.TestCase):
    def test_a_spread_wider_than_the_value_never_turns_a_strength_round(self) -> None:
        for kind in ("flock", "cohesion", "push", "contagion"):
            with self.subTest(kind):
                force = {"kind": kind, "id": "f", "strength": {"value": 50, "spread": 80}}
                links = [{"force": "f", "emitter": name} for name in "abc"]
                found = Solver(Shot.model_validate(school(forces=[force], links=links))).at(30)
                self.assertGreater(len(found), 0)
                self.assertTrue(np.isfinite(found.position).all())

    def test_cohesion_of_more_than_a_grid_looks_at_keeps_momentum(self) -> None:
        shot = Shot.model_validate(
            {
                "emitters": [
                    {
                        "id": "e", "rate": 0, "bursts": [{"count": 300}], "lifespan": 0, "speed": 0,
                        "shape": {"kind": "disc", "radius": 20},
                    }
                ],
                "forces": [{"kind": "cohesion", "id": "k"}],
                "links": [{"force": "k", "emitter": "e"}],
                "last_frame": 300,
            }
        )  # fmt: skip
        solver = Solver(shot)
        first, last = (solver.at(frame).position.mean(axis=0) for frame in (0, 300))
        self.assertGreater(float(np.abs(solver.at(300).velocity).max()), 1, "they move")
        np.testing.assert_allclose(last, first, atol=0.01)


class HeapsInABox(unittest.TestCase):
    def box(self, count: int, **more: Any) -> Shot:
        forces = [
            {"kind": "surface", "id": "s", "shape": "box", "side": "inside", "width": 300, "height": 500, "deep": 40},
            {"kind": "push", "id": "p"},
            {"kind": "gravity", "id": "g", "strength": 9.81},
            *more.pop("forces", []),
        ]
        emitter = {
            "id": "e", "rate": 0, "bursts": [{"count": count}], "lifespan": 0, "speed": 0, "size": {"value": 14, "spread": 4},
            "shape": {"kind": "rectangle", "width": 280, "height": 300},
        }  # fmt: skip
        links = [{"force": f["id"], "emitter": "e"} for f in forces]
        return Shot.model_validate({"emitters": [emitter], "forces": forces, "links": links, "last_frame": 1000})

    def overlap(self, p: Any) -> float:
        """The deepest overlap of two, as a share of the smaller radius."""
        r = p.size / 2
        away = np.linalg.norm(p.position[:, None] - p.position[None], axis=2)
        share = (r[:, None] + r - away) / np.minimum(r[:, None], r)
        np.fill_diagonal(share, 0)
        return float(share.max())

    def test_a_heap_comes_to_rest_and_lies_still(self) -> None:
        solver = Solver(self.box(250))
        before, after = solver.at(375), solver.at(400)
        way = np.linalg.norm(after.position - before.position, axis=1)
        # But for one here and there that trembles.
        self.assertLess(float(np.percentile(way, 99)), 0.05)
        self.assertLess(float(way.max()), 1)
        self.assertLess(self.overlap(after), 0.05)

    def test_a_column_that_falls_is_not_pressed_into_one(self) -> None:
        solver = Solver(self.box(250))
        self.assertLess(max(self.overlap(solver.at(frame)) for frame in range(5, 30, 3)), 0.3)

    def test_stirred_under_gravity_it_neither_runs_away_nor_overlaps(self) -> None:
        solver = Solver(self.box(250, forces=[{"kind": "vortex", "id": "v", "strength": 200, "radius": 150}]))
        for frame in (250, 1000):
            found = solver.at(frame)
            self.assertLess(float(np.linalg.norm(found.velocity, axis=1).max()), 600)
            self.assertLess(self.overlap(found), 0.05)

    def test_stirred_bodies_report_the_velocity_at_which_they_move(self) -> None:
        solver = Solver(self.box(250, forces=[{"kind": "vortex", "id": "v", "strength": 200, "radius": 150}]))
        for frame in (100, 130.5, 200.37):
            found, previous = solver.at(frame), solver.at(frame - 0.05)
            moved = np.linalg.norm(found.position - previous.position, axis=1) / (0.05 / 25)
            reported = np.linalg.norm(found.velocity, axis=1)
            self.assertLess(abs(float(reported.mean() / moved.mean()) - 1), 0.01)
            self.assertLess(float(np.median(np.abs(reported - moved) / np.maximum(moved, 5))), 0.01)

    def test_what_moves_freely_among_bodies_that_push_is_as_fast_as_it_would_be_alone(self) -> None:
        found = Solver(self.box(1)).at(4)
        self.assertAlmostEqual(float(found.velocity[0, 1]), -981 * 4 / 25, delta=0.5)


class Bodies(unittest.TestCase):
    def test_two_that_meet_keep_momentum_and_do_not_overlap(self) -> None:
        for masses in ((1.0, 1.0), (1.0, 4.0)):
            t = together([[-6, 0, 0], [6, 1, 0]], [[400, 0, 0], [-300, 0, 0]], radius=5.0, mass=masses)
            first = (t.velocity * t.mass).sum(axis=1)
            push.position_pass(Push(), read, t, ones(t))
            self.assertGreater(float(np.linalg.norm(t.place[:, 0] - t.place[:, 1])), 10 * 0.995)
            np.testing.assert_allclose((t.velocity * t.mass).sum(axis=1), first, atol=0.5)
            self.assertLess(t.velocity[0, 0] - t.velocity[0, 1], 700)

    def test_what_is_born_in_one_place_is_not_blown_apart(self) -> None:
        t = together(np.zeros((20, 3)), np.zeros((20, 3)), radius=4.0)
        for _ in range(60):
            push.position_pass(Push(), read, t, ones(t))
            t = together(t.place.T, t.velocity.T, radius=4.0)
        self.assertLess(float(np.linalg.norm(t.velocity, axis=0).max()), 150)
        near, _ = cKDTree(t.place.T).query(t.place.T, k=2)
        self.assertGreater(float(near[:, 1].min()), 8 * 0.97)

    def test_friction_stops_what_slides(self) -> None:
        for friction, slower in ((0.0, False), (1.0, True)):
            # One rests on a fixed one and is pressed on it while it moves along it.
            t = together([[0, 9.99, 0], [0, 0, 0]], [[30, -120, 0], [0, 0, 0]], radius=5.0)
            t.fixed[1] = 1
            push.position_pass(Push.model_validate({"friction": friction}), read, t, ones(t))
            self.assertEqual(bool(t.velocity[0, 0] < 24), slower)


def crate(n: int, **more: Any) -> Shot:
    """Bodies of sizes 1:8 in a crate, stirred, heavy."""
    emitter = {"id": "e", "rate": 4 * n, "lifespan": 0, "end_s": 0.25, "shape": {"kind": "rectangle", "width": 260, "height": 180},
               "speed": {"value": 150, "spread": 150}, "toward": "anywhere", "size": {"value": 13.5, "spread": 10.5}}  # fmt: skip
    forces = [
        {"kind": "push", "id": "push"}, {"kind": "turbulence", "id": "stir", "strength": 120, "size": 150},
        {"kind": "surface", "id": "walls", "shape": "box", "side": "inside", "width": 300, "height": 220, "deep": 4000},
        {"kind": "gravity", "id": "down", "strength": 2},
    ]  # fmt: skip
    links = [{"force": f["id"], "emitter": "e"} for f in forces]
    return Shot.model_validate({"emitters": [emitter], "forces": forces, "links": links, "last_frame": 999, **more})


class Crates(unittest.TestCase):
    def test_none_leaves_a_crate_and_they_hardly_overlap(self) -> None:
        solver = Solver(crate(150))
        for frame in range(20, 130, 7):
            p = solver.at(frame)
            x, r = p.position.astype(np.float64), p.size / 2
            self.assertEqual(len(p), 150)
            self.assertLess(float((np.abs(x[:, :2]) + r[:, None] - [150, 110]).max()), 0.02)
        gap = np.linalg.norm(x[:, None] - x[None], axis=2) - (r[:, None] + r[None])
        np.fill_diagonal(gap, 1)
        self.assertGreater(float((gap / np.maximum(r[:, None], r[None])).min()), -0.04)

    def test_nor_one_that_is_fast(self) -> None:
        given = crate(40).model_dump(mode="json")
        given["emitters"][0] |= {"speed": {"value": 20000, "spread": 0}, "size": {"value": 3}}
        solver = Solver(Shot.model_validate(given))
        for frame in (5, 9, 40):
            self.assertLess(float((np.abs(solver.at(frame).position[:, :2]) - [150, 110]).max()), 0.02)

    def test_a_heap_comes_to_rest(self) -> None:
        given = crate(60).model_dump(mode="json")
        given["forces"][1]["strength"]["value"] = 0
        given["forces"][1]["grip"]["value"] = 0
        p = Solver(Shot.model_validate(given)).at(250)
        x, r = p.position.astype(np.float64), p.size / 2
        gap = np.linalg.norm(x[:, None] - x[None], axis=2) - (r[:, None] + r[None])
        np.fill_diagonal(gap, 1)
        self.assertGreater(float((gap / np.maximum(r[:, None], r[None])).min()), -0.02)
        self.assertLess(float(np.median(np.linalg.norm(p.velocity, axis=1))), 12)


def poured(n: int, **more: Any) -> Shot:
    """Bodies of sizes 1:10 poured into a narrow crate, heavy."""
    shape = {"kind": "rectangle", "width": 190, "height": 40}
    emitter = {"id": "e", "rate": n / 3, "lifespan": 0, "end_s": 3, "up": 240, "shape": shape, "toward": "anywhere", "speed": 50,
               "size": {"value": 11, "spread": 9}}  # fmt: skip
    forces = [
        {"kind": "push", "id": "push"}, {"kind": "gravity", "id": "down", "strength": 2},
        {"kind": "surface", "id": "walls", "shape": "box", "side": "inside", "width": 220, "height": 600, "deep": 4000},
    ]  # fmt: skip
    links = [{"force": f["id"], "emitter": "e"} for f in forces]
    return Shot.model_validate({"emitters": [emitter], "forces": forces, "links": links, "last_frame": 999, **more})


class Heaps(unittest.TestCase):
    def test_a_tall_heap_lies_without_overlap_and_is_not_crushed(self) -> None:
        p = Solver(poured(450)).at(190)
        x, r = p.position.astype(np.float64), p.size.astype(np.float64) / 2
        pairs = cKDTree(x[:, :2]).query_pairs(2 * float(r.max()), output_type="ndarray")
        over = r[pairs].sum(axis=1) - np.linalg.norm(x[pairs[:, 0]] - x[pairs[:, 1]], axis=1)
        # Of the smaller of two.
        self.assertLess(float((over / r[pairs].min(axis=1)).max()), 0.02)
        self.assertLess(float(np.median(np.linalg.norm(p.velocity, axis=1))), 3)
        # As high as this many discs need without overlap; loosely packed, they fill four fifths.
        height = float((x[:, 1] + r).max()) + 300
        self.assertGreater(height, np.pi * float((r**2).sum()) / 220 / 0.9)
        self.assertLess(height, np.pi * float((r**2).sum()) / 220 / 0.7)

    def test_on_their_way_the_upper_is_no_lighter(self) -> None:
        for lower, upper in ((260, -240), (300, -10)):
            t = together([[0, 0, 0], [2, 11, 0]], [[300, lower, 0], [300, upper, 0]], radius=5.0)
            first = (t.velocity * t.mass).sum(axis=1)
            # All of it is weighed down besides.
            t.velocity[1] -= 3.3
            push.position_pass(Push(), read, t, ones(t))
            np.testing.assert_allclose((t.velocity * t.mass).sum(axis=1), first - [0, 6.6, 0], atol=0.3)


def school(**more: Any) -> dict[str, Any]:
    emitter = {"rate": 150, "lifespan": 3, "shape": {"kind": "disc", "radius": 120}, "speed": {"value": 90, "spread": 30},
               "toward": "anywhere", "size": 6}  # fmt: skip
    return {
        "emitters": [{"id": "a", **emitter}, {"id": "b", **emitter, "up": 60}, {"id": "c", **emitter}],
        "forces": [{"kind": "flock", "id": "f"}, {"kind": "turbulence", "id": "t"}, {"kind": "push", "id": "p"}],
        "links": [{"force": "f", "emitter": "a"}, {"force": "f", "emitter": "b"}, {"force": "t", "emitter": "a"}, 
                  {"force": "p", "emitter": "b"}],
        **more,
    }  # fmt: skip


class Promises(unittest.TestCase):
    def arrays(self, solver: Solver, frame: Any) -> Any:
        p = solver.at(frame)
        return np.concatenate([p.id[:, None], p.position, p.velocity], axis=1)

    def test_neither_threads_nor_visits_nor_what_is_kept_change_it(self) -> None:
        shot = Shot.model_validate(school())
        with threads(MANY):
            straight = self.arrays(Solver(shot), 60)
        with threads(1):
            np.testing.assert_array_equal(self.arrays(Solver(shot), 60), straight)
        visited = Solver(shot)
        for frame in (75, 3, 59, 12, 60):
            last = self.arrays(visited, frame)
        np.testing.assert_array_equal(last, straight)
        forgetful = Solver(shot, StateCache(1))
        for frame in (20, 61, 60):
            last = self.arrays(forgetful, frame)
        np.testing.assert_array_equal(last, straight)

    def test_the_same_seconds_at_any_frame_rate(self) -> None:
        for rate in ("24", "30", "60"):
            other = Solver(Shot.model_validate(school(rate=rate)))
            at = self.arrays(other, int(rate))
            np.testing.assert_array_equal(at, self.arrays(Solver(Shot.model_validate(school(rate="25"))), 25))

    def test_particles_without_neighbours_stay_independent(self) -> None:
        with_it, without = (Solver(Shot.model_validate(school(**more))) for more in ({}, {"links": []}))
        mine, theirs = with_it.at(40), without.at(40)
        np.testing.assert_array_equal(mine.position[mine.emitter == 2], theirs.position[theirs.emitter == 2])
        self.assertFalse(np.array_equal(mine.position[mine.emitter == 0], theirs.position[theirs.emitter == 0]))
        self.assertIsNone(with_it.tracks[2].interaction_group)
        self.assertIs(with_it.tracks[0].interaction_group, with_it.tracks[1].interaction_group)

    def test_a_meeting_that_is_off_or_beyond_its_zone_does_nothing(self) -> None:
        alone = self.arrays(Solver(Shot.model_validate(school(links=[]))), 40)
        given = school(zones=[{"id": "z", "across": 5000}])
        given["links"] = [x for x in given["links"] if x["force"] == "f"]
        given["forces"][0] |= {"zone": "z", "shy": 0}
        np.testing.assert_allclose(self.arrays(Solver(Shot.model_validate(given)), 40), alone, atol=2e-2)
        given["forces"][0] |= {"zone": None, "on": False}
        np.testing.assert_array_equal(self.arrays(Solver(Shot.model_validate(given)), 40), alone)

    def test_an_edit_of_a_later_key_keeps_what_was_before_it(self) -> None:
        keys = [{"at_s": 0, "value": 100}, {"at_s": 4, "value": 100}, {"at_s": 5, "value": 50}, {"at_s": 6, "value": 0}]
        given = school()
        given["forces"][0]["strength"] = {"value": 100, "keys": keys}
        cache = StateCache()
        solver = Solver(Shot.model_validate(given), cache)
        solver.at(50)
        crowd = solver.tracks[0].interaction_group
        given["forces"][0]["strength"]["keys"] = [*keys[:3], {"at_s": 6, "value": 50}]
        later = Solver(Shot.model_validate(given), cache, before=solver).tracks[0].interaction_group
        # Up to the key before the last the motion is as it was.
        self.assertGreaterEqual(later.known(118)[0], 100)  # type: ignore[union-attr]
        self.assertIsNot(later, crowd)
        given["forces"][0]["strength"]["keys"] = [{"at_s": 0, "value": 90}, *keys[1:]]
        self.assertIsNone(Solver(Shot.model_validate(given), cache).tracks[0].interaction_group.known(118)[1])  # type: ignore[union-attr]

    def test_a_look_runs_nothing_again(self) -> None:
        given, cache = school(), StateCache()
        solver = Solver(Shot.model_validate(given), cache)
        solver.at(50)
        given["emitters"][0]["size"] = 12
        given["emitters"][1]["opacity"] = 40
        looked = Solver(Shot.model_validate(given), cache, before=solver)
        self.assertEqual(looked.tracks[0].interaction_group.known(120)[0], 120)  # type: ignore[union-attr]
        # A pushing body is as large as it looks.
        given["emitters"][1]["size"] = 12
        self.assertIsNone(
            Solver(Shot.model_validate(given), cache, before=looked).tracks[0].interaction_group.known(120)[1]
        )  # type: ignore[union-attr]


class Mixed(unittest.TestCase):
    def test_unpushed_particles_still_touch_the_walls(self) -> None:
        given = crate(30).model_dump(mode="json")
        other = given["emitters"][0] | {"id": "o", "seed": 9, "speed": {"value": 900}, "size": {"value": 6}}
        given["emitters"].append(other)
        given["forces"].append({"kind": "flock", "id": "f", "shy": 0})
        given["links"] += [
            {"force": "walls", "emitter": "o"},
            {"force": "f", "emitter": "o"},
            {"force": "f", "emitter": "e"},
        ]
        solver = Solver(Shot.model_validate(given))
        self.assertIs(solver.tracks[0].interaction_group, solver.tracks[1].interaction_group)
        for frame in (10, 40, 90):
            p = solver.at(frame)
            self.assertEqual(len(p), 60)
            out = np.abs(p.position[:, :2]) + p.size[:, None] / 2 - [150, 110]
            self.assertLess(float(out.max()), 0.05)

    def test_small_ones_beside_a_very_large_one(self) -> None:
        rng = np.random.default_rng(4)
        turn = rng.uniform(0, 2 * np.pi, 1500)
        away = rng.uniform(150, 202, 1500)
        place = np.concatenate([[[0, 0, 0]], np.stack([away * np.cos(turn), away * np.sin(turn), 0 * turn], axis=1)])
        radius = np.r_[200.0, np.full(1500, 1.0)]
        t = together(place, 0 * place, radius=radius, mass=np.r_[1e6, np.ones(1500)])
        for _ in range(30):
            push.position_pass(Push(), read, t, ones(t))
            t = together(t.place.T, 0 * t.velocity.T, radius=radius, mass=t.mass)
        out = np.hypot(*(t.place[:2, 1:] - t.place[:2, :1])) - 201
        self.assertGreater(float(out.min()), -1.0)


class Ladders(unittest.TestCase):
    def test_it_is_thinned_and_never_holds_more_than_it_may(self) -> None:
        class Rung:
            nbytes = 100

        checkpoints: Checkpoints[Any] = Checkpoints(1200)
        for n in range(0, 1001):
            checkpoints.keep("m", "", n, Rung(), asked=n == 777)
            self.assertLessEqual(checkpoints.bytes, 1200)
        found = [checkpoints.nearest("m", lambda _: "", n)[0] for n in range(0, 1001, 50)]
        self.assertTrue(all(0 <= n - at <= 160 for n, at in zip(range(0, 1001, 50), found, strict=True)))
        self.assertEqual(checkpoints.nearest("m", lambda _: "other", 900)[1], None)
        checkpoints.keep("n", "", 0, Rung())
        for n in range(0, 20_000, 20):
            checkpoints.keep("n", "", n, Rung())
        self.assertIsNone(checkpoints.nearest("m", lambda _: "", 900)[1])


if __name__ == "__main__":
    unittest.main()

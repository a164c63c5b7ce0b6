"""What bends the stream that is seen: lengths and distances that stay, the order, and that no motion changes."""

import math
import unittest
from typing import Any, ClassVar

import numpy as np

from isbjorn.core.appearance.deform import Moment, deformed
from isbjorn.core.document import Emitter
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.guides import guides
from isbjorn.core.simulate.checkpoints import StateCache
from tests.shots import one_emitter

_ARC = 0.5522847498 * 200


def seen(place: Any, *deformers: dict[str, Any]) -> Any:
    emitter = Emitter.model_validate({"id": "e", "deformers": deformers})
    return deformed(emitter, Moment(lambda n: n.value), np.asarray(place, np.float64))


def along(n: int, length: float, beside: float = 0.0, deep: float = 0.0) -> Any:
    """Places up the y axis from the centre on, a distance to the left of it and before it."""
    return np.stack([np.full(n, -beside), np.linspace(0, length, n), np.full(n, deep)], axis=1)


def quarter(**more: Any) -> dict[str, Any]:
    """A bend along a quarter of a circle of radius 200, from the centre up and to the right."""
    points = [{"x": 0, "y": 0, "leave": [0, _ARC]}, {"x": 200, "y": 200, "arrive": [-_ARC, 0]}]
    return {"kind": "bend", "points": points, "length": 400, **more}


class Bends(unittest.TestCase):
    def test_lengths_along_the_stream_stay(self) -> None:
        for fitted, length in ((False, 300.0), (True, math.pi * 100 * 300 / 400)):
            line = seen(along(200, 300), quarter(fitted=fitted))
            self.assertAlmostEqual(
                float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum()), length, delta=0.005 * length
            )

    def test_it_is_the_circle_and_what_lies_beside_lies_on_another(self) -> None:
        inside = along(100, 300)
        for beside, deep in ((0, 0), (40, 0), (-40, 25)):
            there = seen(along(100, 300, beside, deep), quarter())
            on = np.linspace(0, 300, 100) < math.pi * 100
            away = np.hypot(there[on, 0] - 200, there[on, 1])
            # To the left of the way is the outside of a turn to the right.
            np.testing.assert_allclose(away, 200 + beside, rtol=0.004)
            np.testing.assert_allclose(there[:, 2], deep, atol=1e-9)
        self.assertEqual(len(inside), 100)

    def test_beyond_its_ends_it_goes_straight_on(self) -> None:
        ends = seen([[0, -50, 0], [0, math.pi * 100 + 50, 0]], quarter())
        np.testing.assert_allclose(ends, [[0, -50, 0], [250, 200, 0]], atol=1.0)

    def test_a_path_along_the_stream_leaves_all_where_it_is(self) -> None:
        place = np.random.default_rng(2).uniform(-200, 300, (300, 3))
        straight = {"kind": "bend", "points": [{"x": 0, "y": 0}, {"x": 0, "y": 400}], "length": 400}
        np.testing.assert_allclose(seen(place, straight), place, atol=1e-9)
        moved = seen(place, straight | {"across": 70, "up": -20})
        np.testing.assert_allclose(moved, place + np.array([70, -20, 0]), atol=1e-9)

    def test_the_path_is_turned_and_sized_about_its_own_place(self) -> None:
        straight = {"kind": "bend", "points": [{"x": 0, "y": 0}, {"x": 0, "y": 400}], "length": 400, "fitted": True}
        found = seen(along(5, 400, 30), straight | {"turn": -90, "scale": 50})
        np.testing.assert_allclose(
            found, np.stack([np.linspace(0, 200, 5), np.full(5, 30), np.zeros(5)], axis=1), atol=1e-9
        )


class Others(unittest.TestCase):
    def test_a_twist_keeps_radii_and_turns_as_far_as_it_says(self) -> None:
        place = np.random.default_rng(3).uniform(-100, 100, (200, 3)) + np.array([0, 100, 0])
        twisted = seen(place, {"kind": "twist", "length": 200, "turns": 90})
        np.testing.assert_allclose(
            np.hypot(twisted[:, 0], twisted[:, 2]), np.hypot(place[:, 0], place[:, 2]), rtol=1e-9
        )
        np.testing.assert_allclose(twisted[:, 1], place[:, 1], atol=1e-9)
        end = seen([[-10, 200, 0], [-10, 100, 0], [-10, -5, 0]], {"kind": "twist", "length": 200, "turns": 90})
        np.testing.assert_allclose(end, [[0, 200, 10], [-10 / 2**0.5, 100, 10 / 2**0.5], [-10, -5, 0]], atol=1e-9)

    def test_a_taper_narrows_evenly_along_a_stretch_in_any_direction(self) -> None:
        flat = {"kind": "taper", "length": 200, "direction": 0, "width": 50, "from_x": 10}
        found = seen([[10, 40, 8], [110, 40, 8], [210, 40, 8], [500, 40, 8]], flat)
        np.testing.assert_allclose(found[:, 1:], [[40, 8], [30, 6], [20, 4], [20, 4]], atol=1e-9)

    def test_the_order_matters_and_what_is_off_does_nothing(self) -> None:
        place, bend, twist = along(50, 300, 40), quarter(), {"kind": "twist", "length": 300}
        one, other = seen(place, bend, twist), seen(place, twist, bend)
        self.assertGreater(float(np.abs(one - other).max()), 20)
        np.testing.assert_array_equal(seen(place, bend | {"on": False}, twist), seen(place, twist))


class Streams(unittest.TestCase):
    def test_motion_is_never_computed_again_and_ways_follow(self) -> None:
        cache = StateCache()
        plain = one_emitter(emitter={"rate": 50, "speed": 120, "spread": 20})
        before = Solver(plain, cache)
        straight = before.at(60)
        bent = one_emitter(emitter={"rate": 50, "speed": 120, "spread": 20, "deformers": [quarter()]})
        after = Solver(bent, cache, before=before)
        self.assertEqual(after.tracks[0].motion, before.tracks[0].motion)
        there = after.at(60)
        emitter = bent.emitters[0]
        wanted = deformed(emitter, Moment(lambda n: n.value), straight.position.astype(np.float64))
        np.testing.assert_allclose(there.position, wanted, atol=1e-2)
        # It is seen to fly along the bent way.
        just = deformed(
            emitter, Moment(lambda n: n.value), (straight.position + straight.velocity * 0.01).astype(np.float64)
        )
        np.testing.assert_allclose(there.velocity, (just - wanted) / 0.01, atol=6)
        np.testing.assert_array_equal(there.id, straight.id)

    def test_its_numbers_are_keyed_over_the_shot(self) -> None:
        keys = [{"at_s": 0, "value": 0}, {"at_s": 2, "value": 90}]
        twist = {"kind": "twist", "length": 100, "turns": {"value": 0, "keys": keys}}
        shot = one_emitter(emitter={"rate": 50, "spread": 30, "deformers": [twist]})
        self.assertLess(float(np.abs(Solver(shot).at(0).position[:, 2]).max(initial=0)), 1e-6)
        self.assertGreater(float(np.abs(Solver(shot).at(40).position[:, 2]).max()), 1)

    def test_flights_are_drawn_where_they_are_seen_with_grips_for_the_path(self) -> None:
        reported = guides(one_emitter(emitter={"speed": 150, "lifespan": 1, "deformers": [quarter()]})).emitters[0]
        last = np.array(reported.flights[0])[-1] - [640, 360]
        wanted = seen([[0, 150, 0]], quarter())[0]
        np.testing.assert_allclose(last * [1, -1], wanted[:2], atol=6)
        fields = [grip.fields for grip in reported.shown.grips]
        self.assertIn(["deformers/0/points/1/x", "deformers/0/points/1/y"], fields)
        self.assertIn(["deformers/0/from_x", "deformers/0/from_y"], fields)
        self.assertIn(["deformers/0/direction", "deformers/0/length"], fields)


class Displaces(unittest.TestCase):
    """By noise, which is the same whenever it is asked for, grows along the stretch, and comes round in a loop."""

    NOISE: ClassVar[dict[str, Any]] = {"kind": "displace", "amount": 30, "size": 90, "length": 400, "direction": 90}

    def moved(self, place: Any, t: float = 0.0, loop_s: float | None = None, **more: Any) -> Any:
        emitter = Emitter.model_validate({"id": "e", "deformers": [self.NOISE | more]})
        return deformed(emitter, Moment(lambda n: n.value, t, loop_s), np.asarray(place, np.float64)) - place

    def test_it_grows_from_nothing_to_its_amount(self) -> None:
        rng = np.random.default_rng(4)
        for at, share in ((-50, 0.0), (0, 0.0), (200, 0.5), (400, 1.0), (900, 1.0)):
            place = np.stack([rng.uniform(-4000, 4000, 6000), np.full(6000, float(at)), np.zeros(6000)], axis=1)
            away = float(np.sqrt((self.moved(place, octaves=1) ** 2).sum(axis=1).mean()))
            self.assertAlmostEqual(away, 30 * share, delta=1.5 * share + 1e-9)
        even = self.moved(place[:, [0, 2, 2]], octaves=1, grows=False)
        self.assertAlmostEqual(float(np.sqrt((even**2).sum(axis=1).mean())), 30, delta=1.5)

    def test_in_the_plane_or_in_depth(self) -> None:
        place = along(50, 400)
        self.assertEqual(float(np.abs(self.moved(place)[:, 2]).max()), 0)
        self.assertGreater(float(np.abs(self.moved(place, flat=False)[:, 2]).max()), 3)

    def test_it_evolves_and_comes_round_with_a_loop(self) -> None:
        place = along(50, 400)
        first = self.moved(place)
        self.assertGreater(float(np.abs(self.moved(place, 1.0) - first).max()), 5)
        np.testing.assert_array_equal(self.moved(place, 1.0, evolve=0), first)
        np.testing.assert_allclose(self.moved(place, 4.0, 4.0), self.moved(place, 0.0, 4.0), atol=1e-9)
        self.assertGreater(float(np.abs(self.moved(place, 2.0, 4.0) - self.moved(place, 0.0, 4.0)).max()), 5)

    def test_it_stands_in_the_order_of_the_list(self) -> None:
        place = along(40, 400, 15)
        turned = {"kind": "twist", "turns": 90, "length": 400, "direction": 90}
        one, other = (seen(place, *order) for order in ((self.NOISE, turned), (turned, self.NOISE)))
        self.assertGreater(float(np.abs(one - other).max()), 1)


if __name__ == "__main__":
    unittest.main()

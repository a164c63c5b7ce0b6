"""Contagion: fronts against their exact arrival times, and that they depend on nothing but the document."""

import unittest
from fractions import Fraction
from typing import Any, ClassVar
from unittest import mock

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.document import Number, Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.simulate.interactions import contagion as engine
from isbjorn.core.simulate.interactions.group import InteractionGroup
from tests.threads import MANY, threads

FIELD = {
    "id": "a", "shape": {"kind": "rectangle", "width": 300, "height": 200}, "rate": 0, "bursts": [{"count": 900}], "lifespan": 0,
    "speed": 0, "size": 4,
}  # fmt: skip


def shot(contagion: dict[str, Any] | None = None, emitter: dict[str, Any] | None = None, **more: Any) -> Shot:
    """Still points in a field of 300 × 200 px, about 8 px apart; one of them has it from the start."""
    force = {"kind": "contagion", "id": "c", "radius": 20, "pace": 100, **(contagion or {})}
    given = {
        "emitters": [FIELD | (emitter or {})],
        "forces": [force],
        "links": [{"force": "c", "emitter": "a"}],
        "last_frame": 400,
    }
    return parse_shot(given | more)


def caught_at(p: Particles, seconds: float) -> np.ndarray:
    """Shot time at which each caught it, in the order of births; infinite: not yet."""
    at = np.where(p.caught >= 0, seconds - p.age.astype(float) + p.caught, np.inf)
    return np.asarray(at[np.argsort(p.id)])


def at(document: Shot, seconds: float) -> Particles:
    return Solver(document).at_seconds(Fraction(seconds).limit_denominator(10**6))


def shortest(p: Particles, radius: float, cost: Any) -> np.ndarray:
    """Arrival times from the first particle on, by Dijkstra's method on all pairs within a radius; cost(distances, receivers)."""
    places = p.position[np.argsort(p.id)].astype(float)
    pairs = cKDTree(places).query_pairs(radius, output_type="ndarray")
    distance = np.linalg.norm(places[pairs[:, 0]] - places[pairs[:, 1]], axis=1)
    n = len(places)
    to = np.concatenate([cost(distance, pairs[:, 1]), cost(distance, pairs[:, 0])])
    graph = csr_matrix((to, (np.r_[pairs[:, 0], pairs[:, 1]], np.r_[pairs[:, 1], pairs[:, 0]])), shape=(n, n))
    return np.asarray(dijkstra(graph, indices=0))


class Fronts(unittest.TestCase):
    def test_among_points_it_arrives_by_the_shortest_way(self) -> None:
        p = at(shot(), 4)
        np.testing.assert_allclose(caught_at(p, 4), shortest(p, 20, lambda d, _: d / 100), atol=2e-4)

    def test_each_waits_besides(self) -> None:
        p = at(shot({"wait": 0.1}), 8)
        np.testing.assert_allclose(caught_at(p, 8), shortest(p, 20, lambda d, _: d / 100 + 0.1), atol=2e-4)

    def test_on_a_row_of_points_times_are_those_of_the_distance(self) -> None:
        """Even along a line of 400 px, so the gaps vary, but no particle is skipped."""
        line = {"shape": {"kind": "line", "length": 400}, "spacing": "even", "bursts": [{"count": 64}]}
        p = at(shot({"radius": 12, "pace": 80}, line), 6)
        x = p.position[np.argsort(p.id), 0]
        np.testing.assert_allclose(caught_at(p, 6), np.abs(x - x[0]) / 80, atol=1e-3)

    def test_many_are_passed_within_one_step(self) -> None:
        p = at(shot({"pace": 50_000}), 0.5)
        np.testing.assert_allclose(caught_at(p, 0.5), shortest(p, 20, lambda d, _: d / 50_000), atol=1e-4)

    def test_its_own_pace_and_wait_of_each(self) -> None:
        p = at(shot({"pace": {"value": 100, "spread": 60}, "wait": {"value": 0.05, "spread": 0.05}}), 6)
        plain = at(shot(), 6)
        times, evenly = caught_at(p, 6), caught_at(plain, 6)
        self.assertGreater(float(np.std(times - evenly)), 0.05)
        self.assertTrue(np.isfinite(times).all())

    def test_it_comes_no_farther_than_its_neighbours(self) -> None:
        p = at(shot({"radius": 20, "pace": 1e5}, {"bursts": [{"count": 40}]}), 1)
        wanted = shortest(p, 20, lambda d, _: d / 1e5)
        np.testing.assert_array_equal(np.isfinite(caught_at(p, 1)), np.isfinite(wanted))

    def test_from_the_nearest_alone(self) -> None:
        p = at(shot({"nearest": 3, "pace": 1e5, "radius": 60}), 0.5)
        places = p.position[np.argsort(p.id)].astype(float)
        near = cKDTree(places).query(places, 4)[1][:, 1:]
        had = np.zeros(len(places), bool)
        had[0] = True
        while True:
            more = had | had[near].any(axis=1)
            if (more == had).all():
                break
            had = more
        np.testing.assert_array_equal(np.isfinite(caught_at(p, 0.5)), had)


class Seeds(unittest.TestCase):
    def test_it_begins_at_its_start(self) -> None:
        p = at(shot({"begin_s": 1.2345}), 4)
        times = caught_at(p, 4)
        self.assertAlmostEqual(float(times.min()), 1.2345, places=5)
        self.assertEqual(int((caught_at(at(shot({"begin_s": 1.2345}), 1.2), 1.2) < np.inf).sum()), 0)

    def test_particles_in_the_zone_have_it(self) -> None:
        zone = {"id": "z", "shape": "sphere", "radius": 30, "across": 100, "falloff": 0}
        p = at(shot({"seeds": "z", "seed_first": 0, "pace": 0.001}, zones=[zone]), 1)
        order = np.argsort(p.id)
        inside = np.linalg.norm(p.position[order, :2] - [100, 0], axis=1) <= 30
        self.assertGreater(int(inside.sum()), 10)
        np.testing.assert_array_equal(np.isfinite(caught_at(p, 1)), inside)

    def test_a_share_of_all(self) -> None:
        p = at(shot({"seed_share": 20, "seed_first": 0, "pace": 0.001}), 1)
        self.assertAlmostEqual(float(np.isfinite(caught_at(p, 1)).mean()), 0.2, delta=0.04)


class Courses(unittest.TestCase):
    def test_it_lasts_and_then_is_not_passed_on(self) -> None:
        p = at(shot({"wait": 0.5, "lasts": 0.2}), 6)
        self.assertEqual(int(np.isfinite(caught_at(p, 6)).sum()), 1)

    def test_particles_that_die_of_it_are_gone(self) -> None:
        wave = {"lasts": 0.3, "then": "dies"}
        every = caught_at(at(shot({"lasts": 0.3}), 2), 2)
        left = at(shot(wave), 2)
        self.assertAlmostEqual(len(left), int((every + 0.3 > 2).sum()), delta=12)

    def test_it_goes_round_where_it_can_be_caught_again(self) -> None:
        again = shot({"lasts": 0.1, "then": "can catch it again", "rest_s": 0.3, "seed_first": 1})
        early, late = caught_at(at(again, 0.3), 0.3), caught_at(at(again, 3), 3)
        # The seed has it again each time that it has rested.
        self.assertAlmostEqual(float(early[0]), 0, places=6)
        self.assertGreater(float(late[0]), 2.5)

    def test_particles_that_come_near_catch_it(self) -> None:
        """One flies past a resting one which has it; it needs as long as the way from it takes."""
        mover = {
            "id": "m", "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "shape": {"kind": "point"}, "across": -100, "up": 10,
            "direction": 0, "spread": 0, "speed": 100, "size": 4,
        }  # fmt: skip
        rest = FIELD | {"shape": {"kind": "point"}, "bursts": [{"count": 1}]}
        force = {"kind": "contagion", "id": "c", "radius": 30, "pace": 200}
        document = parse_shot(
            {"emitters": [rest, mover], "forces": [force | {"seed_first": 0, "seeds": "z"}],
             "zones": [{"id": "z", "shape": "sphere", "radius": 2, "falloff": 0}],
             "links": [{"force": "c", "emitter": "a"}, {"force": "c", "emitter": "m"}]}
        )  # fmt: skip
        p = Solver(document).of(1, Fraction(2))
        # Near from x = -√(30² - 10²) on; then about 30 px at 200 px/s, less as it comes nearer.
        enters = (100 - np.sqrt(800)) / 100
        self.assertGreater(float(p.caught[0]), enters)
        self.assertLess(float(p.caught[0]), enters + 30 / 200 + 2 / 60)


class Nobody(unittest.TestCase):
    def test_it_works_without_living_particles(self) -> None:
        shot = Shot.model_validate(
            {
                "emitters": [{"id": "e", "start_s": 1, "end_s": 2, "lifespan": 0.5}],
                "forces": [{"kind": "contagion", "id": "k"}],
                "links": [{"force": "k", "emitter": "e"}],
            }
        )
        solver = Solver(shot)
        # Before the first birth and after the last death, on lattice steps and between them.
        for frame in (0, 1, 2, 24, 100, 101, 249):
            self.assertEqual(len(solver.at(frame)), 0)
        self.assertGreater(len(solver.at(40)), 0)


class Driven(unittest.TestCase):
    def test_numbers_follow_the_time_since(self) -> None:
        source = {"measure": "since caught", "low": 0, "high": 2, "makes_low": 1, "makes_high": 3}
        p = at(shot({}, {"size": {"value": 4, "source": source}}), 2)
        since = np.where(p.caught >= 0, p.age - p.caught, 0)
        np.testing.assert_allclose(p.size, 4 * (1 + np.clip(since, 0, 2)), rtol=1e-4)

    def test_forces_act_on_infected_particles(self) -> None:
        rise = {
            "kind": "gravity", "id": "g", "direction": 90,
            "strength": {"value": 1, "source": {"measure": "since caught", "low": 0, "high": 1e-6}},
        }  # fmt: skip
        document = shot(
            {"radius": 30}, forces=[{"kind": "contagion", "id": "c", "pace": 50}, rise],
            links=[{"force": "c", "emitter": "a"}, {"force": "g", "emitter": "a"}],
        )  # fmt: skip
        p = at(document, 1)
        moved = p.velocity[:, 1] > 0
        np.testing.assert_array_equal(moved[p.caught < 0.95], (p.caught >= 0)[p.caught < 0.95])

    def test_colours_follow_the_gradient_from_then_on(self) -> None:
        ramp = {"colours": [{"at": 0, "colour": "#000000"}, {"at": 1, "colour": "#ffffff"}], "mix": "linear"}
        p = at(shot({}, {"colour": ramp, "colour_by": "since caught", "colour_to": 1}), 1.5)
        since = np.where(p.caught >= 0, p.age - p.caught, 0)
        np.testing.assert_allclose(p.colour[:, 0], np.clip(since, 0, 1), atol=2e-3)

    def test_infected_particles_show_the_other_body(self) -> None:
        mixed = {"mixed": [{"kind": "star"}], "mixed_by": "since caught"}
        from isbjorn.core.frame import draw_particles

        never, all_of = (
            draw_particles(Solver(shot({"seed_share": s, "seed_first": 0, "pace": 0}, mixed)), 5).picture
            for s in (0, 100)
        )
        stars = draw_particles(Solver(shot({"seed_first": 0}, {"body": {"kind": "star"}})), 5).picture
        np.testing.assert_array_equal(all_of, stars)
        self.assertGreater(float(np.abs(never - stars).max()), 0.1)


MOVING = {
    "speed": {"value": 40, "spread": 20}, "spread": 360, "bursts": [{"count": 300}], "lifespan": {"value": 5, "spread": 2},
}  # fmt: skip


class Promises(unittest.TestCase):
    def test_the_same_for_any_visits_threads_and_states(self) -> None:
        document = shot({"pace": {"value": 80, "spread": 30}}, MOVING)
        with threads(MANY):
            wanted = at(document, 3)
        with threads(1):
            np.testing.assert_array_equal(at(document, 3).caught, wanted.caught)
        solver = Solver(document)
        for seconds in (4, 1, 2):
            solver.at_seconds(Fraction(seconds))
        np.testing.assert_array_equal(solver.at_seconds(Fraction(3)).caught, wanted.caught)

    def test_the_same_seconds_at_any_rate(self) -> None:
        times = [caught_at(at(shot({}, MOVING, rate=rate), 3), 3) for rate in ("24", "25", "30", "60")]
        for other in times[1:]:
            np.testing.assert_array_equal(other, times[0])

    def test_a_moment_between_steps_shows_the_infected_by_then(self) -> None:
        document = shot({"pace": 1000})
        known = caught_at(at(document, 1), 1)
        for seconds in (0.1501, 0.155, 0.1599):
            here = caught_at(at(document, seconds), seconds)
            np.testing.assert_array_equal(np.isfinite(here), known <= seconds + 1e-6)

    def test_a_grid_that_is_kept_changes_nothing(self) -> None:
        document = shot()
        with mock.patch.object(engine, "_grid", lambda particles, radius, _: engine.grid_of(particles.place, radius)):
            wanted = at(document, 2).caught
        np.testing.assert_array_equal(at(document, 2).caught, wanted)


class Stepped:
    """The same for a stepped group, although no particle in it moves."""

    def setUp(self) -> None:
        stepped = mock.patch("isbjorn.core.simulate.interactions.group.still_contagion", return_value=None)
        stepped.start()
        self.addCleanup(stepped.stop)  # type: ignore[attr-defined]


class SteppedFronts(Stepped, Fronts):
    pass


class SteppedSeeds(Stepped, Seeds):
    pass


class SteppedCourses(Stepped, Courses):
    pass


class SteppedPromises(Stepped, Promises):
    pass


class AtRest(unittest.TestCase):
    """A group at rest computes at once what the same group reaches step by step."""

    CASES: ClassVar[tuple[dict[str, Any], ...]] = (
        {"pace": {"value": 90, "spread": 70}, "wait": {"value": 0.03, "spread": 0.03}},
        {"lasts": 0.4, "pace": 60},
        {"nearest": 4, "radius": 40},
        {"begin_s": 0.7, "seed_share": 1},
    )

    def test_it_is_as_stepped(self) -> None:
        for contagion in self.CASES:
            document = shot(contagion)
            known = Solver(document)
            with mock.patch("isbjorn.core.simulate.interactions.group.still_contagion", return_value=None):
                stepped = Solver(document)
            for t in (0.5, 1.33, 3):
                seen, wanted = (s.at_seconds(Fraction(t).limit_denominator(1000)) for s in (known, stepped))
                with self.subTest(contagion=contagion, t=t):
                    np.testing.assert_array_equal(seen.id, wanted.id)
                    np.testing.assert_allclose(caught_at(seen, t), caught_at(wanted, t), atol=2e-4)

    def test_the_end_is_there_at_once(self) -> None:
        """No step is made, and a look finds it again."""
        document = shot()
        with mock.patch("isbjorn.core.simulate.interactions.group.InteractionGroup._step", side_effect=AssertionError):
            self.assertTrue((at(document, 15).caught >= 0).all())
            with mock.patch("isbjorn.core.simulate.interactions.static_contagion._caught", side_effect=AssertionError):
                at(
                    document.model_copy(
                        update={"emitters": (document.emitters[0].model_copy(update={"opacity": Number(value=50)}),)}
                    ),
                    15,
                )

    def test_moving_or_changing_groups_are_stepped(self) -> None:
        keyed = {"value": 100, "keys": [{"at_s": 0, "value": 10}, {"at_s": 1, "value": 200}]}
        for contagion, emitter in (
            ({}, {"speed": 1}),
            ({}, {"lifespan": 3}),
            ({"pace": keyed}, {}),
            ({"then": "dies"}, {}),
        ):
            with self.subTest(contagion=contagion, emitter=emitter):
                crowd = Solver(shot(contagion, emitter)).tracks[0].interaction_group
                assert isinstance(crowd, InteractionGroup)
                self.assertIsNone(crowd.still)

    def test_where_too_many_are_near_it_is_stepped(self) -> None:
        with (
            mock.patch("isbjorn.core.simulate.interactions.static_contagion._MOST_PAIRS", 10),
            mock.patch("isbjorn.core.simulate.interactions.static_contagion._CAUGHT", Cache("states")),
        ):
            self.assertTrue((at(shot(), 9).caught >= 0).all())


if __name__ == "__main__":
    unittest.main()

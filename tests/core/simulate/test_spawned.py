"""Spawned particles: how many, exactly when and where, and that they depend only on the document."""

import math
import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.frame import Solver

JET: dict[str, Any] = {
    "id": "jet", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 12, "over_s": 0.7}],
    "lifespan": {"value": 2, "spread": 0.5},
    "speed": {"value": 220, "spread": 60}, "direction": 80, "spread": 40, "size": {"value": 4, "spread": 0},
}  # fmt: skip
DROP: dict[str, Any] = {
    "id": "drop",
    "shape": {"kind": "point"},
    "speed": 0,
    "born_of": "jet",
    "rate": 10,
    "lifespan": 0,
    "size": 2,
}
GRAVITY: dict[str, Any] = {"kind": "gravity", "id": "g", "strength": 3}
FLOOR: dict[str, Any] = {"kind": "surface", "id": "floor", "up": -30, "outcome": "die"}


def shot(
    child: dict[str, Any] | None = None, *forces: dict[str, Any], parent: dict[str, Any] | None = None, **more: Any
) -> Shot:
    """A jet of twelve under gravity; its spawned particles rest where they are born."""
    acting = forces or (GRAVITY,)
    links = [{"force": f["id"], "emitter": "jet"} for f in acting]
    given = {
        "emitters": [JET | (parent or {}), DROP | (child or {})],
        "forces": list(acting),
        "links": links,
        "last_frame": 200,
    }
    return parse_shot(given | more)


def both(document: Shot, seconds: float) -> tuple[Any, Any]:
    solver, at = Solver(document), Fraction(seconds).limit_denominator(10**6)
    return solver.of(0, at), solver.of(1, at)


def along_x(speed: float) -> dict[str, Any]:
    """A parent of one birth that flies to the right at a speed in px/s."""
    flight = {"speed": {"value": speed, "spread": 0}, "spread": 0, "direction": 0}
    return {"bursts": [{"count": 1}], "lifespan": 9, **flight}


class InFlight(unittest.TestCase):
    def test_each_bears_as_many_as_its_rate_comes_to(self) -> None:
        for rate, at in ((10, 0.9), (37, 1.4), (400, 1.0)):
            with self.subTest(rate=rate):
                parents, children = both(shot({"rate": rate}), at)
                whole = rate * float(parents.age.sum())
                self.assertLessEqual(abs(len(children) - whole), len(parents))

    def test_so_many_for_each_px_of_the_way_at_any_speed(self) -> None:
        """Straight on at 40 to 900 px/s, and under gravity, where the way is the length of the parabola."""
        still = {"kind": "gravity", "id": "g", "strength": 0}
        for speed in (40, 300, 900):
            parent = {"bursts": [{"count": 60}], "speed": {"value": speed, "spread": 0}, "lifespan": 4}
            _, children = both(shot({"rate": 0.25, "rate_per": "px"}, still, parent=parent), 3)
            whole = 60 * 3 * speed * 0.25
            self.assertAlmostEqual(len(children), whole, delta=0.004 * whole + 8)
        thrown = {
            "bursts": [{"count": 40}],
            "speed": {"value": 400, "spread": 0},
            "spread": 0,
            "direction": 60,
            "lifespan": 4,
        }
        _, children = both(shot({"rate": 0.5, "rate_per": "px"}, parent=thrown), 2)
        t = np.linspace(0, 2, 4001)
        fast = np.hypot(400 * math.cos(math.radians(60)), 400 * math.sin(math.radians(60)) - 300 * t)
        length = float((fast[1:] + fast[:-1]).sum() / 2 * (t[1] - t[0]))
        self.assertAlmostEqual(len(children), 40 * 0.5 * length, delta=0.004 * 40 * 0.5 * length)

    def test_those_per_px_are_on_the_path_and_keep_their_ids(self) -> None:
        straight = along_x(300)
        still = {"kind": "gravity", "id": "g", "strength": 0}
        document = shot({"rate": 0.4, "rate_per": "px"}, still, parent=straight)
        _, early = both(document, 1.5)
        _, late = both(document, 3)
        np.testing.assert_allclose(late.position[:, 1:], 0, atol=1e-3)
        known = {int(one): place for one, place in zip(late.id, late.position, strict=True)}
        self.assertEqual(len(known), len(late))
        for one, place in zip(early.id, early.position, strict=True):
            np.testing.assert_array_equal(known[int(one)], place)
        self.assertLess(float(np.abs(np.diff(np.sort(late.position[:, 0]))).max()), 15, "no gap is long")

    def test_those_per_px_are_even_along_any_way(self) -> None:
        straight = along_x(100)
        even = {"rate": 0.1, "rate_per": "px", "cadence": "even"}
        still = {"kind": "gravity", "id": "g", "strength": 0}
        _, children = both(shot(even, still, parent=straight), 2.05)
        self.assertEqual(len(children), 20)
        np.testing.assert_allclose(np.diff(np.sort(children.position[:, 0])), 10, atol=0.01)
        # Under gravity, from a jump as from a walk.
        thrown = straight | {"speed": {"value": 400, "spread": 0}, "direction": 70}
        solver = Solver(shot(even, parent=thrown))
        walked = [solver.of(1, Fraction(n, 25)) for n in range(51)][-1]
        _, jumped = both(shot(even, parent=thrown), 2)
        np.testing.assert_array_equal(walked.position, jumped.position)
        way = np.linalg.norm(np.diff(walked.position[np.argsort(-walked.age)], axis=0), axis=1)
        np.testing.assert_allclose(way, 10, atol=0.1)

    def test_they_are_even_in_time_for_each(self) -> None:
        one = {"bursts": [{"count": 1}], "lifespan": 5}
        _, children = both(shot({"rate": 25}, parent=one), 3)
        np.testing.assert_allclose(np.diff(np.sort(children.age)), 1 / 25, atol=1e-5)

    def test_a_keyed_rate_is_integrated(self) -> None:
        one = {"bursts": [{"count": 1, "over_s": 0}], "lifespan": 5}
        keys = [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 4, "value": 80, "joint": "straight"}]
        _, children = both(shot({"rate": {"value": 0, "keys": keys}}, parent=one), 2)
        self.assertAlmostEqual(len(children), 80 / 4 * 2**2 / 2, delta=1)

    def test_each_is_born_where_the_other_is_at_that_moment(self) -> None:
        document = shot({"rate": 30})
        _, children = both(document, 1.5)
        jet = Solver(document).tracks[0]
        for i in range(0, len(children), 7):
            then = jet.at(Fraction(1.5 - float(children.age[i])).limit_denominator(10**6))
            away = np.linalg.norm(then.place.T - children.position[i], axis=1).min()
            self.assertLess(float(away), 2e-2)

    def test_they_take_along_its_velocity(self) -> None:
        one = {"bursts": [{"count": 1}], "spread": 0, "direction": 0, "speed": {"value": 200, "spread": 0}}
        still = {"kind": "drag", "id": "g", "strength": 0}
        _, children = both(shot({"inherit": 50}, still, parent=one), 1)
        np.testing.assert_allclose(children.velocity[:, 0], 100, rtol=1e-4)

    def test_they_take_after_it_in_size_and_colour(self) -> None:
        shrinks = {"points": [{"at": 0, "value": 1}, {"at": 1, "value": 0}]}
        ramp = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}], "mix": "linear"}
        big = {
            "size": {"value": 40, "spread": 10, "over_life": shrinks},
            "colour": ramp,
            "lifespan": 3,
            "bursts": [{"count": 1}],
        }
        for share in (0, 50, 100):
            with self.subTest(share=share):
                child = {"inherit_size": share, "inherit_colour": share, "rate": 20}
                document = shot(child, parent=big)
                _, children = both(document, 2)
                for i in (0, len(children) // 2, len(children) - 1):
                    then = Solver(document).of(0, Fraction(2.0 - float(children.age[i])).limit_denominator(10**6))
                    own = np.array([2.0, 1, 1, 1])
                    theirs = np.concatenate([then.size[:1], then.colour[0]])
                    seen = np.concatenate([children.size[i : i + 1], children.colour[i]])
                    np.testing.assert_allclose(seen, own + share / 100 * (theirs - own), rtol=2e-3, atol=2e-3)

    def test_to_any_depth(self) -> None:
        third = {
            "id": "spark",
            "shape": {"kind": "point"},
            "speed": 0,
            "born_of": "drop",
            "rate": 8,
            "lifespan": 0,
            "size": 1,
        }
        document = shot(emitters=[JET, DROP | {"speed": 40, "spread": 360}, third])
        solver = Solver(document)
        drops, sparks = solver.of(1, Fraction(1)), solver.of(2, Fraction(1))
        self.assertLessEqual(abs(len(sparks) - 8 * float(drops.age.sum())), len(drops))
        ages = np.sort(1 - sparks.age)
        self.assertGreater(float(ages[0]), 0)


class OnEvents(unittest.TestCase):
    def test_at_death_where_and_when_it_dies(self) -> None:
        document = shot({"born_when": "at death", "born_count": 3})
        jet = Solver(document).tracks[0]
        begun = jet.at(Fraction(8, 10))
        deaths = begun.moments + begun.lives
        _, children = both(document, 3.5)
        self.assertEqual(len(children), 36)
        np.testing.assert_allclose(np.unique((3.5 - children.age).round(4)), np.unique(deaths.round(4)), atol=2e-4)
        last = float(deaths.max())
        near = jet.at(Fraction(last - 1e-4).limit_denominator(10**6)).place.T[0]
        mine = children.position[np.argmin(children.age)]
        self.assertLess(float(np.linalg.norm(mine - near)), 0.2)

    def test_at_touch_where_it_lands(self) -> None:
        _, children = both(shot({"born_when": "at touch", "born_count": 2}, GRAVITY, FLOOR, parent={"lifespan": 0}), 3)
        self.assertEqual(len(children), 24)
        # Twelve bodies of 2 px radius come down on it.
        np.testing.assert_allclose(children.position[:, 1], -28, atol=0.2)

    def test_bouncing_parents_spawn_at_the_first_touch(self) -> None:
        bounce = FLOOR | {"outcome": "bounce"}
        _, children = both(shot({"born_when": "at touch"}, GRAVITY, bounce, parent={"lifespan": 0}), 4)
        self.assertEqual(len(children), 12)

    def test_a_life_without_end_dies_at_a_surface(self) -> None:
        _, children = both(shot({"born_when": "at death"}, GRAVITY, FLOOR, parent={"lifespan": 0}), 3)
        self.assertEqual(len(children), 12)
        np.testing.assert_allclose(children.position[:, 1], -28, atol=0.5)

    def test_at_catching(self) -> None:
        row = {
            "shape": {"kind": "line", "length": 400}, "spacing": "even", "bursts": [{"count": 64}], "lifespan": 0, "speed": 0,
        }  # fmt: skip
        spread = {"kind": "contagion", "id": "c", "radius": 12, "pace": 80}
        parents, children = both(shot({"born_when": "at catching"}, spread, parent=row), 2)
        self.assertEqual(len(children), int((parents.caught >= 0).sum()))
        x = np.sort(parents.position[parents.caught >= 0, 0])
        np.testing.assert_allclose(np.sort(children.position[:, 0]), x, atol=1e-2)


CHILD = {
    "speed": 30, "spread": 360, "rate": 40, "lifespan": {"value": 1, "spread": 0.5}, "born_when": "in flight",
}  # fmt: skip


class Promises(unittest.TestCase):
    def test_the_same_whatever_was_visited(self) -> None:
        for child in (CHILD, {"born_when": "at touch", "born_count": 4}):
            document = shot(child, GRAVITY, FLOOR)
            wanted = both(document, 1.7)[1]
            solver = Solver(document)
            for seconds in (2.2, 0.4, 1.1):
                solver.of(1, Fraction(seconds).limit_denominator(10**6))
            here = solver.of(1, Fraction(17, 10))
            for name in ("id", "position", "velocity", "age", "size"):
                np.testing.assert_array_equal(here[name], wanted[name])

    def test_the_same_seconds_at_any_rate(self) -> None:
        first = both(shot(CHILD, rate="25"), 1.5)[1]
        for rate in ("24", "30", "60"):
            np.testing.assert_array_equal(both(shot(CHILD, rate=rate), 1.5)[1].position, first.position)

    def test_an_edit_of_the_parent_changes_its_births(self) -> None:
        document = shot(CHILD)
        faster = shot(CHILD, parent={"speed": 300})
        before = Solver(document)
        before.of(1, Fraction(1))
        wanted = Solver(faster).of(1, Fraction(1)).position
        np.testing.assert_array_equal(Solver(faster, before.cache, before=before).of(1, Fraction(1)).position, wanted)

    def test_a_look_of_the_parent_changes_nothing(self) -> None:
        document = shot(CHILD)
        looks = shot(CHILD, parent={"opacity": 20})
        before = Solver(document)
        wanted = before.of(1, Fraction(1)).position
        np.testing.assert_array_equal(Solver(looks, before.cache, before=before).of(1, Fraction(1)).position, wanted)

    def test_each_keeps_its_draws_when_the_other_bears_more(self) -> None:
        few, many = (both(shot(CHILD, parent={"bursts": [{"count": n}], "lifespan": 3}), 1)[1] for n in (2, 8))
        self.assertTrue(set(few.id.tolist()) <= set(many.id.tolist()))

    def test_a_loop_comes_round(self) -> None:
        stream = {"rate": 6, "bursts": [], "lifespan": 0.8}
        looped = shot({"lifespan": 0.5, "rate": 12}, parent=stream, loop=True, last_frame=49)
        solver = Solver(looped)
        a, b = (solver.of(1, Fraction(seconds)) for seconds in (1, 3))
        np.testing.assert_allclose(np.sort(a.position[:, 1]), np.sort(b.position[:, 1]), atol=1e-3)


class Kept(unittest.TestCase):
    def test_what_is_kept_of_it_alone_goes_on_being_born(self) -> None:
        from isbjorn.core.document.editing.scene_edits import alone, planted, taken_out

        document = shot({"born_when": "at touch"}, GRAVITY, FLOOR, parent={"lifespan": 0})
        kept = alone(document, "drop")
        self.assertEqual(len(Solver(kept).of(1, Fraction(3))), 12)
        both_, name = planted(parse_shot({}), kept)
        born = next(e for e in both_.emitters if e.id == name)
        self.assertIn(born.born_of, {e.id for e in both_.emitters})
        self.assertIsNone(next(e for e in taken_out(document, "jet").emitters if e.id == "drop").born_of)


class Reports(unittest.TestCase):
    def test_why_there_are_no_births(self) -> None:
        from isbjorn.core.inspect.lookout import lookout

        for child, parent, word in (
            ({"born_when": "at touch", "rate": 0}, {}, "No surface reaches"),
            ({"born_when": "at catching", "rate": 0}, {}, "No contagion reaches"),
            ({"rate": 0}, {}, "birth rate is 0"),
            ({}, {"on": False}, "switched off"),
            ({"born_when": "at death", "rate": 0}, {"lifespan": 60}, "has spawned any"),
        ):
            with self.subTest(word):
                notes = lookout(Solver(shot(child, parent=parent)), 20)
                why = [note.why for note in notes if note.kind == "nothing visible" and note.thing == "drop"]
                self.assertEqual(len(why), 1)
                self.assertIn(word, why[0])


class Refused(unittest.TestCase):
    def refused(self, **given: Any) -> str:
        with self.assertRaises(IsbjornError) as caught:
            parse_shot(given)
        return str(caught.exception)

    def test_two_that_bear_each_other(self) -> None:
        one, other = JET | {"born_of": "drop"}, DROP
        self.assertIn("would spawn itself", self.refused(emitters=[one, other]))
        self.assertIn("would spawn itself", self.refused(emitters=[JET | {"born_of": "jet"}]))

    def test_what_acts_between_them_cannot_reach_both(self) -> None:
        links = [{"force": "f", "emitter": name} for name in ("jet", "drop")]
        reported = self.refused(emitters=[JET, DROP], forces=[{"kind": "flock", "id": "f"}], links=links)
        self.assertIn("cannot reach both", reported)

    def test_a_slip_of_a_finger_is_bounded(self) -> None:
        from isbjorn.core.simulate.spawning import spawned

        document = shot({"rate": 1e6, "limit": 5000}, parent={"bursts": [{"count": 100}]})
        _, children = both(document, 0.1)
        self.assertLessEqual(len(children), 5000)
        self.assertLessEqual(spawned.MOST_IN_A_STEP, 100_000)


if __name__ == "__main__":
    unittest.main()

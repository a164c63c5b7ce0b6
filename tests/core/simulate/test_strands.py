"""Strands: their closed forms, lengths that hold whatever happens, and how they are drawn."""

import math
import unittest
from fractions import Fraction
from typing import Any, ClassVar

import jsonpatch
import numpy as np
from scipy.optimize import brentq
from scipy.special import ellipk

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, draw_particles
from isbjorn.core.inspect.lookout import lookout
from isbjorn.core.simulate.checkpoints import StateCache
from tests.threads import MANY, threads

G = 9.81 * 100
WEIGHT: dict[str, Any] = {"kind": "gravity", "id": "weight", "strength": 9.81}
DRAG: dict[str, Any] = {"kind": "drag", "id": "drag", "strength": 3}


def shot(strand: dict[str, Any], forces: tuple[dict[str, Any], ...] = (), zones: tuple[dict[str, Any], ...] = (),
         more: dict[str, Any] | None = None, **whole: Any) -> Shot:  # fmt: skip
    one = {
        "id": "e", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1}], "lifespan": 0, "speed": 0, "spread": 0,
        "direction": -90, "size": {"value": 4, "spread": 0}, "strand": strand, **(more or {}),
    }  # fmt: skip
    links = [{"force": f["id"], "emitter": "e"} for f in forces]
    return parse_shot({
        "width": 800, "height": 600, "last_frame": 499, "emitters": [one], "forces": list(forces), "zones": list(zones),
        "links": links,
        **whole,
    })  # fmt: skip


def at(solver: Solver, seconds: float | Fraction) -> Particles:
    return solver.of(0, Fraction(seconds).limit_denominator(6000))


def wrong_by(p: Particles, joints: int, length: float) -> float:
    """By what share the worst length is wrong."""
    x = p.position.reshape(-1, joints, 3).astype(float)
    return float(np.abs(np.linalg.norm(np.diff(x, axis=1), axis=2) / (length / (joints - 1)) - 1).max())


def falls_through(values: np.ndarray, hz: float) -> np.ndarray:
    """The moments at which a row passes nothing on its way down."""
    i = np.flatnonzero((values[:-1] > 0) & (values[1:] <= 0))
    return np.asarray((i + values[i] / (values[i] - values[i + 1])) / hz)


class ClosedForms(unittest.TestCase):
    def test_a_stiff_strand_swings_as_a_rod_does(self) -> None:
        """T = 2π sqrt(2L / 3g), longer by the complete elliptic integral for a wide swing."""
        for degrees in (5.0, 60.0):
            first = math.radians(degrees)
            solver = Solver(
                shot(
                    {"joints": 24, "length": 300, "stiffness": 30, "damping": 0},
                    (WEIGHT,),
                    more={"direction": -90 + degrees},
                )
            )
            swing = []
            for k in range(360):
                p = at(solver, Fraction(k, 60))
                d = p.position[-1] - p.position[0]
                swing.append(math.atan2(float(d[0]), -float(d[1])))
            period = float(np.diff(falls_through(np.array(swing), 60)).mean())
            exact = 4 * math.sqrt(2 * 300 / (3 * G)) * float(ellipk(math.sin(first / 2) ** 2))
            with self.subTest(degrees=degrees):
                self.assertAlmostEqual(period, exact, delta=0.01 * exact)
                self.assertGreater(max(swing[-70:]), 0.93 * first, "nothing takes its energy")

    def test_a_stem_sways_as_often_as_it_is_stiff(self) -> None:
        pushed = {"kind": "wind", "id": "w", "direction": 0, "grip": 1, "strength": {"value": 0, "keys": [
            {"at_s": 0, "value": 200, "joint": "hold"}, {"at_s": 0.05, "value": 0, "joint": "hold"}]}}  # fmt: skip
        for pace in (1.0, 2.5):
            solver = Solver(
                shot(
                    {"joints": 24, "length": 300, "stiffness": pace, "damping": 0, "upright": True},
                    (pushed,),
                    more={"direction": 90, "mass": 50},
                )
            )
            sway = np.array([float(at(solver, Fraction(k, 60)).position[-1, 0]) for k in range(12, 300)])
            self.assertAlmostEqual(1 / float(np.diff(falls_through(sway, 60)).mean()), pace, delta=0.02 * pace)

    def test_held_at_both_ends_it_is_a_catenary(self) -> None:
        zone = {"id": "there", "shape": "sphere", "radius": 1, "across": 200, "up": 40}
        solver = Solver(
            shot(
                {"joints": 60, "length": 300, "stiffness": 0, "foot": "there"},
                (WEIGHT, DRAG),
                (zone,),
                {"direction": -30},
            )
        )
        x, y = at(solver, 15).position[:, :2].astype(float).T
        span, rise = x[-1], y[-1]
        a = brentq(lambda a: 2 * a * math.sinh(span / 2 / a) - math.sqrt(300**2 - rise**2), 1, 1e5)
        middle = span / 2 - a * math.atanh(rise / 300)
        curve = a * np.cosh((x - middle) / a)
        self.assertLess(float(np.abs(curve - curve[0] - y).max()), 0.01 * float(np.ptp(y)))

    def test_a_free_strand_keeps_its_momentum_and_turns_about_its_middle(self) -> None:
        pull = {"kind": "attractor", "id": "pull", "across": 100, "up": 300, "strength": {"value": 0, "keys": [
            {"at_s": 0, "value": 900, "joint": "hold"}, {"at_s": 0.2, "value": 0, "joint": "hold"}]}}  # fmt: skip
        solver = Solver(
            shot(
                {"joints": 30, "length": 200, "stiffness": 2, "root": "free", "damping": 0},
                (pull,),
                more={"speed": 100, "direction": 30},
            )
        )
        mass = np.ones(30)
        mass[[0, -1]] = 0.5
        seen = []
        for t in (0.5, 1.5, 4.0):
            p = at(solver, t)
            x, v = p.position[:, :2].astype(float), p.velocity[:, :2].astype(float)
            d = x - (mass[:, None] * x).sum(axis=0) / mass.sum()
            seen.append([*(mass[:, None] * v).sum(axis=0), float((mass * (d[:, 0] * v[:, 1] - d[:, 1] * v[:, 0])).sum()),
                         float((mass[:, None] * v * v).sum())])  # fmt: skip
        self.assertGreater(abs(seen[0][2]), 1000, "it turns")
        np.testing.assert_allclose(seen[1:], [seen[0]] * 2, rtol=2e-4)

    def test_it_is_straight_when_still(self) -> None:
        p = at(Solver(shot({"length": 260}, (WEIGHT,))), 6)
        np.testing.assert_allclose(p.position[:, 0], 0, atol=1e-3)
        np.testing.assert_allclose(p.position[:, 1], -np.linspace(0, 260, 24), atol=0.02)

    def test_its_shape_depends_on_no_number_of_joints(self) -> None:
        sway = {"kind": "wind", "id": "w", "direction": 0, "strength": 90, "grip": 2}
        feet = [
            at(Solver(shot({"joints": n, "length": 300, "stiffness": 0.5}, (WEIGHT, sway))), 5).position[-1]
            for n in (20, 60)
        ]
        np.testing.assert_allclose(feet[0], feet[1], atol=4)


class Lengths(unittest.TestCase):
    def test_they_hold_in_any_wind_with_feet_held_or_free(self) -> None:
        """Within half a percent, as measured at every step; nothing is ever blown up."""
        zone = {"id": "there", "shape": "box", "width": 100, "height": 100, "up": -250}
        for wind in (300, 9000, 90_000):
            for held in ({}, {"foot": "there", "slack": 0}, {"foot": "there", "slack": 40}):
                for stiffness in (0, 5):
                    blown = {
                        "kind": "wind",
                        "id": "w",
                        "direction": 0,
                        "grip": 20,
                        "strength": {"value": wind, "flutter": {"amount": wind, "times_per_s": 5}},
                    }
                    solver = Solver(
                        shot({"joints": 40, "length": 300, "stiffness": stiffness, **held}, (WEIGHT, blown), (zone,))
                    )
                    worst = max(wrong_by(at(solver, Fraction(k, 60)), 40, 300) for k in range(0, 100, 3))
                    with self.subTest(wind=wind, held=held, stiffness=stiffness):
                        self.assertLess(worst, 5e-3)

    def test_between_steps_too(self) -> None:
        solver = Solver(shot({"joints": 24, "length": 300, "stiffness": 0}, (WEIGHT,), more={"direction": 0}))
        self.assertLess(max(wrong_by(at(solver, Fraction(2 * k + 1, 240)), 24, 300) for k in range(90)), 5e-3)

    def test_no_joint_goes_through_a_floor_and_lengths_hold_there(self) -> None:
        floor = {"kind": "surface", "id": "floor", "up": -150, "outcome": "bounce", "friction": 0.4}
        more = {"direction": 60, "size": {"value": 6, "spread": 0}}
        solver = Solver(
            shot({"joints": 40, "length": 300, "stiffness": 0.3, "root": "free"}, (WEIGHT, floor), more=more)
        )
        for k in range(0, 240, 4):
            p = at(solver, Fraction(k, 60))
            self.assertLess(wrong_by(p, 40, 300), 5e-3)
            self.assertGreater(float(p.position[:, 1].min()), -147.05)
        self.assertLess(float(np.linalg.norm(p.velocity, axis=1).max()), 1, "it comes to rest")

    def test_a_foot_goes_with_its_zone_and_no_farther_than_it_reaches(self) -> None:
        zone = {"id": "there", "shape": "box", "width": 10, "height": 10, "up": -200,
                "across": {"value": 0, "keys": [{"at_s": 0, "value": 0}, {"at_s": 2, "value": 900}]}}  # fmt: skip
        solver = Solver(shot({"joints": 20, "length": 300, "foot": "there"}, (WEIGHT,), (zone,)))
        self.assertAlmostEqual(float(at(solver, 0).position[-1, 1]), -205, delta=100)
        for t in (0.5, 1, 2, 3):
            p = at(solver, t)
            self.assertLess(wrong_by(p, 20, 300), 5e-3)
        away = p.position[-1] - p.position[0]
        self.assertAlmostEqual(float(np.linalg.norm(away)), 300, delta=1)
        self.assertGreater(float(away[0]), 250)
        note = next(n for n in lookout(solver, 75) if n.kind == "ends out of reach")
        self.assertIn("too short", note.what)
        longer = note.mend.changes[0]["value"] if note.mend else 0
        mended = shot({"joints": 20, "length": longer, "foot": "there"}, (WEIGHT,), (zone,))
        self.assertNotIn("ends out of reach", [n.kind for n in lookout(Solver(mended), 75)])


class Slack(unittest.TestCase):
    """A strand that is longer than its way to where its foot is held goes aside in one bow, not in a zigzag."""

    def bent(self, stiffness: float, t: float, **more: Any) -> np.ndarray:
        below = {"id": "there", "shape": "box", "width": 900, "height": 30, "up": -285}
        solver = Solver(
            shot(
                {"joints": 28, "length": 300, "stiffness": stiffness, "foot": "there", **more}, (WEIGHT, DRAG), (below,)
            )
        )
        return at(solver, t).position.astype(float)

    def test_it_is_one_bow(self) -> None:
        for stiffness in (0.05, 0.5, 5):
            for t in (0, 0.3, 4):
                x = self.bent(stiffness, t)
                turns = np.diff(np.unwrap(np.arctan2(*np.diff(x[:, :2], axis=0).T)))
                with self.subTest(stiffness=stiffness, t=t):
                    self.assertLess(float(np.abs(turns).max()), 0.6, "no joint is folded")
                    self.assertLessEqual(int((np.diff(np.sign(turns[np.abs(turns) > 0.01])) != 0).sum()), 2)
                    self.assertLess(
                        float(np.abs(np.linalg.norm(np.diff(x, axis=0), axis=1) / (300 / 27) - 1).max()), 5e-3
                    )

    def test_without_weight_a_stiff_one_is_an_elastica(self) -> None:
        """Nearly straight, its bow is a half sine of height 2/π sqrt(slack) times its length (Euler)."""
        below = {"id": "there", "shape": "box", "width": 900, "height": 30, "up": -285}
        solver = Solver(
            shot({"joints": 40, "length": 300, "stiffness": 1, "foot": "there", "slack": 2}, (DRAG,), (below,))
        )
        x = at(solver, 12).position.astype(float)
        span = float(np.linalg.norm(x[-1] - x[0]))
        height = 2 * math.sqrt((300 - span) * span) / math.pi
        self.assertAlmostEqual(float(np.abs(x[:, 0]).max()), height, delta=0.03 * height)
        np.testing.assert_allclose(np.abs(x[:, 0]) / height, np.sin(np.pi * np.linspace(0, 1, 40)), atol=0.05)

    def test_it_goes_to_either_side(self) -> None:
        below = {"id": "there", "shape": "box", "width": 900, "height": 30, "up": -285}
        solver = Solver(shot({"joints": 20, "length": 300, "foot": "there"}, (), (below,), {"bursts": [{"count": 40}]}))
        sides = np.sign(at(solver, 0.5).position.reshape(40, 20, 3)[:, 10, 0])
        self.assertGreater(int((sides > 0).sum()), 8)
        self.assertGreater(int((sides < 0).sum()), 8)


class InAShot(unittest.TestCase):
    CURTAIN: ClassVar[dict[str, Any]] = {
        "bursts": [{"count": 40}],
        "shape": {"kind": "line", "length": 500},
        "spacing": "even",
        "up": 150,
    }
    GUST: ClassVar[dict[str, Any]] = {
        "kind": "wind",
        "id": "gust",
        "direction": 0,
        "strength": 250,
        "grip": 3,
        "zone": "here",
    }
    HERE: ClassVar[dict[str, Any]] = {"id": "here", "shape": "sphere", "radius": 130, "across": -150, "falloff": 60}

    def curtain(self, **strand: Any) -> Shot:
        return shot({"joints": 20, "length": 260, **strand}, (WEIGHT, self.GUST), (self.HERE,), self.CURTAIN)

    def test_a_gust_moves_only_those_that_it_reaches(self) -> None:
        p = at(Solver(self.curtain()), 4)
        strands = p.position.reshape(40, 20, 3)
        bent = np.abs(strands[:, -1, 0] - strands[:, 0, 0])
        far = np.abs(strands[:, 0, 0] + 150) > 140
        self.assertLess(float(bent[far].max()), 0.01)
        self.assertGreater(float(bent[~far].max()), 40)
        np.testing.assert_allclose(strands[:, 0, 1], 150, atol=1e-3, err_msg="tops are fixed")

    def test_it_is_the_same_in_any_order_on_any_threads_with_nothing_kept(self) -> None:
        document = self.curtain(foot="here", slack=20)
        with threads(MANY):
            first = Solver(document)
            known = {t: at(first, t).position.copy() for t in (1, 2.5, 4)}
        with threads(1):
            other = Solver(document, StateCache(limit_bytes=1))
            for t in (4, 1, 2.5):
                np.testing.assert_array_equal(at(other, t).position, known[t])

    def test_motion_belongs_to_seconds(self) -> None:
        places = []
        for rate in ("24", "25", "30", "60"):
            document = self.curtain().model_copy(update={"rate": rate, "last_frame": int(rate) * 20 - 1})
            places.append(Solver(document).at(3 * int(rate)).position)
        for one in places[1:]:
            np.testing.assert_array_equal(one, places[0])

    def test_held_roots_go_with_their_source(self) -> None:
        moving = {
            "across": {
                "value": 0,
                "keys": [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 2, "value": 200, "joint": "straight"}],
            }
        }
        p = at(Solver(shot({"joints": 20, "length": 200}, (WEIGHT, DRAG), more=moving)), 1)
        self.assertAlmostEqual(float(p.position[0, 0]), 100, delta=0.1)
        self.assertLess(float(p.position[-1, 0]), 95, "its foot lags behind")
        self.assertLess(wrong_by(p, 20, 200), 5e-3)

    def test_a_strand_goes_whole_into_a_kill_zone_and_with_its_life(self) -> None:
        kill = {"kind": "remove", "id": "kill", "zone": "there"}
        zone = {"id": "there", "shape": "half", "up": -240, "falloff": 0}
        falling = shot({"joints": 12, "length": 100, "root": "free"}, (WEIGHT, kill), (zone,))
        counts = {len(at(Solver(falling), t)) for t in (0, 0.2, 0.4, 0.6, 0.8, 1.2)}
        self.assertEqual(counts, {12, 0})
        short = shot({"joints": 12, "length": 100}, more={"lifespan": 1})
        self.assertEqual([len(at(Solver(short), t)) for t in (0.5, 1.5)], [12, 0])

    def test_joints_have_ids_of_their_own_and_colours_go_along(self) -> None:
        ramp = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}]}
        p = Solver(
            shot({"joints": 11, "length": 100}, more={"bursts": [{"count": 3}], "colour_by": "strand", "colour": ramp})
        ).at(10)
        self.assertEqual(len(np.unique(p.id)), 33)
        np.testing.assert_allclose(p.colour[[0, 10, 21]], [[1, 0, 0], [0, 0, 1], [0, 0, 1]], atol=1e-3)

    def test_looks_move_nothing(self) -> None:
        one, other = (
            Solver(self.curtain(**looks)).tracks[0].motion
            for looks in ({}, {"width": 30, "tip": 200, "bodies": "at the foot"})
        )
        self.assertEqual(one, other)
        self.assertNotEqual(one, Solver(self.curtain(stiffness=3)).tracks[0].motion)

    def test_its_feet_bear_others(self) -> None:
        drops = {"id": "drops", "born_of": "e", "rate": 20, "speed": 0, "lifespan": 2, "shape": {"kind": "point"}}
        document = shot({"joints": 12, "length": 200}, (WEIGHT,))
        both = parse_shot(
            {**document.model_dump(mode="json"), "emitters": [document.model_dump(mode="json")["emitters"][0], drops]}
        )
        born = Solver(both).of(1, Fraction(1))
        self.assertGreater(len(born), 15)
        np.testing.assert_allclose(born.position, [[0, -200, 0]] * len(born), atol=0.2)

    def test_spawned_strands_stay_at_their_birth_place(self) -> None:
        sparks = {
            "id": "p", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 4}], "speed": 100, "spread": 360, "lifespan": 5,
        }  # fmt: skip
        document = shot({"joints": 10, "length": 60}, (WEIGHT,)).model_dump(mode="json")
        document["emitters"][0] |= {"born_of": "p", "rate": 3, "bursts": []}
        document["emitters"].append(sparks)
        solver = Solver(parse_shot(document))
        early, late = at(solver, 1), at(solver, 2)
        self.assertEqual((len(early), len(late)), (120, 240))
        roots = {int(i): place for i, place in zip(late.id[::10], late.position[::10], strict=True)}
        for i, place in zip(early.id[::10], early.position[::10], strict=True):
            np.testing.assert_array_equal(roots[int(i)], place)
        self.assertLess(wrong_by(late, 10, 60), 5e-3)

    def test_what_it_costs_is_bounded(self) -> None:
        document = shot(
            {"joints": 400, "length": 300},
            (WEIGHT,),
            more={"bursts": [{"count": 1_000_000}], "shape": {"kind": "disc"}},
        )
        solver = Solver(document)
        self.assertLess(len(at(solver, 0.1)), 200_000)
        note = next(n for n in lookout(solver, 2) if n.kind == "too much")
        self.assertIn("fit into the budget", note.what)
        self.assertRegex(
            note.why,
            r"with 400 joints. All of them would take about [\d,]+ (s|min) per frame, [\d,]+ min",
        )

    def test_what_is_too_much_is_mended_by_what_changes_least(self) -> None:
        for joints, strands, label in (
            (40, 3000, "30 steps per second"),
            (200, 4000, "joints"),
            (9, 200_000, "Reduce the birth rate"),
        ):
            document = shot(
                {"joints": joints, "length": 300}, (WEIGHT,), more={"bursts": [{"count": strands}], "shape": {"kind": "disc"}}
            ).model_dump(mode="json")  # fmt: skip
            note = next(n for n in lookout(Solver(parse_shot(document)), 2) if n.kind == "too much")
            assert note.mend is not None
            with self.subTest(joints=joints):
                self.assertIn(label, note.mend.label)
                after = parse_shot(jsonpatch.JsonPatch(note.mend.changes).apply(document))
                self.assertNotIn("too much", {n.kind for n in lookout(Solver(after), 2)})


class Drawn(unittest.TestCase):
    def test_a_line_is_as_wide_as_it_says_and_tapers(self) -> None:
        document = shot(
            {"joints": 24, "length": 200, "width": 100, "tip": 25, "softness": 0},
            (WEIGHT,),
            more={"up": 100, "size": {"value": 12, "spread": 0}},
        )
        cover = draw_particles(Solver(document), 10).picture[..., 3].sum(axis=1)
        self.assertAlmostEqual(float(cover[205]), 12, delta=0.4)
        self.assertAlmostEqual(float(cover[300]), 12 * (1 - 0.75 / 2), delta=0.4)
        self.assertAlmostEqual(float(cover[395]), 3, delta=0.5)
        self.assertEqual(float(cover[410]), 0)

    def test_what_covers_too_much_is_thinned(self) -> None:
        from isbjorn.core.render.raster.overdraw import affordable

        p = Solver(shot({"joints": 50, "length": 200}, more={"bursts": [{"count": 40}]})).at(3)
        kept = affordable(p.id, np.ones(len(p)), 500.0)
        assert kept is not None
        self.assertAlmostEqual(int(kept.sum()), 500, delta=60)
        # Of every strand about as many.
        self.assertLess(int(kept.reshape(40, 50).sum(axis=1).max()), 25)

    def test_they_overlap_in_the_given_order(self) -> None:
        both = {
            "bursts": [{"count": 2}], "colour_by": "birth moment", "up": 100, "size": {"value": 30, "spread": 20},
            "colour": {"mix": "stepped", "colours": [{"at": 0, "colour": "#ffffff"}]}, "hue": 0, "lightness": {"value": 60,
            "spread": 40},
        }  # fmt: skip
        middles = []
        for order in ("largest first", "smallest first"):
            document = shot({"length": 200, "tip": 100, "softness": 0}, (WEIGHT,), more=both | {"order": order})
            p = Solver(document).at(5)
            picture = draw_particles(Solver(document), 5).picture[300, 400, 0]
            last = int(np.argmin(p.size[::24]) if order == "largest first" else np.argmax(p.size[::24]))
            self.assertAlmostEqual(float(picture), float(p.colour[24 * last, 0]), delta=0.02)
            middles.append(float(picture))
        self.assertGreater(abs(middles[0] - middles[1]), 0.03)

    def test_bodies_are_on_it_where_chosen(self) -> None:
        bare = {"joints": 5, "length": 200, "line": False}
        disc = {"up": 100, "size": {"value": 20, "spread": 0}, "body": {"kind": "hard disc"}}
        for bodies, count in (("none", 0), ("at the foot", 1), ("at all joints", 5)):
            cover = draw_particles(Solver(shot({**bare, "bodies": bodies}, (WEIGHT,), more=disc)), 10).picture[..., 3]
            self.assertAlmostEqual(float(cover.sum()), count * math.pi * 100, delta=4 * count)

    def test_bodies_are_turned_with_the_strand(self) -> None:
        flat = {"up": 0, "size": {"value": 40, "spread": 0}, "body": {"kind": "square", "aspect": 20}, "direction": 30}
        picture = draw_particles(
            Solver(shot({"joints": 2, "length": 200, "line": False, "bodies": "at the foot"}, more=flat)), 5
        ).picture[..., 3]
        y, x = np.nonzero(picture > 0.5)
        turn = 0.5 * math.atan2(-2 * float(np.cov(x, y)[0, 1]), float(np.var(x) - np.var(y)))
        self.assertAlmostEqual(math.degrees(turn), 30, delta=2)

    def test_it_is_blurred_by_an_open_shutter(self) -> None:
        swings = {"direction": 0, "size": {"value": 6, "spread": 0}}
        still, moved = (
            draw_particles(
                Solver(shot({"joints": 20, "length": 200}, (WEIGHT,), more=swings, camera={"shutter": angle})), 10
            ).picture[..., 3]
            for angle in (0, 360)
        )
        self.assertGreater(int((moved > 0).sum()), 2 * int((still > 0).sum()))
        self.assertAlmostEqual(float(moved.sum()), float(still.sum()), delta=0.05 * float(still.sum()))


if __name__ == "__main__":
    unittest.main()

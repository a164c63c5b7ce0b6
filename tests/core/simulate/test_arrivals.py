"""Particles that arrive at a place: exactly there, exactly then, whatever acts on the way and at any frame rate."""

import math
import unittest
from fractions import Fraction

import numpy as np

from isbjorn.core.appearance.particles import ParticleSolver
from isbjorn.core.document import Shot
from isbjorn.core.emit.pieces.flights import PieceSource
from isbjorn.core.simulate.integrators.arriving import ArrivingIntegrator
from isbjorn.core.simulate.integrators.stepped import SteppedIntegrator
from isbjorn.core.simulate.track import Track
from tests.threads import MANY, threads

LEVEL = {"points": [{"at": 0, "value": 1}, {"at": 1, "value": 1}]}
ROUGH = (
    {"kind": "turbulence", "id": "t", "strength": 200},
    {"kind": "drag", "id": "d", "strength": 1.5},
    {"kind": "vortex", "id": "v", "strength": 120},
    {"kind": "gravity", "id": "g"},
)
RATES = ("24", "30000/1001", "50", "120")


def solver(pieces: dict, forces: tuple[dict, ...] = (), rate: str = "25", **fields: object) -> ParticleSolver:
    emitter = {
        "id": "e", "shape": {"kind": "rectangle", "width": 300, "height": 120}, "pieces": {"size": 20, **pieces},
        "speed": {"value": 120, "spread": 60}, "lifespan": {"value": 1.7, "spread": 0.4}, **fields,
    }  # fmt: skip
    links = [{"force": force["id"], "emitter": "e"} for force in forces]
    return ParticleSolver(
        Shot.model_validate({"emitters": [emitter], "forces": forces, "links": links, "rate": rate, "last_frame": 249})
    )


def track(*args: object, **fields: object) -> Track:
    return solver(*args, **fields).tracks[0]  # type: ignore[arg-type]


def misses(one: Track, early_s: float) -> np.ndarray:
    """How far some particles are from their places, so long before each arrives, px."""
    assert isinstance(one.source, PieceSource)
    f = one.source.flights
    found = []
    for row in np.flatnonzero(f.place >= 0)[::9]:
        ends = f.moments[row] + float(f.lives[row])
        state = one.at(Fraction(ends - early_s).limit_denominator(10**9))
        column = int(np.flatnonzero(state.births == f.numbers[row])[0])
        found.append(np.linalg.norm(state.place[:, column] - f.arrived.places[f.place[row]]))
    return np.array(found)


class Exact(unittest.TestCase):
    def test_within_a_hundredth_of_a_px_a_microsecond_before_at_every_frame_rate(self) -> None:
        comes = {"release": None, "assemble": {"at_s": 2}}
        returns = {"release": {"at_s": 0.5}, "assemble": {"at_s": 3, "arrives": "moving"}}
        for pieces in (comes, returns):
            for forces in ((), ROUGH[:2], ROUGH):
                for rate in RATES:
                    self.assertLess(misses(track(pieces, forces, rate), 1e-6).max(), 0.01, (len(forces), rate))

    def test_forces_at_their_full_share_do_not_keep_it_from_arriving(self) -> None:
        one = track({"release": None, "assemble": {"at_s": 2, "forces": LEVEL}}, ROUGH)
        self.assertLess(misses(one, 1e-6).max(), 0.01)

    def test_a_moving_carrier_is_met_where_it_is_at_the_arrival(self) -> None:
        keys = [{"at_s": 0, "value": -300, "joint": "straight"}, {"at_s": 10, "value": 300, "joint": "straight"}]
        one = track({"release": None, "assemble": {"at_s": 2}}, ROUGH[:1], across={"value": 0, "keys": keys})
        assert isinstance(one.source, PieceSource)
        f = one.source.flights
        ends = f.moments + f.lives
        places, _ = one.source.targets(f.numbers, f.moments)
        np.testing.assert_allclose(places[:, 0], f.arrived.places[:, 0] - 300 + 60 * ends, atol=1e-6)

    def test_there_is_no_jump_between_moments(self) -> None:
        for forces in ((), ROUGH):
            one = track({"release": {"at_s": 0.5}, "assemble": {"at_s": 2}}, forces)
            far = [one.at(Fraction(n, 960)) for n in range(900, 2600, 1)]
            speeds = []
            for first, then in zip(far, far[1:], strict=False):
                both, a, b = np.intersect1d(first.births, then.births, return_indices=True)
                if len(both):
                    speeds.append(np.linalg.norm(then.place[:, b] - first.place[:, a], axis=0).max() * 960)
            self.assertLess(max(speeds), 900)


class Law(unittest.TestCase):
    def test_alone_it_flies_the_cubic_that_meets_both_ends(self) -> None:
        one = track({"release": {"at_s": 1, "duration": 0}, "assemble": {"at_s": 3, "duration": 0, "softness": 0}})
        self.assertIsInstance(one.integrator, ArrivingIntegrator)
        assert isinstance(one.source, PieceSource)
        begin = one.at(Fraction(1) + Fraction(1, 10**6))
        state = one.at(Fraction(2))
        place = one.source.flights.arrived.places
        # Half of the way in time: (x + X) / 2 + v T / 8.
        expected = 0.5 * (begin.place.T + place) + begin.velocity.T * 2 / 8
        np.testing.assert_allclose(state.place.T, expected, atol=0.01)

    def test_a_steady_force_leaves_it_where_the_bound_says(self) -> None:
        a, whole = 9.81 * float(Shot().px_per_metre), 3.0
        for arrives in ("at rest", "moving"):
            due = {"at_s": 4, "duration": 0, "softness": 0, "forces": LEVEL, "arrives": arrives}
            pieces = {"release": {"at_s": 1, "duration": 0}, "assemble": due}
            pulled, alone = track(pieces, ROUGH[3:]), track(pieces)
            self.assertIsInstance(pulled.integrator, SteppedIntegrator)
            for t in (Fraction(2), Fraction(3), Fraction(39, 10)):
                drop, h = alone.at(t).place[1] - pulled.at(t).place[1], 4 - float(t)
                resting = a * h**2 * (math.log(whole / h) - 1 + h / whole)
                expected = resting if arrives == "at rest" else a * h * (whole - h) ** 2 / (2 * whole)
                np.testing.assert_allclose(drop, expected, rtol=2e-3, atol=0.02)
                self.assertLess(float(drop.max()), (0.0515 if arrives == "at rest" else 0.0755) * a * whole**2)

    def test_at_rest_or_moving(self) -> None:
        def speed(arrives: str) -> float:
            one = track({"release": None, "assemble": {"at_s": 3, "duration": 0, "softness": 0, "arrives": arrives}})
            return float(np.linalg.norm(one.at(Fraction(3) - Fraction(1, 10**6)).velocity, axis=0).mean())

        self.assertLess(speed("at rest"), 0.1)
        self.assertGreater(speed("moving"), 50)


class Deterministic(unittest.TestCase):
    def test_the_same_for_any_number_of_threads_and_order_of_frames(self) -> None:
        pieces = {"release": {"at_s": 0.5}, "assemble": {"at_s": 3}}
        moments = [Fraction(n, 25) for n in (70, 20, 45, 46)]
        found = []
        for count, order in ((1, (0, 1, 2, 3)), (MANY, (3, 2, 1, 0))):
            with threads(count):
                one = track(pieces, ROUGH)
                states = {n: one.at(moments[n]) for n in order}
            found.append([states[n] for n in range(4)])
        for a, b in zip(*found, strict=True):
            np.testing.assert_array_equal(a.births, b.births)
            np.testing.assert_array_equal(a.values[:7], b.values[:7])

    def test_a_piece_is_in_flight_or_stands_and_never_both(self) -> None:
        for pieces in (
            {"release": {"at_s": 1}, "assemble": None}, {"release": None, "assemble": {"at_s": 2}},
            {"release": {"at_s": 4}, "assemble": {"at_s": 2}}, {"release": {"at_s": 1}, "assemble": {"at_s": 4}},
        ):  # fmt: skip
            one = solver(pieces)
            source = one.tracks[0].source
            assert isinstance(source, PieceSource)
            f = source.flights
            moments = [0.0, 1.7, 3.3, *f.moments[:5], *(f.moments + f.lives)[:5]]
            for t in moments:
                at = Fraction(float(t))
                flying = one.of(0, at).id & ((1 << 24) - 1)
                standing = np.concatenate([np.empty(0, np.int64), *(found.piece for _, found in one.standing(0, at))])
                both = np.concatenate([flying, standing])
                self.assertEqual(len(both), len(set(both.tolist())), (pieces, t))
                if pieces["release"] and not pieces["assemble"] and t <= 1:
                    self.assertEqual(len(standing), len(f.cut))

    def test_a_loop_that_comes_apart_and_together_has_no_seam(self) -> None:
        pieces = {"size": 20, "release": {"at_s": 2, "softness": 0}, "assemble": {"at_s": 6, "softness": 0}}
        emitter = {"id": "e", "shape": {"kind": "rectangle", "width": 300, "height": 120}, "pieces": pieces}
        one = ParticleSolver(Shot.model_validate({"emitters": [emitter], "last_frame": 249, "loop": True}))
        for t in (0.0, 5.0, 9.99):
            first, later = (
                one.at_seconds(Fraction(t).limit_denominator(1000)),
                one.at_seconds(Fraction(t + 10).limit_denominator(1000)),
            )
            a, b = np.lexsort(first.position.T), np.lexsort(later.position.T)
            np.testing.assert_allclose(first.position[a], later.position[b], atol=1e-3)
            self.assertEqual(len(first), len(one.tracks[0].source.flights.cut))  # type: ignore[attr-defined]

    def test_pieces_leave_untwisted_and_arrive_after_whole_turns(self) -> None:
        one = solver({"release": {"at_s": 1}, "assemble": {"at_s": 4}}, spin={"value": 200, "spread": 90}, turn=15)
        f = one.tracks[0].source.flights  # type: ignore[attr-defined]
        for row in (0, 20, 60):
            begin = one.of(0, Fraction(f.moments[row] + 1e-5).limit_denominator(10**9))
            end = one.of(0, Fraction(f.moments[row] + float(f.lives[row]) - 1e-5).limit_denominator(10**9))
            for p in (begin, end):
                angle = p.angle[(p.id & ((1 << 24) - 1)) == row][0]
                self.assertAlmostEqual((angle - 15 + 180) % 360, 180, delta=0.1)


if __name__ == "__main__":
    unittest.main()

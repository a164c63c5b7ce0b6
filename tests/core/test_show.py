"""A show steps forward only; kept as a take, it plays back the same to the bit, in any order, at any rate."""

from __future__ import annotations

import hashlib
import math
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.caching import bytes_of
from isbjorn.core.document import Shot, Take
from isbjorn.core.document.editing.scene_edits import taken_out
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.placed_models import ModelRows
from isbjorn.core.evaluate.performed import Performance, read_take
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.frame import Solver
from isbjorn.core.show import Show
from isbjorn.core.simulate.forces.force_layout import ForceSetting
from isbjorn.core.simulate.forces.turbulence import turned
from isbjorn.core.simulate.integrators import stepped


def led(value: float, low: float, high: float, combine: str = "multiply") -> dict[str, Any]:
    """A number that the control leads."""
    source = {"measure": "number", "thing": "c1.value", "low": 0, "high": 1, "makes_low": low, "makes_high": high}
    return {"value": value, "source": {**source, "combine": combine}}


EMITTER = {"id": "e1", "name": "E", "seed": 1, "rate": 300, "lifespan": 1.5, "speed": 200, "spread": 60}
REACHED = [{"force": "f1", "emitter": "e1"}]


def shot_of(**more: Any) -> Shot:
    """A shot with a control that listens to /a."""
    reported: dict[str, Any] = {
        "controls": [{"id": "c1", "name": "C", "value": 0.5, "comes_from": {"address": "/a", "smooth_s": 0.05}}],
        "emitters": [{**EMITTER, "rate": led(600, 0, 1), "across": led(0, -300, 300, "add"), "inherit": 50}],
        "last_frame": 249,
    }
    return parse_shot({**reported, **more})


def performed(shot: Shot, seconds: float = 3.0) -> tuple[Show, list[tuple[Fraction, Particles]]]:
    """A show with an unsteady clock and a moving hand, and what was seen of it."""
    show, seen, draws, t = Show(shot), [], np.random.default_rng(3), 0.0
    while t < seconds:
        t += float(draws.uniform(0.004, 0.03))
        show.arrive("/a", 0.5 + 0.5 * math.sin(3 * t) * math.cos(1.3 * t), t)
        if draws.random() < 0.7 and show.step(t):
            seen.append((show.frame, show.particles()))
    return show, seen


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def with_take(self, shot: Shot, show: Show, **more: Any) -> Shot:
        """The shot that plays what was performed."""
        path = self.folder / "take.csv"
        path.write_text(show.kept().text())
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        take = Take(id="t1", name="T", media=str(path), digest=digest, **more)
        controls = tuple(c.model_copy(update={"take": "t1"}) for c in shot.controls)
        return parse_shot(shot.model_copy(update={"controls": controls, "takes": (take,)}).model_dump(mode="json"))


class Replayed(InFolder):
    def check(self, shot: Shot, most: int = 8) -> None:
        """Some pictures of a show equal those of its take, requested backwards by a new solver."""
        show, seen = performed(shot)
        self.assertGreater(len(seen[-1][1]), 20)
        solver = Solver(self.with_take(shot, show))
        for frame, then in reversed(seen[:: max(1, len(seen) // most)] + seen[-1:]):
            now = solver.at(frame)
            for name in then.names():
                self.assertTrue(np.array_equal(then[name], now[name]), f"{name} at frame {float(frame)}")

    def test_births_where_a_hand_leads_the_source(self) -> None:
        self.check(shot_of())

    def test_each_cadence_and_each_rate(self) -> None:
        for emitter in (
            {"rate": 2, "rate_per": "px", "across": led(0, -300, 300, "add"), "inherit": 100, "toward": "travel"},
            {"rate": led(1000, 0, 1), "cadence": "random"},
            # A birth at each step, to the dot.
            {"rate": led(60, 1, 1), "cadence": "even"},
            {"rate": led(20, 0, 2), "rate_per": "frame"},
            {"rate": led(3000, 0, 1), "limit": 500},
            {"lifespan": led(2, 0.1, 1)},
        ):
            with self.subTest(emitter=str(emitter)[:60]):
                self.check(shot_of(emitters=[{**EMITTER, **emitter}]), 4)

    def test_forces_zones_surfaces_and_looks(self) -> None:
        for forces, emitter in (
            ({"kind": "turbulence", "strength": led(60, 0, 2), "evolve": led(1, 0, 3)}, {}),
            ({"kind": "attractor", "strength": led(500, 0, 3)}, {"stays": "along", "across": led(0, -300, 300, "add")}),
            ({"kind": "vortex", "strength": led(3, 0, 2), "across": led(0, -90, 90, "add")}, {}),
            ({"kind": "surface", "up": led(-100, -50, 50, "add")}, {"size": {**led(10, 0.5, 2), "reads": "life"}}),
            ({"kind": "flock"}, {"rate": led(100, 0, 1)}),
        ):
            with self.subTest(force=forces["kind"]):
                force = {"id": "f1", "name": "F", **forces}
                self.check(shot_of(emitters=[{**EMITTER, **emitter}], forces=[force], links=REACHED), 4)

    def test_strands_and_spawned_particles(self) -> None:
        held = {**EMITTER, "rate": 0, "lifespan": 0, "bursts": [{"count": 20}], "strand": {}}
        wind = {"kind": "wind", "id": "f1", "name": "W", "strength": led(100, -2, 2)}
        self.check(shot_of(emitters=[held], forces=[wind], links=REACHED), 4)
        child = {"id": "e2", "name": "F", "seed": 2, "born_of": "e1", "rate": led(20, 0, 1), "lifespan": 0.5}
        self.check(shot_of(emitters=[{**EMITTER, "rate": led(60, 0, 1)}, child]), 4)

    def test_another_lattice_and_an_odd_rate(self) -> None:
        self.check(shot_of(simulation_rate=50, rate="30000/1001"), 4)

    def test_at_any_rate_it_is_the_same_at_the_same_second(self) -> None:
        shot = shot_of()
        show, _ = performed(shot)
        take = self.with_take(shot, show)
        slow, fast = Solver(take), Solver(take.model_copy(update={"rate": "60", "last_frame": 600}))
        for second in (1, 2):
            a, b = slow.at(25 * second), fast.at(60 * second)
            for name in a.names():
                self.assertTrue(np.array_equal(a[name], b[name]), name)


class Performing(unittest.TestCase):
    def test_a_hand_leads_from_its_moment_on(self) -> None:
        show = Show(
            shot_of(controls=[{"id": "c1", "name": "C", "value": 0.25, "comes_from": {"address": "/a", "high": 127}}])
        )
        show.step(0.5)
        self.assertFalse(show.arrive("/b", 1, 0.5))
        self.assertTrue(show.arrive("/a", 127, 0.601))
        show.step(1.0)
        values = show.performance.values[0]
        self.assertEqual(show.performance.count, 61)
        # As it rests; the first step after 0.601 s, which is the 37th, has what arrived.
        self.assertEqual(values[:37].tolist(), [0.25] * 37)
        self.assertEqual(values[37:].tolist(), [1.0] * 24)

    def test_smoothing_goes_63_percent_in_its_seconds(self) -> None:
        show = Show(
            shot_of(controls=[{"id": "c1", "name": "C", "value": 0, "comes_from": {"address": "/a", "smooth_s": 0.5}}])
        )
        show.arrive("/a", 1, 0.0001)
        show.step(1.5)
        self.assertAlmostEqual(float(show.performance.values[0, 30]), 1 - math.exp(-1), delta=1e-9)
        self.assertAlmostEqual(float(show.performance.values[0, 90]), 1 - math.exp(-3), delta=1e-9)

    def test_keys_hold_as_long_as_nothing_arrives(self) -> None:
        keys = [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 2, "value": 1, "joint": "straight"}]
        control = {"id": "c1", "name": "C", "value": {"value": 0, "keys": keys}, "comes_from": {"address": "/a"}}
        show = Show(shot_of(controls=[control]))
        show.step(1.0)
        self.assertAlmostEqual(float(show.performance.values[0, 30]), 0.25, delta=1e-12)

    def test_births_are_the_integral_of_what_was_played(self) -> None:
        # 600 a second times the control, which is 0.25 for a second and 1 for another: 150 + 600, and half a step between.
        show = Show(shot_of(controls=[{"id": "c1", "name": "C", "value": 0.25, "comes_from": {"address": "/a"}}],
                            emitters=[{**EMITTER, "rate": led(600, 0, 1), "lifespan": 0}]))  # fmt: skip
        show.step(1.0)
        show.arrive("/a", 1, 1.0)
        show.step(2.0)
        self.assertAlmostEqual(len(show.particles()), 150 + 600 - 600 * 0.75 / 2 / 60, delta=1.5)

    def test_a_shutter_that_is_open_sees_nothing_unknown(self) -> None:
        show = Show(shot_of(camera={"shutter": 180}))
        show.step(1.0)
        closes = show.moment + Fraction(1, 50)
        self.assertLess(float(closes), show.now_s)
        self.assertGreater(float(closes), show.now_s - 1e-4)

    def test_an_eddy_evolves_by_the_integral_of_what_leads_it_on_any_lattice(self) -> None:
        for hz in (50, 60, 120):
            force = {"kind": "turbulence", "id": "f1", "name": "T", "evolve": led(2, 0.5, 0.5)}
            show = Show(shot_of(emitters=[EMITTER], forces=[force], links=REACHED, simulation_rate=hz))
            show.step(4.0)
            solver = show.solver
            t = np.array([1.0, 3.0])
            setting = ForceSetting(
                solver.shot, solver.shot.emitters[0], solver.readings, t, None, [], [], [], ModelRows(), {}
            )
            np.testing.assert_allclose(turned(solver.shot.forces[0], setting), 1.0 * t, atol=1e-9)

    def test_a_loop_comes_round_without_a_seam(self) -> None:
        keys = [{"at_s": 0, "value": 0, "joint": "straight"}, {"at_s": 1, "value": 100, "joint": "straight"}]
        emitter = {**EMITTER, "up": {"value": 0, "keys": keys}, "lifespan": 0.5}
        show = Show(shot_of(emitters=[emitter], loop=True, last_frame=49))
        show.step(11.5)
        here = show.solver.readings.frames(show.solver.shot.emitters[0], np.array([11.0, 10.5])).place[:, 1]
        np.testing.assert_allclose(here, [100, 50])
        self.assertEqual(len(show.particles()), 150)

    def test_an_edit_is_taken_up_and_time_goes_on(self) -> None:
        shot = shot_of()
        show = Show(shot)
        show.arrive("/a", 1, 0.1)
        show.step(2.0)
        bigger = shot_of(emitters=[{**EMITTER, "rate": led(1200, 0, 1), "across": led(0, -300, 300, "add")}])
        before = len(show.particles())
        self.assertFalse(show.edit(bigger))
        self.assertEqual(show.now_s, 2.0)
        self.assertAlmostEqual(len(show.particles()) / before, 2, delta=0.05)
        # Interacting emitters would have to be simulated from the first moment: the show restarts.
        flock = {"kind": "flock", "id": "f1", "name": "F"}
        self.assertTrue(show.edit(shot_of(forces=[flock], links=REACHED)))
        self.assertEqual(show.performance.count, 1)

    def test_an_edit_that_would_take_long_to_catch_up_restarts(self) -> None:
        wind = {"kind": "wind", "id": "f1", "name": "W", "strength": 20}
        endless = {**EMITTER, "rate": 400, "lifespan": 0}
        show = Show(shot_of(emitters=[endless], forces=[wind], links=REACHED))
        show.step(300.0)
        self.assertTrue(show.edit(shot_of(emitters=[{**endless, "speed": 210}], forces=[wind], links=REACHED)))
        self.assertEqual(show.performance.count, 1)

    def test_a_jump_of_the_clock_is_gone_at_once_and_hands_hold(self) -> None:
        show = Show(shot_of())
        show.arrive("/a", 0.75, 0.01)
        show.step(1.0)
        show.step(1000.0)
        self.assertEqual(show.performance.count, 60_001)
        self.assertAlmostEqual(float(show.performance.values[0, 30_000]), 0.75, delta=1e-9)
        self.assertAlmostEqual(len(show.particles()), 600 * 0.75 * 1.5, delta=2)

    def test_steps_of_a_show_that_falls_behind_are_packed_together(self) -> None:
        wind = {"kind": "wind", "id": "w", "strength": led(200, 0, 1)}
        show = Show(shot_of(forces=[wind], links=[{"force": "w", "emitter": "e1"}]))
        show.step(0.5)
        show.particles()
        with mock.patch.object(stepped, "pack_world", wraps=stepped.pack_world) as packing:
            show.step(1.0)
            show.particles()
        self.assertLess(packing.call_count, 4)

    def test_what_arrived_late_in_a_round_does_not_hold_up_the_next(self) -> None:
        show = Show(shot_of())
        show.step(9.9)
        # Arrived after the last step of the round.
        show.arrive("/a", 0.25, 9.95)
        show.again()
        show.step(1.0)
        show.arrive("/a", 1.0, 1.0)
        show.step(2.0)
        self.assertAlmostEqual(float(show.performance.values[0, 30]), 0.25, delta=1e-3)
        self.assertAlmostEqual(float(show.performance.values[0, -1]), 1.0, delta=1e-3)

    def test_what_is_played_does_not_swell(self) -> None:
        show = Show(shot_of(emitters=[{**EMITTER, "rate": led(3000, 0, 1), "limit": 400}]), limit_bytes=4 << 20)
        sizes = []
        for tenth in range(300):
            show.arrive("/a", 0.5 + 0.5 * math.sin(tenth), tenth / 10)
            show.step((tenth + 1) / 10)
            show.particles()
            track = show.solver.tracks[0]
            sizes.append(len(track.admission._parts))
        self.assertLess(max(sizes[100:]), 80)
        self.assertLess(show.states.bytes, 4 << 20)
        self.assertEqual(track.admission.refused(30.0), track.births.between(-1, 30)[0].size - admitted(show))

    def test_a_show_without_controls_still_has_a_clock(self) -> None:
        show = Show(parse_shot({"emitters": [EMITTER]}))
        show.step(30.0)
        self.assertEqual(len(show.particles()), 450)


def admitted(show: Show) -> int:
    """How many births of a show's first emitter were let in, by the rule itself."""
    track = show.solver.tracks[0]
    numbers, moments = track.births.between(-1, 30)
    lives, ends, count = track.source.lifespans(numbers, moments), [], 0
    for moment, life in zip(moments, lives, strict=True):
        ends = [end for end in ends if end > moment]
        if len(ends) < track.limit:
            ends.append(moment + life)
            count += 1
    return count


class Files(InFolder):
    def test_a_file_says_the_very_same_numbers(self) -> None:
        made = Performance(60, ["a", "b"])
        for value in np.random.default_rng(1).random((2000, 2)):
            made.append(value)
        path = self.folder / "one.csv"
        path.write_text(made.text())
        back = read_take(path)
        self.assertEqual((back.hz, back.lanes), (60, ("a", "b")))
        self.assertTrue(np.array_equal(back.values, made.values))

    def test_an_invalid_take_is_reported(self) -> None:
        head = "# isbjorn take, 60 steps a second\n"
        for text, reported in (
            ("", "not a take"), ("# isbjorn take, 0 steps a second\na\n0\n", "not a take"), (head + "a,a\n0,0\n", "lanes"),
            (head + "a\n0\nx\n", "line of this take"), (head + "a\n2\n", "between 0 and 1"),
            (head + "a\nnan\n", "between 0 and 1"), (head + "a\n", "each line"), (head + "a,b\n0\n", "each line"),
        ):  # fmt: skip
            path = self.folder / "bad.csv"
            path.write_text(text)
            with self.subTest(text=text), self.assertRaisesRegex(IsbjornError, reported):
                read_take(path)

    def test_what_is_kept_and_what_is_read_is_bounded(self) -> None:
        many = [{"id": f"c{n}", "name": f"C{n}", "comes_from": {"address": f"/{n}"}} for n in range(1, 33)]
        show = Show(shot_of(controls=many, simulation_rate=1000))
        show.step(show._until_s - 1)
        self.assertLess(show.performance.nbytes, 2 * 8 * (1 << 24) + 1)
        show.step(show._until_s + 1)
        self.assertEqual(show.performance.count, 1)
        self.assertGreater(bytes_of(show.performance), 8 * 32 * 1000)
        path = self.folder / "long.csv"
        path.write_text("# isbjorn take, 1 steps a second\na\n" + "0\n" * 7202)
        with self.assertRaisesRegex(IsbjornError, "at most 7,201 lines"):
            read_take(path)

    def test_between_steps_it_is_straight_and_at_a_step_exact(self) -> None:
        made = Performance(50, ["a"])
        for value in (0.0, 1.0, 0.5):
            made.append([value])
        np.testing.assert_allclose(made.read("a", [-1, 0, 0.01, 0.02, 0.03, 0.04, 9]), [0, 0, 0.5, 1, 0.75, 0.5, 0.5])
        self.assertEqual(made.read("a", [0.02 + 1e-7])[0], 1.0)

    def test_before_and_after_its_cuts_the_control_is_its_own(self) -> None:
        shot = shot_of(controls=[{"id": "c1", "name": "C", "value": 0.125, "comes_from": {"address": "/a"}}])
        show = Show(shot)
        show.arrive("/a", 1, 0)
        show.step(3.0)
        readings = Readings(self.with_take(shot, show, at_s=1, from_s=0.5, to_s=2))
        value = readings.things["c1"].value
        self.assertEqual(readings.number(value, [0, 1.4, 1.6, 2.9, 3.1]).tolist(), [0.125, 0.125, 1, 1, 0.125])

    def test_a_missing_take_is_reported_and_a_removed_one_is_released(self) -> None:
        shot = shot_of()
        show = Show(shot)
        show.step(1.0)
        taken = self.with_take(shot, show)
        self.assertEqual(len(Readings(taken).played), 1)
        without = taken_out(taken, "t1")
        self.assertEqual((without.takes, without.controls[0].take), ((), None))
        gone = taken.model_copy(update={"takes": (taken.takes[0].model_copy(update={"digest": "0" * 64}),)})
        with self.assertRaisesRegex(IsbjornError, "another file has replaced it"):
            Readings(gone)


if __name__ == "__main__":
    unittest.main()

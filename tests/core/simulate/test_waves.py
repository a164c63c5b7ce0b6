"""Waves on water: their speed, their energy, their closed form; and how a face of water is seen."""

import math
import unittest
import unittest.mock
from fractions import Fraction
from typing import Any, ClassVar

import numpy as np
from scipy.integrate import quad
from scipy.special import j0

from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver, draw_particles, render_frame
from isbjorn.core.inspect.guides import guides
from isbjorn.core.render.composite.layer_cache import LayerCache
from isbjorn.core.runtime.memory import Cache
from isbjorn.core.simulate import waves
from isbjorn.core.simulate.waves import Dents, Modes, Water, after, heights, still
from tests.threads import MANY, threads

NONE = Dents(*(np.zeros(0) for _ in range(4)))


def dents(*given: tuple[float, float, float, float]) -> Dents:
    """Of moments, u, v and depths."""
    return Dents(*(np.array(row, np.float64) for row in zip(*given, strict=True)))


def at(water: Water, t: float, *given: tuple[float, float, float, float]) -> Modes:
    return after(water, still(water), t, dents(*given), t)


def energy(water: Water, modes: Modes) -> float:
    """Of motion and of slope, in the modes: each swings as (real + i imaginary) turns."""
    turn, damping = water.numbers()
    speed = -damping * modes.swing.real - turn * modes.swing.imag
    share = (
        np.where(np.arange(turn.shape[1]) == 0, 2.0, 1.0)[None]
        * np.where(np.arange(turn.shape[0]) == 0, 2.0, 1.0)[:, None]
    )
    return float((share * (speed**2 + (turn * modes.swing.real) ** 2)).sum())


class Equation(unittest.TestCase):
    def test_many_drops_are_the_sum_of_each(self) -> None:
        """Many are distributed to even ages, by polynomials: within the precision of float32."""
        rng = np.random.default_rng(5)
        for water, passed in ((Water(800, 600, 105, 1.5, 60, 8), 0.1), (Water(300, 300, 400, 0.2, 10, 6), 0.037)):
            some = np.stack(
                [rng.random(220) * passed, rng.random(220) * 300, rng.random(220) * 300, rng.normal(size=220)], 1
            )
            before = Modes(rng.normal(size=water.modes) + 1j * rng.normal(size=water.modes))
            together = after(water, before, passed, dents(*some), passed)
            with unittest.mock.patch.object(waves, "_FINE", 1e-9):
                each = after(water, before, passed, dents(*some), passed)
            for mine, theirs in ((together.swing.real, each.swing.real), (together.swing.imag, each.swing.imag)):
                self.assertFalse(np.array_equal(mine, theirs))
                np.testing.assert_allclose(mine, theirs, atol=1e-7 * np.abs(theirs).max())

    def test_one_drop_is_the_closed_form(self) -> None:
        """h(r, t) = -a s² e^(-γt) ∫ e^(-k²s²/2) cos(ckt) J0(kr) k dk, as long as no wall is reached; the water itself stays, so
        that the level everywhere is higher by the displaced water."""
        water = Water(800, 800, 120, 0.5, 0, 9)
        for t in (0.3, 1.0, 2.2):
            seen = heights(water, at(water, t, (0, 400, 400, 5)), 4)
            x = (np.arange(seen.shape[1]) + 0.5) / seen.shape[1] * 800 - 400
            y = (np.arange(seen.shape[0]) + 0.5) / seen.shape[0] * 800 - 400
            row = int(np.argmin(np.abs(y)))
            worst = 0.0
            for column in range(seen.shape[1] // 2, seen.shape[1], 23):
                r = math.hypot(float(x[column]), float(y[row]))
                given = (9.0, 120.0 * t, r)
                wave = quad(
                    lambda k, s, d, r: math.exp(-((k * s) ** 2) / 2) * math.cos(k * d) * j0(k * r) * k,
                    0,
                    0.7,
                    given,
                    limit=600,
                )[0]
                level = 2 * math.pi / 800**2
                worst = max(worst, abs(float(seen[row, column]) + 5 * 81 * math.exp(-0.5 * t) * (wave - level)))
            with self.subTest(t=t):
                self.assertLess(worst, 0.005 * float(np.abs(seen).max()))

    def test_a_front_runs_at_its_speed(self) -> None:
        """A line of drops makes a straight front, which has no wake: it goes c t, within one percent."""
        water = Water(1000, 40, 150, 0.05, 0, 8)
        line = [(0.0, 100.0, v, 5.0) for v in np.linspace(1, 39, 20)]
        fronts = []
        for t in (1.0, 3.0, 5.0):
            row = heights(water, at(water, t, *line), 8).mean(axis=0)
            u = (np.arange(len(row)) + 0.5) / len(row) * 1000
            fronts.append(float(u[np.argmin(np.where(u > 40 + 150 * t, row, 0))]))
        np.testing.assert_allclose(np.diff(fronts) / 2, 150, rtol=0.01)

    def test_energy_never_grows_at_any_setting(self) -> None:
        rng = np.random.default_rng(3)
        for speed, damping, smooth in ((120, 0.05, 0), (5000, 0.05, 0), (3, 100, 10_000), (800, 1, 30)):
            water = Water(600, 300, speed, damping, smooth, 10)
            modes = at(water, 0.0, *[(0.0, rng.uniform(0, 600), rng.uniform(0, 300), 4.0) for _ in range(12)])
            before = math.inf
            for _ in range(40):
                now = energy(water, modes)
                self.assertLessEqual(now, before * (1 + 1e-12))
                self.assertTrue(np.isfinite(heights(water, modes)).all())
                before, modes = now, after(water, modes, 0.137, NONE, 0)

    def test_walls_send_it_back_and_water_stays(self) -> None:
        water = Water(400, 400, 100, 0.05, 0, 10)
        seen = heights(water, at(water, 4.0, (0, 200, 200, 5)))
        # Twice as far as the wall: all come together again in the middle, from four sides.
        self.assertGreater(abs(float(seen[seen.shape[0] // 2, seen.shape[1] // 2])), 0.4)
        self.assertAlmostEqual(float(seen.mean()), 0, places=5)

    def test_in_steps_or_at_once(self) -> None:
        water = Water(500, 300, 140, 1, 40, 9)
        every = [(0.03 * n, 40.0 + 9 * n, 280.0 - 5 * n, 3.0) for n in range(40)]
        once = at(water, 2.0, *every)
        modes = still(water)
        for n in range(20):
            low, high = n / 10, (n + 1) / 10
            some = [d for d in every if low < d[0] <= high or (n == 0 and d[0] == 0)]
            modes = after(water, modes, 0.1, dents(*some) if some else NONE, high)
        np.testing.assert_allclose(modes.swing.real, once.swing.real, atol=1e-10)


class Seen(unittest.TestCase):
    STONE: ClassVar[dict[str, Any]] = {
        "id": "e", "shape": {"kind": "point"}, "rate": 0, "bursts": [{"count": 1, "at_s": 0}], "lifespan": 0.1, "speed": 0,
        "size": {"value": 8, "spread": 0},
    }  # fmt: skip

    def shot(self, ripples: dict[str, Any] | None = None, emitter: dict[str, Any] | None = None, **more: Any) -> Shot:
        given = {"width": 400, "length": 300, "tilt": 0, "speed": 100, "damping": 0.3, **(ripples or {})}
        one = self.STONE | {"ripples": given} | (emitter or {})
        whole = {"width": 480, "height": 360, "background": "#808080", "emitters": [one], **more}
        return parse_shot(whole)

    def test_a_ring_runs_out_of_where_it_fell(self) -> None:
        for tilt, squeezed in ((0, 1.0), (60, 0.5)):
            document = self.shot(
                {"tilt": tilt, "length": 300 / squeezed, "walls": False, "edge": 0, "highlight": 0}, {"across": 30}
            )
            moved = np.abs(render_frame(document, 25)[..., 0] - render_frame(document, -1)[..., 0])
            # One second on: 100 px to the sides, foreshortened up and down.
            right, up = moved[178:182, 270:].mean(axis=0), moved[:180, 268:272].mean(axis=1)[::-1]
            for profile, away in ((right, 100.0), (up, 100 * squeezed)):
                seen = float((np.arange(len(profile)) * profile**2).sum() / (profile**2).sum())
                self.assertAlmostEqual(seen, away, delta=0.08 * away)

    def test_still_water_changes_nothing(self) -> None:
        document = self.shot(emitter={"bursts": [{"count": 1, "at_s": 3}]})
        flat = render_frame(document, 25)
        np.testing.assert_allclose(flat, np.broadcast_to(flat[0, 0], flat.shape), atol=1e-6)

    def test_it_bends_what_lies_below_and_nothing_beyond_its_edge(self) -> None:
        stripes = {
            "id": "s", "shape": {"kind": "line", "length": 480}, "spacing": "even", "rate": 0, "bursts": [{"count": 40}],
            "lifespan": 0, "speed": 0, "size": {"value": 5, "spread": 0}, "body": {"kind": "hard disc"},
        }  # fmt: skip
        dark = {"highlight": 0, "shade": 0, "refraction": 60, "edge": 0, "width": 240, "length": 200}
        document = self.shot(dark)
        both = parse_shot(
            {**document.model_dump(mode="json"), "emitters": [stripes, document.model_dump(mode="json")["emitters"][0]]}
        )
        bent, straight = (
            render_frame(one, 10)[..., 0]
            for one in (both, parse_shot({**both.model_dump(mode="json"), "emitters": [stripes]}))
        )
        off = np.abs(bent - straight)
        self.assertGreater(float(off.max()), 0.2)
        self.assertLess(max(float(off[:, :115].max()), float(off[:75].max())), 1e-6)

    def test_the_same_in_any_order_on_any_threads(self) -> None:
        many = {"rate": 60, "bursts": [], "shape": {"kind": "rectangle", "width": 300, "height": 200}, "seed": 4}
        document = self.shot(emitter=many)
        with threads(MANY):
            known = {f: draw_particles(Solver(document), f).picture.copy() for f in (70, 20, 45)}
        with threads(1):
            for f in (20, 45, 70):
                with unittest.mock.patch.object(waves, "_MODES", Cache("states", 0.0)):
                    np.testing.assert_array_equal(draw_particles(Solver(document), f).picture, known[f])

    def test_sizes_and_heights_make_no_new_waves(self) -> None:
        """Two seconds in: another size, spread or height asks for no more than the rest since the last tenth; the picture is the
        one that is computed again."""
        rain = {"rate": 30, "bursts": [], "shape": {"kind": "rectangle", "width": 300, "height": 200}, "seed": 4}

        def drawn(size: dict[str, Any], **ripples: Any) -> tuple[np.ndarray, int]:
            with unittest.mock.patch.object(waves, "after", wraps=waves.after) as asked:
                return draw_particles(Solver(self.shot(ripples, rain | {"size": size})), 51).picture, asked.call_count

        with unittest.mock.patch.object(waves, "_MODES", Cache("states", 0.1)):
            before, first = drawn({"value": 8, "spread": 3})
            self.assertGreater(first, 15)
            for size, ripples in (
                ({"value": 16, "spread": 3}, {}), ({"value": 8, "spread": 6}, {}), ({"value": 8, "spread": 3}, {"height": 9}),
                ({"value": 8, "spread": 3}, {"highlight": 300, "refraction": 70}),
            ):  # fmt: skip
                with self.subTest(size=size, ripples=ripples):
                    edited, calls = drawn(size, **ripples)
                    self.assertLessEqual(calls, 1)
                    with unittest.mock.patch.object(waves, "_MODES", Cache("states", 0.1)):
                        np.testing.assert_allclose(edited, drawn(size, **ripples)[0], atol=1e-6)
                    self.assertGreater(float(np.abs(edited - before).max()), 0.003)
            for size in ({"value": 8, "spread": 20}, {"value": 8, "spread": 3, "flutter": {"amount": 2}}):
                self.assertGreater(drawn(size)[1], 15, "sizes below nothing, or of the moment, are no sum")

    def test_births_of_several_emitters_fall_into_one_water(self) -> None:
        """A stone of each of two is as two of one; one that is switched off, or not named, does not fall in."""
        line = {"shape": {"kind": "line", "length": 160, "angle": 20}, "spacing": "even", "bursts": [{"count": 2}]}
        together = self.shot(emitter=line)
        first, second = Solver(together).at(0).position.astype(float).tolist()

        def stone(place: list[float], **more: Any) -> dict[str, Any]:
            return {**self.STONE, "across": place[0], "up": place[1], **more}

        def two(also: list[str], place: list[float], **more: Any) -> Shot:
            given = self.shot({}, stone(first)).model_dump(mode="json")
            given["emitters"][0]["ripples"]["also"] = also
            return parse_shot({**given, "emitters": [*given["emitters"], stone(place, id="other", **more)]})

        def seen(also: list[str], **more: Any) -> np.ndarray:
            return np.asarray(render_frame(two(also, second, **more), 20))

        wanted, alone = render_frame(together, 20), render_frame(self.shot({}, stone(first)), 20)
        self.assertGreater(float(np.abs(wanted - alone).max()), 0.005)
        np.testing.assert_allclose(seen(["other"]), wanted, atol=2e-5)
        np.testing.assert_array_equal(seen([]), alone)
        np.testing.assert_array_equal(seen(["other"], on=False), alone)

    def test_a_picture_at_rest_is_another_when_what_falls_in_is(self) -> None:
        """Stones where drops of another die, which a wind carries."""
        drop = self.STONE | {"id": "drop", "lifespan": 0.3, "opacity": 0}
        born = self.STONE | {"id": "born", "born_of": "drop", "born_when": "at death", "bursts": [], "opacity": 0}
        known = LayerCache()
        pictures = []
        for strength in (0, 600):
            given = self.shot({}, {"bursts": []}).model_dump(mode="json")
            given["emitters"][0]["ripples"] |= {"also": ["born"], "highlight": 400}
            given["emitters"][0]["finish"] = [{"kind": "glow"}]
            given["emitters"] += [drop, born]
            given["forces"] = [{"kind": "wind", "id": "w", "strength": strength, "grip": 8}]
            given["links"] = [{"force": "w", "emitter": "drop"}]
            solver = Solver(parse_shot(given))
            pictures.append(draw_particles(solver, 25, over_plate=True, known=known).picture.copy())
            np.testing.assert_array_equal(pictures[-1], draw_particles(solver, 25, over_plate=True).picture)
        self.assertGreater(float(np.abs(pictures[0] - pictures[1]).max()), 0.002)

    def test_what_moves_leaves_a_wake(self) -> None:
        """Births per px of the source's way: behind it the water is rough, before it still."""
        moving = {
            "rate": 0.2, "rate_per": "px", "bursts": [],
            "across": {"value": 0, "keys": [{"at_s": 0, "value": -180, "joint": "straight"}, {"at_s": 2, "value": 180,
            "joint": "straight"}]},
        }  # fmt: skip
        document = self.shot({"speed": 40, "walls": False}, moving)
        off = np.abs(render_frame(document, 25)[..., 0] - render_frame(document, -1)[..., 0])
        self.assertGreater(float(off[:, 80:220].mean()), 20 * float(off[:, 320:].mean()))

    def test_drops_that_touch_water_set_it_off(self) -> None:
        drops = {"id": "rain", "shape": {"kind": "line", "length": 200}, "up": 100, "rate": 20, "direction": 270, "speed": 300,
                 "spread": 0, "lifespan": 3}  # fmt: skip
        pool = {"kind": "surface", "id": "pool", "up": -40, "outcome": "die"}
        stone = self.STONE | {
            "born_of": "rain",
            "born_when": "at touch",
            "bursts": [],
            "ripples": {"up": -60, "tilt": 70, "length": 300},
        }
        document = parse_shot({
            "width": 480, "height": 360, "background": "#808080", "emitters": [drops, stone], "forces": [pool],
            "links": [{"force": "pool", "emitter": "rain"}],
        })  # fmt: skip

        def rough(frame: int) -> float:
            return float(np.std(render_frame(document, frame)[235:270, 150:330, 0]))

        self.assertLess(rough(6), 1e-5)
        self.assertGreater(rough(40), 1e-3)

    def test_its_face_is_shown_with_grips(self) -> None:
        scene = guides(self.shot())
        shown = scene.emitters[0].shown
        self.assertTrue(any("Water" in grip.name for grip in shown.grips))
        xs = [x for line in shown.soft for x, _ in line]
        self.assertAlmostEqual(max(xs) - min(xs), 400, delta=1)

    def test_looks_move_nothing(self) -> None:
        one, other = (Solver(self.shot(r)).tracks[0].motion for r in ({}, {"height": 20, "speed": 400}))
        self.assertEqual(one, other)
        self.assertEqual(Solver(self.shot()).of(0, Fraction(1)).id.size, 0)


if __name__ == "__main__":
    unittest.main()

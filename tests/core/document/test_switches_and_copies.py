"""Parts switched off, colours as picked, copies with all that they depend on, depth, and what is under the pointer."""

import math
import unittest
from typing import Any

import numpy as np

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.document.editing.scene_edits import alone, copied, copied_with_ties
from isbjorn.core.emit.shapes.regions import in_shell
from isbjorn.core.inspect.particles import followed, shown
from isbjorn.core.render.composite.mattes import matte_of
from isbjorn.core.render.draw.context import RenderContext
from tests.core.simulate.test_forces import ONE
from tests.shots import force, newborn, one_emitter


class Off(unittest.TestCase):
    def test_each_driver_off_is_as_if_it_were_not_there(self) -> None:
        drivers: dict[str, dict[str, Any]] = {
            "spread": {"spread": 4}, "over life": {"over_life": {"points": [{"at": 0, "value": 0}, {"at": 1, "value": 1}]}},
            "keys": {"keys": [{"at_s": 0, "value": 3}, {"at_s": 3, "value": 20}]}, "flutter": {"flutter": {"amount": 4}},
            "source": {"source": {"measure": "emitter speed", "high": 100, "makes_low": 2, "makes_high": 5}},
        }  # fmt: skip
        plain = Solver(one_emitter(emitter={"size": 10})).at(40)
        for name, driver in drivers.items():
            on = one_emitter(emitter={"size": {"value": 10, **driver}})
            off = one_emitter(emitter={"size": {"value": 10, **driver, "off": [name]}})
            self.assertFalse(np.array_equal(Solver(on).at(40).size, plain.size), name)
            np.testing.assert_array_equal(Solver(off).at(40).size, plain.size, name)
            self.assertEqual(Shot.model_validate(off.model_dump(mode="json")), off)

    def test_a_whole_number_off_is_as_it_is_untouched(self) -> None:
        tuned = one_emitter(
            emitter={
                "hue": {"value": 90, "spread": 20, "off": ["all"]},
                "colour": {"colours": [{"at": 0, "colour": "#ff8000"}]},
            }
        )
        plain = one_emitter(emitter={"colour": {"colours": [{"at": 0, "colour": "#ff8000"}]}})
        np.testing.assert_array_equal(Solver(tuned).at(40).colour, Solver(plain).at(40).colour)

    def test_shape_trail_lines_and_heads(self) -> None:
        whole = {"shape": {"kind": "disc"}, "trail": {}, "lines": {}, "heads": {}, "skin": {}}
        off = {
            **whole,
            "shape_on": False,
            "trail": {"on": False},
            "lines": {"on": False},
            "heads": {"on": False},
            "skin": {"on": False},
        }
        small = {"width": 160, "height": 90}
        bare = render_frame(one_emitter(emitter={"shape": {"kind": "point"}}, **small), 20)
        np.testing.assert_array_equal(render_frame(one_emitter(emitter=off, **small), 20), bare)
        self.assertGreater(float(np.abs(render_frame(one_emitter(emitter=whole, **small), 20) - bare).max()), 0.01)

    def test_what_has_nothing_off_is_the_same_shot(self) -> None:
        shot = one_emitter()
        self.assertEqual(effective_shot(shot), shot)


class Dealt(unittest.TestCase):
    COLOURS = (
        {"at": 0, "colour": "#ff0000", "weight": 3},
        {"at": 0.5, "colour": "#00ff00"},
        {"at": 1, "colour": "#0000ff", "weight": 0},
    )

    def colours(self, **more: Any) -> np.ndarray:
        emitter = {
            "rate": 0,
            "bursts": [{"count": 4000}],
            "colour": {"colours": self.COLOURS, "mix": "stepped"},
            **more,
        }
        return Solver(one_emitter(emitter=emitter)).at(10).colour

    def test_by_chance_each_gets_one_of_the_picked_by_their_weights(self) -> None:
        found = self.colours(colour_by="random")
        red, green = (found == [1, 0, 0]).all(axis=1), (found == [0, 1, 0]).all(axis=1)
        self.assertTrue((red | green).all())
        self.assertAlmostEqual(float(red.mean()), 0.75, delta=0.03)

    def test_by_other_measures_nothing_is_mixed(self) -> None:
        for by, more in (("age", {}), ("speed", {"speed": {"value": 150, "spread": 140}, "colour_to": 300})):
            found = np.unique(self.colours(colour_by=by, **more).round(3), axis=0)
            self.assertTrue(all(row in ([1, 0, 0], [0, 1, 0], [0, 0, 1]) for row in found.tolist()), found)


class Copies(unittest.TestCase):
    def shot(self) -> Shot:
        return one_emitter(
            emitter={"across": 100, "up": 40, "direction": 30, "rate": 300, "spread": 20, "spin": 50},
            forces=[force("attractor", across=300, strength=400, zone="z"), force("wind", direction=20, strength=80)],
            zones=[{"id": "z", "across": 300}],
        )  # fmt: skip

    def test_a_copy_takes_along_what_it_depends_on(self) -> None:
        made = copied_with_ties(self.shot(), "e")
        self.assertEqual((len(made.emitters), len(made.forces), len(made.zones)), (2, 4, 2))
        old, new = made.emitters
        self.assertEqual({f.id for f in made.reaching(old)} & {f.id for f in made.reaching(new)}, set())
        self.assertNotEqual(old.seed, new.seed)

    def test_a_mirrored_one_flies_as_a_mirror_shows_it(self) -> None:
        for axis, row in (("across", 0), ("up", 1)):
            made = copied_with_ties(self.shot(), "e", axis)  # type: ignore[arg-type]
            same = made.model_copy(update={"emitters": tuple(e.model_copy(update={"seed": 1}) for e in made.emitters)})
            solver = Solver(same)
            t = same.seconds(60)
            a, b = (solver.of(n, t).position.astype(float) for n in (0, 1))
            # Draws are not mirrored, so the streams are compared as a whole.
            a[:, row] *= -1
            np.testing.assert_allclose(a.mean(axis=0), b.mean(axis=0), atol=6)
            np.testing.assert_allclose(a.std(axis=0), b.std(axis=0), atol=6)

    def test_any_thing_can_be_mirrored(self) -> None:
        shot = one_emitter(
            forces=[{"kind": "follow", "id": "f", "points": [{"x": 10, "y": 5, "leave": [3, 4]}, {"x": 90, "y": 0}]}]
        )
        made = copied(shot, "f", "across").forces[-1]
        self.assertEqual((made.points[0].x, made.points[0].leave), (-10, (-3, 4)))


class Groups(unittest.TestCase):
    def test_a_force_reaches_a_group(self) -> None:
        emitters = [{"id": n, "group": "g" if n != "c" else None, "speed": 0, "rate": 50} for n in "abc"]
        given = {"emitters": emitters, "groups": [{"id": "g"}], "forces": [force("wind", strength=200)]}
        shot = Shot.model_validate({**given, "links": [{"force": "wind", "emitter": "g"}]})
        solver, t = Solver(shot), shot.seconds(50)
        moved = [float(np.abs(solver.of(n, t).velocity).max()) for n in range(3)]
        self.assertGreater(min(moved[:2]), 20)
        self.assertEqual(moved[2], 0)
        self.assertEqual(len(alone(shot, "a").forces), 1)


class Deep(unittest.TestCase):
    def test_what_is_farther_is_drawn_first_across_emitters(self) -> None:
        def disc(name: str, depth: float, colour: str, **more: Any) -> dict[str, Any]:
            look = {"size": 80, "body": {"kind": "hard disc"}, "colour": {"colours": [{"at": 0, "colour": colour}]}}
            return {**ONE, **look, "id": name, "depth": depth, "shape": {"kind": "point"}, **more}

        small = {"width": 160, "height": 90}
        for more in ({}, {"finish": [{"kind": "tint", "amount": 0}]}):
            emitters = [disc("near", 100, "#ff0000", **more), disc("far", -100, "#00ff00", **more)]
            for sorting, channel in (("as in the cast", 1), ("by depth", 0)):
                camera = {"kind": "perspective", "sorting": sorting}
                picture = render_frame(Shot.model_validate({"emitters": emitters, "camera": camera, **small}), 5)
                self.assertGreater(float(picture[45, 80, channel]), 0.9, (sorting, more))

    def test_a_body_that_is_turned_in_depth_is_foreshortened(self) -> None:
        def extent(**turned: Any) -> tuple[float, float]:
            emitter = {**ONE, "body": {"kind": "square", "softness": 0}, "size": 100, **turned}
            alpha = render_frame(one_emitter(emitter=emitter, width=200, height=200), 5)[..., 3]
            return float((alpha.max(axis=0) > 0.5).sum()), float((alpha.max(axis=1) > 0.5).sum())

        side = extent()[0]
        np.testing.assert_allclose(extent(turn_y=60), (side / 2, side), atol=2)
        np.testing.assert_allclose(extent(turn_x=60), (side, side / 2), atol=2)
        np.testing.assert_allclose(extent(spin_y=300), extent(turn_y=60), atol=2)


class Pointed(unittest.TestCase):
    def test_a_particle_has_its_numbers_its_past_and_its_way(self) -> None:
        shot = one_emitter(emitter={"rate": 20, "speed": 200, "direction": 0, "lifespan": 3})
        solver = Solver(shot)
        p = solver.at(50)
        one = shown(solver, 50)[4]
        found = followed(solver, 50, *one.at)
        assert found is not None
        self.assertEqual(found.seen.id, one.id)
        i = int(np.flatnonzero(p.id == one.id)[0])
        self.assertAlmostEqual(found.seen.age, float(p.age[i]), places=3)
        self.assertAlmostEqual(found.past[0][0], 640, delta=3)
        self.assertAlmostEqual(found.past[-1][0], one.at[0], delta=0.1)
        self.assertAlmostEqual(found.future[-1][0], 640 + 200 * 3, delta=16)
        self.assertIsNone(followed(solver, 50, 20, 20))


class Exact(unittest.TestCase):
    def test_shells_of_paths_and_letters_are_even_by_area(self) -> None:
        t = np.linspace(0, 2 * math.pi, 361)
        ring = np.stack([100 * np.cos(t), 100 * np.sin(t), 0 * t], axis=1)
        u = np.random.default_rng(1).random((4, 60_000))
        for low, high in ((-1.0, 0.0), (0.0, 1.0), (-0.5, 0.5)):
            xy, _ = in_shell([ring], [True], 1.0, u, np.full(60_000, 50.0), low, high)
            r2 = (xy**2).sum(axis=1)
            inner, outer = (100 + 50 * low) ** 2, (100 + 50 * high) ** 2
            counts = np.histogram(r2, 8, (inner, outer))[0]
            self.assertEqual(counts.sum(), (r2 > inner - 60).sum() - ((r2 > outer) | (r2 < inner)).sum())
            np.testing.assert_allclose(counts, 7500, rtol=0.06)
        place, _ = newborn(20_000, shape={"kind": "letters", "text": "O", "fill": "shell", "thickness": 6})
        self.assertTrue(np.isfinite(place).all())

    def test_a_drawn_matte_is_as_large_as_it_says(self) -> None:
        shot = Shot.model_validate(
            {"width": 200, "height": 100, "mattes": [{"id": "m", "width": 80, "height": 40, "feather": 0}]}
        )
        solver = Solver(shot)
        cover = matte_of(shot.mattes[0], RenderContext(shot, solver, shot.seconds(0), 1.0, solver.plates), None)
        self.assertAlmostEqual(float(cover.sum()), 80 * 40, delta=8)
        self.assertEqual(float(cover[50, 59]), 0.0)
        self.assertEqual(float(cover[50, 60]), 1.0)
        self.assertEqual(float(cover[50, 139]), 1.0)
        self.assertEqual(float(cover[50, 140]), 0.0)

    def test_size_swells_by_itself(self) -> None:
        emitter = {**ONE, "bursts": [{"count": 300}], "shape": {"kind": "rectangle", "width": 900, "height": 900}}
        swell = force("displacement", strength=0, swell=60)
        found, plain = (Solver(one_emitter(emitter=emitter, forces=f)).at(5) for f in ([swell], []))
        np.testing.assert_allclose(found.position, plain.position, atol=1e-3)
        self.assertGreater(float(found.size.std()), 1)


if __name__ == "__main__":
    unittest.main()

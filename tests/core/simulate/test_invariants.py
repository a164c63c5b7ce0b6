"""The engine's promises with everything that there is: draws that nothing disturbs, motion that belongs to seconds."""

import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core import Particles, Shot, Solver, render_frame
from isbjorn.core.document import Emitter, Number
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.demo.library import shipped
from tests.shots import force, one_emitter
from tests.threads import MANY, threads

CURVE = {"points": [{"at": 0, "value": 0.4}, {"at": 1, "value": 1}]}
WORLD = (
    force("gravity", strength={"value": 2, "spread": 1}, direction={"value": 270, "spread": 20}),
    force("wind", strength={"value": 60, "flutter": {"amount": 40}}, zone="z"),
    force("drag", strength={"value": 0.4, "over_life": CURVE}),
    {**force("drag", strength=0.1, law="quadratic"), "id": "quadratic"},
    force("turbulence", octaves=2, along_z=100, frame="emitter"),
    force("displacement", swell=30),
    force("vortex", across=150, pull=0.2, lift=20),
    force(
        "attractor",
        strength={"value": 300, "keys": [{"at_s": 0, "value": 0}, {"at_s": 3, "value": 500}]},
        carried_by="m",
    ),
    force("follow", strength=40),
    force("surface", up=-180, restitution={"value": 60, "spread": 20}),
    {**force("surface", shape="sphere", radius=50, across=120, outcome="slide"), "id": "ball"},
    force("remove", zone="gone"),
)
ZONES = ({"id": "z", "radius": 260, "falloff": 120}, {"id": "gone", "across": 420, "radius": 60})
MARKERS = ({"id": "m", "across": {"value": 0, "keys": [{"at_s": 0, "value": -200}, {"at_s": 5, "value": 200}]}},)


def world(emitter: dict[str, Any] | None = None, **more: Any) -> Shot:
    """Many particles under everything that there is."""
    busy = {
        "rate": {"value": 150, "flutter": {"amount": 60}}, "cadence": "jittered", "spread": 80, "in_depth": True,
        "speed": {"value": 200, "spread": 90, "over_life": CURVE, "over_life_to": {"points": [{"at": 0, "value": 1}]}},
        "lifespan": {"value": 2, "spread": 1}, "mass": {"value": 1, "spread": 0.5}, "shape": {"kind": "sphere"},
        "across": {"value": 0, "keys": [{"at_s": 0, "value": -100}, {"at_s": 4, "value": 100}]}, "inherit": 50,
        "size": {"value": 8, "spread": 4}, "pre_roll_s": 1, "bursts": [{"at_s": 1, "count": 60}], "speed_limit": 600,
    }  # fmt: skip
    return one_emitter(
        emitter={**busy, **(emitter or {})}, forces=list(WORLD), zones=list(ZONES), markers=list(MARKERS), **more
    )


def same(one: Particles, two: Particles, names: tuple[str, ...] = Particles.names()) -> None:
    for name in names:
        np.testing.assert_array_equal(one[name], two[name], err_msg=name)


class SameDocumentSamePicture(unittest.TestCase):
    def test_in_any_order_and_on_any_number_of_threads(self) -> None:
        shot = world()
        wandering = Solver(shot)
        for frame in (120, 7, 64, 65, 0):
            with threads(1 if frame % 2 else 2):
                found = wandering.at(frame)
            with threads(2 if frame % 2 else 1):
                same(found, Solver(shot).at(frame))
        with threads(1):
            alone = render_frame(shot, 64, 0.25)
        with threads(MANY):
            np.testing.assert_array_equal(render_frame(shot, 64, 0.25), alone)

    def test_a_spread_disturbs_no_other_draw(self) -> None:
        plain = Solver(world()).at(60)
        looks = {
            "opacity": ("opacity",), "brightness": ("colour",), "red": ("colour",), "green": ("colour",), "blue": ("colour",),
            "angle": ("angle",), "spin": ("angle",), "turn_x": (), "turn_y": (), "spin_x": (), "spin_y": (),
        }  # fmt: skip
        for field, changes in looks.items():
            found = Solver(world({field: {"value": 50, "spread": 20}})).at(60)
            with self.subTest(field):
                same(found, plain, tuple(n for n in Particles.names() if n not in changes))

    def test_every_number_of_birth_leaves_the_others_alone(self) -> None:
        base = {"rate": 200, "lifespan": 2, "spread": 40, "shape": {"kind": "disc"}, "size": {"value": 9, "spread": 4}}
        plain = Solver(one_emitter(emitter=base)).at(60)
        touches = {
            "across": {"position"}, "up": {"position"}, "depth": {"position"}, "size": {"size"},
            "direction": {"position", "velocity"}, "tilt": {"position", "velocity"}, "speed": {"position", "velocity"},
            "inherit": {"position", "velocity"}, "mass": set(), "lifespan": {"life", "age01"},
        }  # fmt: skip
        for field, own in touches.items():
            value = getattr(Emitter(), field).value
            changed = {**base, field: {"value": base.get(field, value) if isinstance(base.get(field), int) else value}}
            if field in ("size", "speed"):
                changed[field] = {"value": 9 if field == "size" else 100}
            if field == "direction":
                changed[field] = {"value": 90}
            changed[field]["spread"] = 0.5
            found = Solver(one_emitter(emitter=changed)).at(60)
            kept = np.isin(plain.id, found.id)
            rows = np.searchsorted(found.id, plain.id[kept])
            for name in Particles.names():
                if name not in own:
                    with self.subTest(field=field, name=name):
                        np.testing.assert_array_equal(found[name][rows], plain[name][kept])

    def test_every_number_has_a_spread_that_was_tried(self) -> None:
        spreads = {
            name
            for name, field in Emitter.model_fields.items()
            if field.annotation is Number and any(getattr(m, "spread", False) for m in field.metadata)
        }
        tried = {
            "opacity", "brightness", "red", "green", "blue", "angle", "spin", "across", "up", "depth", "size", "direction", "tilt",
            "speed", "inherit", "mass", "lifespan", "hue", "saturation", "lightness", "stretch",
            "turn_x", "turn_y", "spin_x", "spin_y",
        }  # fmt: skip
        self.assertEqual(spreads, tried)

    def test_an_added_force_keeps_the_draws_of_the_others(self) -> None:
        shot = world()
        nothing = force("gravity", strength=0)
        more = shot.model_copy(
            update={"forces": (*shot.forces, *Shot.model_validate({"forces": [{**nothing, "id": "0"}]}).forces)}
        )
        more = more.model_copy(update={"links": (*shot.links, shot.links[0].model_copy(update={"force": "0"}))})
        same(Solver(more).at(50), Solver(shot).at(50))


class MotionBelongsToSeconds(unittest.TestCase):
    def test_the_same_seconds_at_every_rate(self) -> None:
        reference = Solver(world(rate="50", last_frame=199)).at_seconds(Fraction(3))
        self.assertGreater(len(reference), 200)
        for rate in ("24", "25", "30000/1001", "30", "50", "60"):
            shot = world(rate=rate, last_frame=239)
            same(Solver(shot).at(Fraction(3) * shot.frame_rate), reference)

    def test_between_lattice_steps_nothing_jumps(self) -> None:
        # Straight through the lattice in sub-frames: no step is longer than speeds allow.
        solver, before = Solver(world()), None
        for part in range(60):
            found = solver.at_seconds(Fraction(2) + Fraction(part, 600))
            if before is not None:
                shared, a, b = np.intersect1d(before.id, found.id, return_indices=True)
                self.assertGreater(len(shared), 100)
                step = np.linalg.norm(found.position[b] - before.position[a], axis=1)
                self.assertLess(float(step.max()), 4)
            before = found


class Kept(unittest.TestCase):
    def test_a_look_edit_finds_the_states_of_any_world_again(self) -> None:
        cache = StateCache()
        Solver(world(), cache).at(80)
        before = cache.bytes
        edit = {"opacity": 30, "colour": {"colours": [{"at": 0, "colour": "#112233"}]}, "spin": 90, "tint": []}
        Solver(world(edit), cache).at(80)
        self.assertEqual(cache.bytes, before)

    def test_every_edit_of_motion_is_seen(self) -> None:
        cache = StateCache()
        Solver(world(), cache).at(60)
        edits: list[dict[str, Any]] = [
            {"size": 30}, {"mass": 2}, {"inherit": 0}, {"speed_limit": 100}, {"stays": "along"}, {"spacing": "even"}, {"turn": 90},
            {"delay_s": 0.5}, {"bursts": []}, {"toward": "outward"}, {"tilt": 30}, {"scale": 50}, {"carried_by": "m"},
        ]  # fmt: skip
        for edit in edits:
            with self.subTest(edit):
                same(Solver(world(edit), cache).at(60), Solver(world(edit)).at(60))
        moved = world()
        for update in (
            {"markers": (moved.markers[0].model_copy(update={"up": Number(value=90)}),)},
            {"zones": (moved.zones[0].model_copy(update={"inverted": True}), moved.zones[1])},
        ):
            shot = moved.model_copy(update=update)
            same(Solver(shot, cache).at(60), Solver(shot).at(60))

    def test_bytes_in_a_world(self) -> None:
        solver = Solver(world())
        self.assertLessEqual(solver.cache.bytes / max(1, len(solver.at(120))), 96)


class Library(unittest.TestCase):
    def test_every_shipped_emitter_shows_something(self) -> None:
        self.assertGreater(len(shipped()), 8)
        for tags, shot in shipped():
            with self.subTest(shot.name):
                self.assertTrue(tags)
                alone = shot.model_copy(update={"background": None})
                self.assertTrue(any(render_frame(alone, f, 0.1)[..., :3].max() > 0.01 for f in (25, 40, 49)))


if __name__ == "__main__":
    unittest.main()

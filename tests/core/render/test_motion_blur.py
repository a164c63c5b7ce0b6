"""Motion blur compared with the mean of many pictures, its exposure, and births and deaths while the shutter is open."""

import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from isbjorn.core import Shot, Solver, render_frame
from isbjorn.core.frame import draw_particles
from isbjorn.core.render.raster.blurred_discs import PIECES, draw_smears, smears_of
from isbjorn.core.render.raster.profiles import HARD, SOFT, edge
from isbjorn.core.render.scene.exposure import is_among
from tests.shots import drag, force, gravity, one_emitter


def opened(shot: Shot, angle: float, phase: float = 0) -> Shot:
    given = shot.model_dump(mode="json")
    given["camera"] |= {"shutter": angle, "shutter_phase": phase}
    return Shot.model_validate(given)


def reference(shot: Shot, frame: int, angle: float, phase: float = 0, samples: int = 64) -> np.ndarray:
    """The mean of pictures taken while the shutter is open."""
    solver, total = Solver(shot), 0.0
    for k in range(samples):
        at = (
            frame
            + Fraction(phase / 360).limit_denominator()
            + Fraction(angle / 360).limit_denominator() * Fraction(2 * k + 1, 2 * samples)
        )
        total = total + render_frame(shot, at, solver=solver).astype(float)
    return np.asarray(total / samples)


def apart(shot: Shot, angle: float, frame: int = 30, phase: float = 0) -> float:
    """How far the blur is from its reference, of all the light there is."""
    wanted = reference(shot, frame, angle, phase)
    found = render_frame(opened(shot, angle, phase), frame)
    return float(np.abs(found - wanted).sum() / wanted.sum())


def flying(**emitter: Any) -> Shot:
    """Few large additive particles, without overlap."""
    return one_emitter(
        width=320,
        height=240,
        emitter={"rate": 6, "blend": "add", "size": 9, "speed": 160, "direction": 40, "up": -60, **emitter},
    )


class Among(unittest.TestCase):
    def test_membership_of_ids_in_any_order(self) -> None:
        draws = np.random.default_rng(3)
        for case in range(300):
            some, others = draws.integers(0, 40, 2)
            known, ids = np.unique(draws.integers(0, 60, some)), draws.integers(-3, 66, others)
            ids = np.sort(ids) if case % 2 else ids
            np.testing.assert_array_equal(is_among(known, ids), np.isin(ids, known))


class AgainstManySamples(unittest.TestCase):
    def test_discs_on_a_straight_way(self) -> None:
        for angle in (90, 180, 360):
            with self.subTest(angle=angle):
                self.assertLess(apart(flying(), angle), 0.02)

    def test_discs_on_a_bent_way(self) -> None:
        shot = one_emitter(
            width=320, height=240, forces=[gravity(900), drag(0.8)],
            emitter={"rate": 6, "blend": "add", "size": 8, "speed": 420, "direction": 70, "up": -80},
        )  # fmt: skip
        for angle in (180, 720):
            with self.subTest(angle=angle):
                self.assertLess(apart(shot, angle), 0.06)

    def test_each_pixel_of_a_disc_is_its_mean_over_time(self) -> None:
        """Against the cover at three thousand moments, of discs of any edge, that go straight or turn off, and at any size."""
        draws = np.random.default_rng(5)
        y, x = np.mgrid[0:40, 0:60] + 0.5
        for profile, inner, radius in (
            (HARD, 0.7, 6.0),
            (HARD, 0.95, 2.5),
            (SOFT, 0.0, 5.0),
            (SOFT, 0.6, 8.0),
            (SOFT, 0.0, 2.1),
        ):
            for turns_off in (False, True):
                first, last = draws.uniform((5, 5), (55, 35), (2, 2))
                places = first + np.linspace(0, 1, PIECES + 1)[:, None] * (last - first)
                places[2] += (6, -4) if turns_off else 0
                smear = smears_of(
                    places[None], np.full((1, PIECES), 1 / PIECES), np.array([radius]), np.array([[1, 1, 1, 1.0]]),
                    np.array([inner]), profile, True,
                )  # fmt: skip
                found = np.zeros((40, 60, 4), np.float32)
                draw_smears(smear, found)
                c0, c1 = edge(inner, radius, profile)
                wanted = np.zeros((40, 60))
                for t in (np.arange(3000) + 0.5) / 3000 * PIECES:
                    at = places[int(t)] + (t % 1) * (places[int(t) + 1] - places[int(t)])
                    q = np.clip(c0 - c1 * ((x - at[0]) ** 2 + (y - at[1]) ** 2), 0, 1)
                    wanted += (q if profile == HARD else q * q * (3 - 2 * q)) / 3000
                with self.subTest(profile=profile, inner=inner, turns_off=turns_off):
                    np.testing.assert_allclose(found[..., 3], wanted, atol=1.5e-3)
                    self.assertGreaterEqual(float(found.min()), 0)

    def test_other_bodies(self) -> None:
        for kind in ("star", "streak", "words"):
            with self.subTest(kind):
                self.assertLess(apart(flying(body={"kind": kind}, size=16, facing="motion"), 180), 0.08)

    def test_a_body_that_covers_is_covered_by_the_mean(self) -> None:
        shot = one_emitter(width=320, height=240, emitter={"rate": 2, "size": 20, "speed": 300, "up": -100})
        self.assertLess(apart(shot, 180, 20), 0.02)

    def test_turbulence(self) -> None:
        shot = one_emitter(
            width=320, height=240, forces=[force("turbulence", strength=300, size=80, grip=3)],
            emitter={"rate": 8, "blend": "add", "size": 8, "speed": 120, "up": -40},
        )  # fmt: skip
        self.assertLess(apart(shot, 180), 0.06)

    def test_bodies_on_strands_that_sway(self) -> None:
        strand = {"joints": 6, "line": False, "bodies": "at all joints", "length": 90}
        wind = force("wind", strength=420, grip=3, direction=0)
        emitter = {
            "rate": 0,
            "bursts": [{"count": 5}],
            "blend": "add",
            "size": 6,
            "speed": 0,
            "across": 0,
            "strand": strand,
        }
        shot = one_emitter(width=320, height=240, forces=[wind], emitter=emitter)
        self.assertLess(apart(shot, 180, frame=4), 0.03)


class Exposure(unittest.TestCase):
    def test_light_stays_whatever_the_speed(self) -> None:
        for size in (0.6, 2, 12):
            shot = flying(size=size, lifespan=9, limit=3)
            sharp = float(render_frame(shot, 30)[..., 0].sum())
            for angle in (45, 180, 360):
                with self.subTest(size=size, angle=angle):
                    self.assertAlmostEqual(
                        float(render_frame(opened(shot, angle), 30)[..., 0].sum()) / sharp, 1, delta=0.02
                    )

    def test_phase_says_when_it_opens(self) -> None:
        shot = flying(rate=0, bursts=[{"count": 1}], direction=0, speed=250, lifespan=9)

        def middle(phase: float) -> float:
            light = render_frame(opened(shot, 180, phase), 10)[..., 0].astype(float)
            return float((light * np.arange(320)).sum() / light.sum())

        # 250 px/s at 25 fps: 10 px a frame; a shutter of 180° that opens at the frame has its middle 2.5 px further on.
        sharp = render_frame(shot, 10)[..., 0].astype(float)
        here = float((sharp * np.arange(320)).sum() / sharp.sum())
        self.assertAlmostEqual(middle(0) - here, 2.5, delta=0.1)
        self.assertAlmostEqual(middle(-90) - here, 0, delta=0.1)

    def test_particles_born_or_dying_meanwhile_are_exposed_for_that_long(self) -> None:
        # Open for a whole frame of 0.04 s, from frame 10: born at 0.41 s, three quarters are left.
        born = flying(rate=0, bursts=[{"count": 1, "at_s": 0.41}], lifespan=9)
        full = flying(rate=0, bursts=[{"count": 1, "at_s": 0.1}], lifespan=9)
        dies = flying(rate=0, bursts=[{"count": 1, "at_s": 0.1}], lifespan=0.32)
        light = [float(render_frame(opened(s, 360), 10)[..., 0].sum()) for s in (full, born, dies)]
        self.assertAlmostEqual(light[1] / light[0], 0.75, delta=0.02)
        self.assertAlmostEqual(light[2] / light[0], 0.5, delta=0.02)

    def test_an_emitter_may_stay_sharp_and_a_free_look_is(self) -> None:
        shot = flying()
        sharp = flying(motion_blur=False)
        np.testing.assert_array_equal(render_frame(opened(sharp, 180), 30), render_frame(shot, 30))

    def test_it_is_the_same_picture_again_whatever_was_seen_before(self) -> None:
        shot = opened(flying(lifespan={"value": 1, "spread": 0.5}, spread=90), 180)
        fresh = render_frame(shot, 33)
        solver = Solver(shot)
        for frame in (60, 2, 34):
            render_frame(shot, frame, solver=solver)
        np.testing.assert_array_equal(render_frame(shot, 33, solver=solver), fresh)


if __name__ == "__main__":
    unittest.main()


class InHaste(unittest.TestCase):
    """What a draft leaves out."""

    def test_the_shutter_is_as_if_it_were_closed(self) -> None:
        shot = opened(flying(), 180)
        rough = draw_particles(Solver(shot), 30, rough=1).picture
        closed = draw_particles(Solver(opened(flying(), 0)), 30).picture
        np.testing.assert_allclose(rough, closed, atol=1e-6)
        self.assertGreater(np.abs(draw_particles(Solver(shot), 30).picture - closed).max(), 0.05)

    def test_of_many_particles_some_are_left_out_the_same_ones_at_every_frame(self) -> None:
        crowd = {"rate": 0, "bursts": [{"count": 50_000}], "lifespan": 0, "speed": 3, "size": 1, "tint": []}
        shot = opened(one_emitter(width=320, height=240, emitter=crowd), 180)
        solver = Solver(shot)
        seen = [draw_particles(solver, frame, rough=2).particles for frame in (5, 6)]
        self.assertEqual([len(p) for p in seen], [6_250, 6_250])
        np.testing.assert_array_equal(seen[0].id, seen[1].id)
        whole = draw_particles(solver, 5).particles
        self.assertEqual(len(whole), 50_000)
        np.testing.assert_array_equal(seen[0].position, whole.position[np.isin(whole.id, seen[0].id)])
        few = opened(flying(), 180)
        self.assertEqual(
            len(draw_particles(Solver(few), 30, rough=2).particles),
            len(draw_particles(Solver(few), 30).particles),
        )

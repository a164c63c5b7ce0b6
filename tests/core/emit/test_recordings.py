"""Recorded particles: a file replaces the motion of an emitter."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock
from weakref import WeakSet

import numpy as np
from pxr import Gf, Usd, UsdGeom, Vt

from isbjorn.core import Solver
from isbjorn.core.deliver.delivery import deliver
from isbjorn.core.document import Shot
from isbjorn.core.document.emitter_parts.recording import Recording
from isbjorn.core.document.files import parse_shot
from isbjorn.core.emit.recorded import recorded_of, save_recorded
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate import external_files
from isbjorn.core.evaluate.external_files import digest_of
from isbjorn.core.frame import render_frame
from isbjorn.core.inspect.guides import guides
from isbjorn.core.media.exchange.recordings import ParticleSample, recorded, take_points

SPARKS: dict[str, Any] = {
    "width": 640, "height": 360, "last_frame": 50,
    "emitters": [{"id": "a", "name": "Sparks", "rate": 150, "lifespan": {"value": 0.8, "spread": 0.3},
                  "size": {"value": 9, "spread": 4}},
                 {"id": "b", "name": "Slow", "rate": 10, "lifespan": 0, "speed": 20}],
    "forces": [{"kind": "turbulence", "id": "t"}], "links": [{"force": "t", "emitter": "a"}],
}  # fmt: skip


def sample(t: float, ids: list[int], x: list[float], **known: list[float]) -> ParticleSample:
    n = len(ids)
    place = np.zeros((n, 3))
    place[:, 0] = x
    velocity = np.full((n, 3), np.nan)
    columns = {name: np.array(known.get(name, [np.nan] * n)) for name in ("age", "life")}
    return ParticleSample(t, np.array(ids), place, velocity, columns["age"], columns["life"])


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def taken(self, files: list[Path], shot: Shot) -> dict[str, Any]:
        found = take_points([str(f) for f in files], shot.model_dump_json(), str(self.folder))
        return {one.name: {"media": str(self.folder / one.path), "digest": one.digest} for one in found}

    def standing_in(self, made: dict[str, Any], **more: Any) -> Shot:
        emitters = [{**e, "recording": made[e["name"]], **more} for e in SPARKS["emitters"]]
        return parse_shot({**SPARKS, "emitters": emitters})


class ThereAndBack(Folder):
    """What was delivered as data, and taken in again, is where it was."""

    def test_every_format(self) -> None:
        shot = parse_shot(SPARKS)
        for form, name in (("usd", "p"), ("npz", "p.{frame}"), ("csv", "p.{frame}"), ("parquet", "p.{frame}")):
            with self.subTest(form):
                files = deliver(shot, self.folder / form, name, format=form, existing="refuse", processes=1)
                other = self.standing_in(self.taken(files, shot))
                ours, theirs = Solver(shot), Solver(other)
                for frame in (1, 7, 30, 49, 50, 12):
                    a, b = ours.at(frame), theirs.at(frame)
                    self.assertEqual(len(a), len(b))
                    for name_of in ("position", "velocity"):
                        np.testing.assert_allclose(a[name_of], b[name_of], atol=2e-4)
                    np.testing.assert_allclose(a.age, b.age, atol=1e-5)
                    np.testing.assert_allclose(a.life, b.life, rtol=1e-6)
                a, b = ours.at(Fraction(61, 2)), theirs.at(Fraction(61, 2))
                self.assertEqual(len(a), len(b))
                # Over a frame of a 25th of a second, a cubic through places and velocities.
                np.testing.assert_allclose(a.position, b.position, atol=0.3)

    def test_its_looks_are_its_own_and_its_place_sets_it_into_the_shot(self) -> None:
        shot = parse_shot(SPARKS)
        made = self.taken(
            deliver(shot, self.folder / "n", "p.{frame}", format="npz", existing="refuse", processes=1), shot
        )
        plain, moved = self.standing_in(made), self.standing_in(made, across=100, turn=90, scale=200, size=3)
        p, m = Solver(plain).at(30), Solver(moved).at(30)
        x, y = p.position[:, 0], p.position[:, 1]
        np.testing.assert_allclose(m.position[:, 0], 100 - 2 * y, atol=1e-3)
        np.testing.assert_allclose(m.position[:, 1], 2 * x, atol=1e-3)
        np.testing.assert_allclose(m.velocity[:, 1], 2 * p.velocity[:, 0], atol=1e-3)
        self.assertTrue((m.size == 3).all())

    def test_forces_do_not_move_it_and_it_begins_at_its_start(self) -> None:
        shot = parse_shot(SPARKS)
        made = self.taken(
            deliver(shot, self.folder / "n", "p.{frame}", format="npz", existing="refuse", processes=1), shot
        )
        later = {name: {**one, "at_s": 0.4} for name, one in made.items()}
        wind = {"forces": [{"kind": "wind", "id": "t", "strength": 500}]}
        one, blown = self.standing_in(later), parse_shot({**self.standing_in(later).model_dump(mode="json"), **wind})
        self.assertEqual(len(Solver(one).at(9)), 0)
        np.testing.assert_allclose(
            Solver(one).at(30).position, Solver(self.standing_in(made)).at(20).position, atol=1e-4
        )
        np.testing.assert_array_equal(Solver(one).at(30).position, Solver(blown).at(30).position)

    def test_any_frame_first_and_drawn_and_shown(self) -> None:
        shot = parse_shot(SPARKS)
        made = self.taken(
            deliver(shot, self.folder / "n", "p.{frame}", format="npz", existing="refuse", processes=1), shot
        )
        other = self.standing_in(made)
        there = Solver(other)
        for frame in (40, 3, 41):
            np.testing.assert_array_equal(there.at(frame).position, Solver(other).at(frame).position)
        np.testing.assert_allclose(render_frame(other, 30), render_frame(shot, 30), atol=0.02)
        shown = guides(other, 30)
        self.assertEqual(len(shown.emitters[0].flights), 40)
        self.assertGreater(shown.cost.fixed_ms, 0)

    def test_spawned_particles_leave_from_it(self) -> None:
        shot = parse_shot(SPARKS)
        made = self.taken(
            deliver(shot, self.folder / "n", "p.{frame}", format="npz", existing="refuse", processes=1), shot
        )
        base = self.standing_in(made).model_dump(mode="json")
        child = {
            "id": "c",
            "name": "Child",
            "born_of": "a",
            "rate": 20,
            "lifespan": 5,
            "speed": 0,
            "shape": {"kind": "point"},
        }
        both = Solver(parse_shot({**base, "emitters": [*base["emitters"], child]})).at(25)
        first = Solver(parse_shot({**SPARKS, "emitters": [*SPARKS["emitters"], child]})).at(25)
        ours, theirs = first.position[first.emitter == 2], both.position[both.emitter == 2]
        self.assertGreater(len(ours), 50)
        np.testing.assert_allclose(np.sort(ours[:, 0]), np.sort(theirs[:, 0]), atol=0.3)


class FromAnyone(Folder):
    """Points of other programs."""

    def test_usd_in_metres_and_with_z_up(self) -> None:
        path = self.folder / "theirs.usda"
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        stage.SetTimeCodesPerSecond(24)
        UsdGeom.Xform.Define(stage, "/Set").AddTranslateOp().Set(Gf.Vec3d(10, 0, 0))
        points = UsdGeom.PointInstancer.Define(stage, "/Set/Dust")
        for code in (0, 12, 24):
            points.GetPositionsAttr().Set(Vt.Vec3fArray([(0, 0, code * 10.0), (5, 0, 0)]), code)
        stage.GetRootLayer().Save()
        shot = parse_shot({"px_per_metre": 100})
        made = self.taken([path], shot)
        found = Solver(parse_shot({"emitters": [{"recording": made["Dust"], "size": 4}]})).at(15)
        # Up is z there; a unit is a centimetre, and a px; 0.6 s are 14.4 codes.
        np.testing.assert_allclose(found.position, [[10, 144, 0], [15, 0, 0]], atol=1e-3)
        np.testing.assert_allclose(found.velocity, [[0, 240, 0], [0, 0, 0]], atol=1e-2)

    def test_births_and_deaths_between_samples_fall_in_the_middle(self) -> None:
        made = recorded(
            [sample(0, [1], [0]), sample(0.1, [1, 2], [1, 50]), sample(0.2, [2], [60]), sample(0.3, [2], [70])]
        )
        np.testing.assert_allclose(made.moments, [0, 0.05])
        np.testing.assert_allclose(made.moments + made.lives, [0.15, 0.35], atol=1e-6)
        np.testing.assert_allclose(made.velocity[:, 0], [10, 10, 100, 100, 100], atol=1e-4)

    def test_a_particle_that_was_missing_is_a_new_one(self) -> None:
        made = recorded(
            [
                sample(0, [1], [0]),
                sample(0.1, [1], [1]),
                sample(0.2, [], []),
                sample(0.3, [1], [9]),
                sample(0.4, [1], [9]),
            ]
        )
        self.assertEqual(len(made), 2)

    def test_parabolas_are_followed_without_velocities(self) -> None:
        t = np.linspace(0, 2, 51)
        made = recorded([sample(at, [7], [30 * at - 20 * at * at], age=[at], life=[9.0]) for at in t])
        save_recorded(made, self.folder / "r.npz")
        one = {"media": str(self.folder / "r.npz"), "digest": digest_of(self.folder / "r.npz")}
        there = Solver(parse_shot({"emitters": [{"recording": one}]}))
        for frame in (Fraction(31, 4), 20, Fraction(81, 2)):
            at = float(frame) / 25
            self.assertAlmostEqual(float(there.at(frame).position[0, 0]), 30 * at - 20 * at * at, places=3)

    def test_tables_with_plain_names(self) -> None:
        for n in range(3):
            (self.folder / f"dots.{n:03d}.csv").write_text(f"id,x,y\n4,{n * 10},2\n9,{n * 20},3\n")
        made = self.taken(sorted(self.folder.glob("*.csv")), parse_shot({}))
        found = Solver(parse_shot({"emitters": [{"recording": made["dots"]}]})).at(1)
        np.testing.assert_allclose(found.position, [[10, 2, 0], [20, 3, 0]], atol=1e-4)


class Refused(Folder):
    """An invalid file is reported, and nothing of it is used."""

    def test_files_that_are_none(self) -> None:
        shot = parse_shot({})
        cases = {
            "a.usda": (b"#usda 1.0\n(((", "not an OpenUSD file"),
            "b.usdc": (b"PXR-USDC" + bytes(100), "not an OpenUSD file"),
            "c.usda": (b"#usda 1.0\n", "no points"),
            "d.1.csv": (b"\xff\xfe", "not a table"),
            "e.1.csv": (b"a,b\n1,2\n", "no positions"),
            "f.1.csv": (b"x,y\n1,two\n", "not a number"),
            "g.1.npz": (b"PK no", "not an array file"),
            "h.csv": (b"x,y\n1,2\n", "no frame number"),
            "k.1.parquet": (b"PAR1 no", "not a table"),
            "i.png": (b"", "cannot be read from"),
            "j.1.csv": (b"x,y\n", "no particles"),
        }
        for name, (content, why) in cases.items():
            with self.subTest(name), self.assertRaisesRegex(IsbjornError, why):
                (self.folder / name).write_bytes(content)
                take_points([str(self.folder / name)], shot.model_dump_json(), str(self.folder))

    def test_a_file_that_changed_or_went(self) -> None:
        # Readers of other tests may be there still.
        self.enterContext(mock.patch.object(external_files, "_FINDERS", WeakSet()))
        save_recorded(recorded([sample(0, [1], [0]), sample(1, [1], [9])]), self.folder / "r.npz")
        emitter = {"recording": {"media": str(self.folder / "r.npz"), "digest": "0" * 64}}
        with self.assertRaisesRegex(IsbjornError, "another file"):
            Solver(parse_shot({"emitters": [emitter]}))
        emitter["recording"]["media"] = str(self.folder / "none.npz")
        with self.assertRaisesRegex(IsbjornError, "missing"):
            Solver(parse_shot({"emitters": [emitter]}))

    def test_arrays_that_lie(self) -> None:
        good = recorded([sample(0, [1, 2], [0, 5]), sample(1, [1, 2], [9, 6])])
        for field, wrong in (
            ("first", np.array([0, 2, 900])), ("first", np.array([0, 0, 4])), ("lives", np.ones(1, np.float32)),
            ("times", np.zeros(4, np.float32)), ("times", np.zeros(4)), ("times", np.full(4, np.nan)),
            ("place", np.full((4, 3), np.inf, np.float32)), ("lives", np.zeros(2, np.float32)),
            ("moments", np.array([1.0, 0.0])), ("place", np.zeros((4, 2), np.float32)),
        ):  # fmt: skip
            path = self.folder / f"{field}{len(wrong)}{wrong.dtype}{float(wrong.sum())}.npz"
            save_recorded(type(good)(**{**good.__dict__, field: wrong}), path)
            with self.subTest(field), self.assertRaisesRegex(IsbjornError, "not a recording"):
                recorded_of(Recording(media=str(path), digest=digest_of(path)))

    def test_strands_and_children_have_no_recording(self) -> None:
        one = {"media": "a.npz", "digest": "0" * 64}
        for more in ({"strand": {}}, {"born_of": "a"}):
            with self.subTest(more), self.assertRaisesRegex(IsbjornError, "motion from a file"):
                parse_shot({"emitters": [{"id": "a"}, {"id": "b", "recording": one, **more}]})


if __name__ == "__main__":
    unittest.main()

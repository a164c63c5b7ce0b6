"""Changes of the cast: whatever is added, copied, planted or taken out, the shot stays whole and its ties with it."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from isbjorn.core import IsbjornError, Shot, Solver
from isbjorn.core.document import Emitter
from isbjorn.core.document.editing.scene_edits import added, alone, copied, planted, taken_out
from isbjorn.core.document.fields.references import ties_of
from isbjorn.core.document.files import parse_shot
from isbjorn.demo.beacon import beacon, first_shot
from isbjorn.demo.crowds import buoys, shoal
from isbjorn.demo.library import shipped
from isbjorn.demo.ribbon import ribbon
from isbjorn.demo.shots import bow_wave, breath, plankton

ALL = (beacon, bow_wave, breath, plankton, shoal)


def fresh() -> Emitter:
    return first_shot("y").emitters[0]


def whole(shot: Shot) -> bool:
    """Whether the shot is a valid document, with no tie to a thing that is not there."""
    ids = {thing.id for thing in shot.things}
    return parse_shot(shot.model_dump(mode="json")) == shot and all(ties_of(thing) <= ids for thing in shot.things)


class Whole(unittest.TestCase):
    @settings(max_examples=30)
    @given(st.sampled_from(ALL), st.randoms(use_true_random=False))
    def test_things_can_be_taken_out_in_any_order(self, make: object, chance: object) -> None:
        shot = make("-")  # type: ignore[operator]
        names = [thing.id for thing in shot.things]
        chance.shuffle(names)  # type: ignore[attr-defined]
        for name in names:
            shot = taken_out(shot, name)
            self.assertTrue(whole(shot), name)
        self.assertEqual(shot.things, ())

    @settings(max_examples=25)
    @given(st.lists(st.sampled_from(["emitter", "wind", "remove", "zone", "marker", "surface", "copy"]), max_size=12))
    def test_any_line_of_additions(self, kinds: list[str]) -> None:
        shot = first_shot("x")
        for kind in kinds:
            shot = copied(shot, shot.things[-1].id) if kind == "copy" else added(shot, kind, fresh)  # type: ignore[arg-type]
            self.assertTrue(whole(shot))
        names = [thing.name for thing in shot.things]
        self.assertEqual(len(names), len(set(names)))

    def test_every_shipped_emitter_can_be_planted_on_every_other(self) -> None:
        # Half of them at a time: a shot has a limit on forces.
        every = [kept for _, kept in shipped()]
        for some in (every[::2], every[1::2]):
            shot = first_shot("x")
            for kept in some:
                shot, made = planted(shot, kept)
                self.assertTrue(whole(shot))
                self.assertEqual(shot.emitters[-1].id, made)
            twice, _ = planted(shot, some[0])
            self.assertTrue(whole(twice))

    def test_what_is_planted_moves_as_it_did(self) -> None:
        seen = 0
        for _, kept in shipped():
            base = kept.model_copy(update={"emitters": (), "forces": (), "zones": (), "markers": (), "links": ()})
            shot, _ = planted(base, kept)
            one, two = Solver(kept).at(12), Solver(shot).at(12)
            with self.subTest(kept.name):
                np.testing.assert_array_equal(one.position, two.position)
            seen += len(one) > 0
        self.assertGreater(seen, 15)

    def test_forces_that_are_planted_again_draw_as_they_did(self) -> None:
        drawn = Shot.model_validate(
            {
                "emitters": [{"id": "e", "rate": 200}],
                "forces": [
                    {
                        "kind": "wind",
                        "id": "w",
                        "strength": {"value": 200, "spread": 150},
                        "direction": {"value": 0, "spread": 60},
                    },
                    {"kind": "turbulence", "id": "t", "seed": 7},
                ],
                "links": [{"force": f, "emitter": "e"} for f in ("w", "t")],
            }
        )
        first, _ = planted(drawn.model_copy(update={"emitters": (), "forces": (), "links": ()}), drawn)
        twice, name = planted(first, drawn)
        # For the second one: its births differ, so it is given those of the first.
        again = alone(twice, name).model_dump(mode="json")
        again["emitters"][0]["seed"] = drawn.emitters[0].seed
        self.assertNotEqual({f["id"] for f in again["forces"]}, {"w", "t"})
        np.testing.assert_array_equal(Solver(Shot.model_validate(again)).at(40).position, Solver(drawn).at(40).position)

    def test_an_emitter_alone_keeps_what_it_depends_on_and_nothing_else(self) -> None:
        for make, name, ties in (
            (bow_wave, "spray", {"bow"}), (plankton, "points", {"near", "oar"}), (shoal, "herring", {"seal"}),
        ):  # fmt: skip
            kept = alone(make("-"), name)
            self.assertTrue(whole(kept))
            self.assertEqual([e.id for e in kept.emitters], [name])
            self.assertEqual({t.id for t in (*kept.zones, *kept.markers)}, ties)
        with self.assertRaises(IsbjornError):
            alone(beacon("-"), "nobody")


class Demonstration(unittest.TestCase):
    def test_every_shot_draws_and_no_emitter_starves(self) -> None:
        for make in ALL[1:]:
            shot = make("-").model_copy(update={"plate": None})
            solver = Solver(shot)
            counts = [len(solver.at(f)) for f in (30, 60, 120)]
            with self.subTest(shot.name):
                self.assertGreater(max(counts), 700)
                self.assertEqual(solver.at(120).refused, {})

    def test_the_bow_wave_stays_at_the_bow(self) -> None:
        from isbjorn.demo.seas import bow_across

        shot = bow_wave("-").model_copy(update={"plate": None})
        for frame in (50, 120, 200):
            found = Solver(shot).at(frame)
            fresh = (found.emitter == 2) & (found.age < 0.05)
            self.assertAlmostEqual(float(found.position[fresh, 0].mean()), bow_across(frame / 25), delta=9)

    def test_plankton_wakes_where_the_oar_is(self) -> None:
        from isbjorn.demo.seas import oar_across

        found = Solver(plankton("-").model_copy(update={"plate": None})).at(90)
        points = found.emitter == 0
        away = np.linalg.norm(found.position[points, :2] - np.array(oar_across((90 / 25) / 4)), axis=1)
        lived = (found.age01[points] > 0.2) & (found.age01[points] < 0.8)
        near, far = found.opacity[points][(away < 40) & lived], found.opacity[points][(away > 250) & lived]
        self.assertGreater(float(near.mean()), 8 * float(far.mean()))

    def test_the_shoal_parts_where_the_seal_comes_through(self) -> None:
        from isbjorn.demo.seas import seal_at

        solver = Solver(shoal("-").model_copy(update={"plate": None}))
        for frame in (70, 95):
            found = solver.at(frame)
            herring = found.position[found.emitter == 1]
            away = np.linalg.norm(herring - np.array([*seal_at(frame / 25), 0.0]), axis=1)
            self.assertGreater(float(away.min()), 35)
            # It swims through the middle of them.
            self.assertLess(float(np.median(away)), 420)

    def test_buoys_stay_in_their_crate(self) -> None:
        from isbjorn.demo.seas import CRATE

        found = Solver(buoys("-").model_copy(update={"plate": None})).at(60)
        across, up, wide, high = CRATE
        out = np.abs(found.position[:, :2] - [across, up]) + found.size[:, None] / 2 - [wide / 2, high / 2]
        self.assertGreater(len(found), 300)
        self.assertLess(float(out.max()), 0.05)

    def test_the_ribbon_comes_round(self) -> None:
        solver = Solver(ribbon("-").model_copy(update={"plate": None}))
        a, b = solver.at(0), solver.at(200)
        np.testing.assert_array_equal(a.position, b.position)


class Plates(unittest.TestCase):
    def test_painted_plates_come_round(self) -> None:
        from isbjorn.demo import seas

        for paint, count in (
            (seas.whale(), seas.STILL_FRAMES),
            (seas.oar(), seas.OAR_FRAMES),
            (seas.depths(), seas.STILL_FRAMES),
        ):
            # The grain comes round every four frames: the count is a multiple of it, or one off it.
            first, after = paint(4).astype(int), paint(4 + count).astype(int)
            self.assertLess(float(np.abs(first - after).mean()), 3)
            self.assertEqual((first.shape, paint(0).dtype), ((720, 1280, 3), np.uint8))


if __name__ == "__main__":
    unittest.main()

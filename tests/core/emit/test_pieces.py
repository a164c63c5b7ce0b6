"""Pieces: how a shape is cut, when each piece leaves, and which particle takes which place."""

import math
import unittest

import numpy as np
from scipy.optimize import linear_sum_assignment

from isbjorn.core.document import Shot
from isbjorn.core.document.model.pieces import Assemble
from isbjorn.core.emit.pieces.cut import PieceCut, cut_of
from isbjorn.core.emit.pieces.flights import ARRIVING, Flights, flights_of
from isbjorn.core.emit.pieces.matching import matched, nearest
from isbjorn.core.errors import IsbjornError
from isbjorn.core.evaluate.geometry.coverage import covered_texels
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.simulate.track import key_of

LATTICES = ("squares", "hexagons", "shards", "strips")


def shot(pieces: dict, shape: dict | None = None, **fields: object) -> Shot:
    emitter = {
        "id": "e",
        "shape": shape or {"kind": "rectangle", "width": 300, "height": 120},
        "pieces": pieces,
        **fields,
    }
    return Shot.model_validate({"emitters": [emitter], "last_frame": 249})


def cut(pieces: dict, shape: dict | None = None) -> PieceCut:
    one = shot(pieces, shape)
    return cut_of(one.emitters[0], key_of(one, one.emitters[0]), Readings(one))


def flights(pieces: dict, shape: dict | None = None, **fields: object) -> Flights:
    one = shot(pieces, shape, **fields)
    return flights_of(one.emitters[0], key_of(one, one.emitters[0]), Readings(one))


class Coverage(unittest.TestCase):
    def test_the_coverage_of_a_turned_square_is_its_area(self) -> None:
        for turn in (0.0, 17.0, 45.0, 80.0):
            at = np.radians(turn + np.array([0, 90, 180, 270, 0]))
            line = 20 * np.stack([np.cos(at), np.sin(at)], axis=1) + [0.3, -0.7]
            found = covered_texels([line], -32.0, 32.0, 1.5, 96, 96)
            self.assertAlmostEqual(float(found.sum()) / 1.5**2, 800.0, delta=1e-3)
            self.assertLessEqual(float(found.max()), 1.0)

    def test_a_texel_that_an_edge_crosses_is_covered_by_the_part_on_one_side(self) -> None:
        triangle = np.array([[0, 0], [4, 0], [0, 4], [0, 0]], np.float64)
        found = covered_texels([triangle], 0.0, 4.0, 1.0, 4, 4)
        np.testing.assert_allclose(found, np.tril(np.ones((4, 4)), -1) + 0.5 * np.eye(4), atol=1e-6)

    def test_a_hole_is_not_covered_and_what_lies_beyond_the_sheet_is_left_out(self) -> None:
        square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]], np.float64)
        found = covered_texels([square * 20, square[::-1] * 5], -10.0, 10.0, 1.0, 20, 20)
        self.assertAlmostEqual(float(found.sum()), 300.0, delta=1e-3)


class Cuts(unittest.TestCase):
    def test_each_covered_texel_belongs_to_a_piece_at_every_resolution(self) -> None:
        for kind in LATTICES:
            found = cut({"cut": kind, "size": 11, "variation": 60}, {"kind": "letters", "text": "Rime", "height": 90})
            assert found.sheet is not None
            for density, shift in ((0.4, (0.0, 0.0)), (1.0, (0.3, 0.7)), (3.1, (0.5, 0.1))):
                sheet = found.sheet(density, shift)
                self.assertTrue((sheet.labels[sheet.cover > 0] >= 0).all(), (kind, density))
                if density > 1:
                    seen = len(np.unique(sheet.labels[sheet.cover > 0]))
                    self.assertGreaterEqual(seen, 0.98 * len(found))

    def test_a_rectangle_falls_into_whole_squares(self) -> None:
        found = cut({"cut": "squares", "size": 30})
        self.assertEqual(len(found), 10 * 4)
        np.testing.assert_allclose(found.sizes, 30, atol=0.6)
        np.testing.assert_allclose(np.unique(np.round(found.places[:, 0], 3)), np.arange(-135, 150, 30), atol=0.01)

    def test_hexagons_have_the_area_of_hexagons(self) -> None:
        found = cut({"cut": "hexagons", "size": 24}, {"kind": "rectangle", "width": 600, "height": 600})
        # A hexagon of this width from side to side covers √3/2 of its square.
        self.assertAlmostEqual(600**2 / len(found) / (24**2 * math.sqrt(3) / 2), 1, delta=0.08)

    def test_the_place_of_a_piece_is_the_middle_of_what_it_shows(self) -> None:
        found = cut({"cut": "shards", "size": 40})
        assert found.sheet is not None
        sheet = found.sheet(2.0, (0.0, 0.0))
        rows, columns = np.indices(sheet.cover.shape)
        for piece in range(0, len(found), 7):
            weight = sheet.cover * (sheet.labels == piece)
            x = (weight * (columns + 0.5)).sum() / weight.sum() / sheet.density + sheet.left
            y = sheet.top - (weight * (rows + 0.5)).sum() / weight.sum() / sheet.density
            np.testing.assert_allclose(found.places[piece, :2], [x, y], atol=0.3)

    def test_letters_and_words_in_the_order_in_which_they_are_read(self) -> None:
        text = {"kind": "letters", "text": "Net lights", "height": 80}
        letters, words = cut({"cut": "letters"}, text), cut({"cut": "words"}, text)
        self.assertEqual((len(letters), len(words)), (9, 2))
        np.testing.assert_array_equal(np.argsort(letters.rank), np.argsort(letters.places[:, 0]))
        self.assertLess(words.places[0, 0], words.places[1, 0])

    def test_strips_go_all_across(self) -> None:
        found = cut({"cut": "strips", "size": 20})
        self.assertEqual(len(found), 6)
        np.testing.assert_allclose(found.sizes, 300, atol=1)

    def test_a_shape_without_an_area_can_only_be_cut_into_points(self) -> None:
        with self.assertRaises(IsbjornError) as refused:
            cut({"cut": "shards"}, {"kind": "line", "length": 100})
        self.assertIn("points", str(refused.exception))
        self.assertEqual(len(cut({"cut": "points", "size": 5}, {"kind": "line", "length": 100})), 20)

    def test_a_shape_without_letters_is_refused_in_the_document(self) -> None:
        with self.assertRaisesRegex(ValueError, "no letters"):
            shot({"cut": "letters"})

    def test_a_huge_shape_in_tiny_pieces_stays_within_its_bound(self) -> None:
        found = cut({"cut": "squares", "size": 2}, {"kind": "rectangle", "width": 20_000, "height": 20_000})
        self.assertLess(len(found), 220_000)


class Fronts(unittest.TestCase):
    def moments(self, **front: object) -> tuple[np.ndarray, np.ndarray]:
        found = flights({"cut": "squares", "size": 30, "release": {"at_s": 2, "duration": 3, "softness": 0, **front}})
        return found.moments, found.cut.places

    def test_a_straight_front_moves_evenly_in_its_direction(self) -> None:
        moments, places = self.moments(by="direction", angle=180)
        np.testing.assert_allclose(moments, 2 + 3 * (135 - places[:, 0]) / 270, atol=0.01)

    def test_a_front_from_a_point_spreads_evenly(self) -> None:
        moments, places = self.moments(by="point", x=-135, y=0)
        far = np.hypot(places[:, 0] + 135, places[:, 1])
        np.testing.assert_allclose(moments, 2 + 3 * far / far.max(), atol=0.01)

    def test_every_front_begins_and_ends_on_time(self) -> None:
        for by in ("direction", "path", "reading order", "noise", "neighbours"):
            moments, _ = self.moments(by=by)
            self.assertAlmostEqual(float(moments.min()), 2.0, delta=0.1, msg=by)
            self.assertAlmostEqual(float(moments.max()), 5.0, delta=0.1, msg=by)

    def test_reading_order_is_line_by_line(self) -> None:
        moments, places = self.moments(by="reading order")
        order = np.lexsort((places[:, 0], -np.round(places[:, 1])))
        self.assertTrue((np.diff(moments[order]) > 0).all())

    def test_neighbours_set_each_other_off(self) -> None:
        moments, places = self.moments(by="neighbours", x=-135, y=45)
        first = int(np.argmin(moments))
        np.testing.assert_allclose(places[first, :2], [-135, 45], atol=1)
        for piece in range(len(places)):
            if piece != first:
                beside = np.hypot(*(places - places[piece])[:, :2].T) < 61
                self.assertLess(moments[beside].min(), moments[piece])

    def test_the_curve_and_the_other_way_round(self) -> None:
        pace = {
            "points": [{"at": 0, "value": 0}, {"at": 0.5, "value": 0.9, "joint": "straight"}, {"at": 1, "value": 1}]
        }
        slow, _ = self.moments(by="direction")
        quick, _ = self.moments(by="direction", curve=pace)
        self.assertLess(float(np.median(quick)), float(np.median(slow)) - 0.4)
        back, _ = self.moments(by="direction", backwards=True)
        np.testing.assert_allclose(slow - 2, 5 - back, atol=1e-6)

    def test_keys_drive_the_front(self) -> None:
        held = {
            "value": 0,
            "keys": [{"at_s": 2, "value": 0, "joint": "hold"}, {"at_s": 3, "value": 1.5, "joint": "hold"}],
        }
        still, _ = self.moments(by="direction")
        late, _ = self.moments(by="direction", delay=held)
        early = still < 2.99
        np.testing.assert_allclose(late[early], still[early], atol=0.005)
        np.testing.assert_allclose(late[still > 3.01], still[still > 3.01] + 1.5, atol=0.005)

    def test_a_front_with_many_keys_over_many_pieces_is_bounded(self) -> None:
        turning = {"value": 0, "keys": [{"at_s": at, "value": at * 30} for at in range(600)]}
        swaying = {"value": 0, "keys": [{"at_s": at, "value": 50 * (at % 2)} for at in range(600)]}
        for by in ("direction", "neighbours"):
            front = {"by": by, "angle": turning, "x": turning, "softness": swaying}
            one = shot(
                {"cut": "squares", "size": 3, "release": front}, {"kind": "rectangle", "width": 600, "height": 300}
            )
            one = one.model_copy(update={"last_frame": 14_999})
            self.assertGreater(len(flights_of(one.emitters[0], 1, Readings(one)).cut), 15_000)

    def test_softness_moves_moments_within_the_duration(self) -> None:
        moments, places = self.moments(by="direction", softness=60)
        self.assertTrue(((moments >= 2) & (moments <= 5)).all())
        beside = np.abs(places[:, 0] - places[0, 0]) < 1
        self.assertGreater(float(np.ptp(moments[beside])), 0.4)


class Elsewhere(unittest.TestCase):
    def test_the_shape_of_another_emitter_is_a_target(self) -> None:
        given = [
            {"id": "e", "pieces": {"cut": "squares", "size": 20, "release": None, "assemble": {"at_s": 2}},
             "shape": {"kind": "borrowed", "emitter": "other"}},
            {"id": "other", "shape": {"kind": "rectangle", "width": 120, "height": 40}},
        ]  # fmt: skip
        one = Shot.model_validate({"emitters": given})
        found = flights_of(one.emitters[0], 1, Readings(one))
        self.assertEqual(len(found.cut), 12)
        np.testing.assert_allclose(found.cut.extent, (120, 40))

    def test_the_onsets_of_a_sound_release_groups(self) -> None:
        # Without the sound, the front goes on by chance.
        found = flights(
            {"cut": "squares", "size": 30, "release": {"by": "onsets", "at_s": 1, "duration": 2, "softness": 0}}
        )
        self.assertGreater(len(np.unique(found.moments)), 30)
        self.assertTrue(((found.moments >= 1) & (found.moments <= 3)).all())


class Matching(unittest.TestCase):
    def test_few_are_matched_as_well_as_can_be(self) -> None:
        rng = np.random.default_rng(1)
        begins, ends = rng.random((200, 2)), rng.random((200, 2))
        cost = ((begins[:, None] - ends[None]) ** 2).sum(axis=2)
        best = cost[linear_sum_assignment(cost)].sum()
        self.assertAlmostEqual(float(cost[np.arange(200), nearest(begins, ends)].sum()), best, places=9)

    def test_many_are_matched_one_for_one_and_nearly_as_well(self) -> None:
        rng = np.random.default_rng(2)
        begins, ends = rng.random((900, 2)), rng.random((900, 2)) * [2, 0.5]
        found = nearest(begins, ends)
        np.testing.assert_array_equal(np.sort(found), np.arange(900))
        cost = ((begins[:, None] - ends[None]) ** 2).sum(axis=2)
        self.assertLess(cost[np.arange(900), found].sum(), 1.03 * cost[linear_sum_assignment(cost)].sum())

    def test_reading_order_keeps_the_order(self) -> None:
        rng = np.random.default_rng(3)
        begins, rank = rng.random((50, 2)) * 100, np.linspace(0, 1, 50)
        found = matched(Assemble(match="reading order"), begins, np.zeros((50, 2)), rank, 1)
        self.assertTrue((np.diff(begins[found, 0]) >= -0.1).all())

    def test_along_a_path_both_are_in_its_order(self) -> None:
        rng = np.random.default_rng(4)
        begins, ends = rng.random((60, 2)) * 100, rng.random((60, 2)) * 100 + 300
        way = ({"x": 0, "y": 500}, {"x": 0, "y": -500})
        found = matched(Assemble.model_validate({"match": "along a path", "way": way}), begins, ends, np.zeros(60), 1)
        np.testing.assert_array_equal(np.argsort(ends[:, 1]), np.argsort(begins[found, 1]))


class InFlight(unittest.TestCase):
    def test_each_piece_leaves_once_and_arrives_once(self) -> None:
        found = flights({"cut": "squares", "size": 30, "release": {"at_s": 4}, "assemble": {"at_s": 2}})
        self.assertEqual(len(found.numbers), 2 * len(found.cut))
        self.assertTrue((found.due <= found.released).all())
        np.testing.assert_array_equal(found.numbers[found.place >= 0], ARRIVING + np.arange(len(found.cut)))

    def test_what_becomes_another_shape_fills_all_of_it(self) -> None:
        for text in ("I", "Skarvøy Lights"):
            into = {"kind": "letters", "text": text, "height": 90}
            found = flights(
                {"cut": "squares", "size": 10, "release": {"at_s": 1}, "assemble": {"at_s": 4, "into": into}}
            )
            self.assertEqual(set(found.place.tolist()), set(range(len(found.arrived))))
            self.assertEqual(set(found.piece.tolist()), set(range(len(found.cut))))
            self.assertTrue((found.lives > 0).all())

    def test_an_arrival_is_one_lifespan_after_its_birth(self) -> None:
        found = flights(
            {"cut": "squares", "size": 30, "release": None, "assemble": {"at_s": 5}},
            lifespan={"value": 2, "spread": 0.5},
        )
        np.testing.assert_allclose(found.moments + found.lives, found.due, atol=1e-6)
        self.assertGreater(float(np.ptp(found.lives)), 0.3)


if __name__ == "__main__":
    unittest.main()

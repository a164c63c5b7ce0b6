"""A whole in pieces: exact as long as it is whole, exact where pieces have left, and exact again when they have arrived."""

import unittest
from typing import Any

import numpy as np

from isbjorn.core import Solver
from isbjorn.core.document import Shot
from isbjorn.core.emit.shapes import outline
from isbjorn.core.emit.shapes.base import ShapeSetting
from isbjorn.core.evaluate.geometry.coverage import covered_texels
from isbjorn.core.evaluate.gradients import from_oklab, oklab
from isbjorn.core.frame import compositor_of, draw_particles, render_frame
from isbjorn.core.render.composite.passes import measured
from tests.core.media.test_media import InFolder, still
from tests.threads import MANY, threads

WIDTH, HEIGHT = 640, 240
WORD = {"kind": "letters", "text": "Skarvøy", "height": 130}
CUTS = ("squares", "hexagons", "shards", "strips", "letters", "words")
LEAVES = {"release": {"at_s": 1, "duration": 2}, "assemble": None}
COMES = {"release": None, "assemble": {"at_s": 1, "duration": 2}}
RETURNS = {"release": {"at_s": 1, "duration": 1}, "assemble": {"at_s": 4, "duration": 1}}


def shot(pieces: dict[str, Any], fields: dict[str, Any] | None = None, **more: Any) -> Shot:
    emitter = {"id": "e", "shape": WORD, "speed": 90, "lifespan": 2, "pieces": {"size": 12, **pieces}, **(fields or {})}
    return Shot.model_validate({"width": WIDTH, "height": HEIGHT, "emitters": [emitter], "last_frame": 149, **more})


def picture(one: Shot, frame: float = 0, scale: float = 1.0) -> np.ndarray:
    return draw_particles(Solver(one), frame, scale).picture  # type: ignore[arg-type]


def original(one: Shot, scale: float = 1.0) -> np.ndarray:
    """The exact coverage of each pixel by the emitter's shape, where it is set into the shot."""
    solver = Solver(one)
    lines = outline(one.emitters[0].shape, ShapeSetting(np.zeros(1), solver.readings))
    frame = solver.readings.frames(one.emitters[0], np.zeros(1))
    placed = [frame.of(*line.T)[:, :2] for line in lines]
    return covered_texels(placed, -WIDTH / 2, HEIGHT / 2, scale, round(WIDTH * scale), round(HEIGHT * scale))


class Whole(unittest.TestCase):
    def test_before_the_first_leaves_it_is_the_original_to_a_thousandth(self) -> None:
        for cut in CUTS:
            for fields in ({}, {"across": 3.3, "up": -7.6}, {"turn": 180, "scale": 83}):
                one = shot({**LEAVES, "cut": cut, "variation": 40}, fields)
                for scale in (1.0, 0.6):
                    drawn = picture(one, 10, scale)
                    for channel in range(4):
                        self.assertLess(
                            np.abs(drawn[..., channel] - original(one, scale)).max(), 1e-3, (cut, fields, scale)
                        )

    def test_turned_it_is_as_soft_as_one_sprite_and_keeps_its_light(self) -> None:
        one = shot({**LEAVES, "cut": "shards"}, {"turn": 20})
        drawn = picture(one, 10)
        self.assertAlmostEqual(float(drawn[..., 3].sum() / original(one).sum()), 1, delta=1e-3)
        # No seam is seen inside the letters.
        inside = original(one) >= 1
        inner = inside[1:-1, 1:-1].copy()
        for dy in (-1, 0, 1):
            for dx in (-1, 0, 1):
                inner &= inside[1 + dy : HEIGHT - 1 + dy, 1 + dx : WIDTH - 1 + dx]
        self.assertGreater(float(drawn[1:-1, 1:-1, 3][inner].min()), 0.999)

    def test_after_the_last_has_arrived_it_is_the_original_again(self) -> None:
        for pieces in (COMES, RETURNS):
            for cut in ("hexagons", "letters"):
                fields = {"spin": 400, "spin_x": 130, "across": 1.7}
                drawn = picture(shot({**pieces, "cut": cut}, fields), 149)
                self.assertLess(np.abs(drawn[..., 3] - original(shot(pieces, fields))).max(), 1e-3)

    def test_light_is_conserved_at_the_moment_of_release(self) -> None:
        one = shot({**LEAVES, "cut": "squares"}, {"speed": 0})
        # Nothing has moved yet: those that have left are where they were.
        drawn = picture(one, 50)
        seams = np.abs(drawn[..., 3] - original(one))
        self.assertLess(float(seams.max()), 2e-3)

    def test_where_pieces_have_left_is_a_hole_with_their_edges(self) -> None:
        front = {"at_s": 1, "duration": 2, "softness": 0}
        one = shot(
            {"cut": "squares", "size": 20, "release": front, "assemble": None},
            {"shape": {"kind": "rectangle", "width": 200, "height": 100}, "speed": 5000, "spread": 0},
        )
        drawn = picture(one, 50)
        # At half of the time the left half has left.
        np.testing.assert_allclose(drawn[60:180, WIDTH // 2 - 95 : WIDTH // 2 - 5, 3][10:110], 0, atol=1e-6)
        np.testing.assert_allclose(drawn[71:169, WIDTH // 2 + 25 : WIDTH // 2 + 95, 3], 1, atol=1e-3)

    def test_colour_and_opacity_of_the_emitter(self) -> None:
        colour = {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}]}
        drawn = picture(shot({**LEAVES, "cut": "squares"}, {"colour": colour, "opacity": 50}), 5)
        full = original(shot(LEAVES)) >= 1
        np.testing.assert_allclose(drawn[full], np.broadcast_to([0.5, 0, 0, 0.5], drawn[full].shape), atol=2e-3)

    def test_what_arrives_looks_as_at_birth_or_keeps_its_last_look(self) -> None:
        fields = {"colour": {"colours": [{"at": 0, "colour": "#ff0000"}, {"at": 1, "colour": "#0000ff"}]}}
        full = original(shot(LEAVES)) >= 1
        for looks, colour in (("mirrored", [1, 0, 0, 1]), ("forwards", [0, 0, 1, 1])):
            for pieces in (COMES, RETURNS):
                assemble = {**pieces["assemble"], "looks": looks}
                drawn = picture(shot({**pieces, "cut": "squares", "assemble": assemble}, fields), 149)
                np.testing.assert_allclose(drawn[full], np.broadcast_to(colour, drawn[full].shape), atol=2e-3)

    def test_additive_light_has_no_cover(self) -> None:
        drawn = picture(shot({**LEAVES, "cut": "squares"}, {"blend": "add"}), 5)
        self.assertEqual(float(drawn[..., 3].max()), 0)
        self.assertLess(np.abs(drawn[..., 0] - original(shot(LEAVES))).max(), 1e-3)


class InTheShot(unittest.TestCase):
    def test_an_open_shutter_keeps_the_light_of_pieces_that_leave_meanwhile(self) -> None:
        one = shot({"cut": "squares", "release": {"at_s": 1, "duration": 0, "softness": 0}, "assemble": None}, {"speed": 0},
                   camera={"shutter": 360})  # fmt: skip
        for frame in (24, 25, 26):
            self.assertAlmostEqual(float(picture(one, frame)[..., 3].sum() / original(one).sum()), 1, delta=0.01)

    def test_a_whole_that_moves_is_smeared(self) -> None:
        keys = [{"at_s": 0, "value": -100, "joint": "straight"}, {"at_s": 1, "value": 100, "joint": "straight"}]
        pieces = {"release": {"at_s": 5}, "assemble": None, "cut": "squares"}
        sharp, smeared = (
            picture(shot(pieces, {"across": {"value": 0, "keys": keys}}, camera={"shutter": angle}), 12)
            for angle in (0, 360)
        )
        self.assertAlmostEqual(float(smeared[..., 3].sum() / sharp[..., 3].sum()), 1, delta=0.01)
        self.assertGreater(int((smeared[..., 3] > 0.01).sum()), 1.1 * int((sharp[..., 3] > 0.01).sum()))

    def test_the_same_picture_for_any_number_of_threads_and_order_of_frames(self) -> None:
        one = shot({**RETURNS, "cut": "shards"}, {"spin": 200})
        found = []
        for count, frames in ((1, (20, 40, 90)), (MANY, (90, 40, 20))):
            with threads(count):
                solver = Solver(one)
                drawn = {frame: draw_particles(solver, frame).picture.copy() for frame in frames}
            found.append([drawn[frame] for frame in sorted(drawn)])
        for a, b in zip(*found, strict=True):
            np.testing.assert_array_equal(a, b)

    def test_a_loop_without_a_seam(self) -> None:
        one = shot({**RETURNS, "cut": "hexagons"}, loop=True)
        solver = Solver(one)
        self.assertLess(np.abs(draw_particles(solver, 0).picture - draw_particles(solver, 150).picture).max(), 1e-6)
        self.assertLess(np.abs(draw_particles(solver, 0).picture[..., 3] - original(one)).max(), 1e-3)

    def test_passes_measure_what_stands_and_what_flies(self) -> None:
        one = shot({**RETURNS, "cut": "hexagons"}, {"depth": -40}, camera={"kind": "perspective"})
        for frame in (10, 50):
            found = measured(compositor_of(Solver(one), frame))
            alpha = picture(one, frame)[..., 3]
            np.testing.assert_allclose(found.cover, alpha, atol=1e-3)
            away = WIDTH * 35 / 36
            self.assertAlmostEqual(float(np.median(found.depth[found.cover > 0.9])), away + 40, delta=0.5)

    def test_a_matte_hides_it(self) -> None:
        matte = {"id": "m", "width": 4000, "height": 4000, "feather": 0}
        one = shot({**LEAVES, "cut": "squares"}, {"hidden_by": ["m"]}, mattes=[matte])
        self.assertLess(float(picture(one, 5)[..., 3].max()), 1e-3)

    def test_points_are_drawn_as_bodies_where_they_stand(self) -> None:
        fields = {"shape": {"kind": "line", "length": 300}, "size": 6, "body": {"kind": "hard disc"}}
        drawn = picture(shot({**LEAVES, "cut": "points", "size": 30}, {**fields, "spacing": "even"}), 5)
        self.assertAlmostEqual(float(drawn[..., 3].sum()), 10 * np.pi * 9, delta=2)

    def test_one_word_becomes_another(self) -> None:
        into = {"kind": "letters", "text": "Lights", "height": 130}
        pieces = {
            "cut": "squares",
            "size": 9,
            "release": {"at_s": 1, "duration": 1},
            "assemble": {"at_s": 3, "duration": 1, "into": into},
        }
        one = shot(pieces)
        self.assertLess(np.abs(picture(one, 10)[..., 3] - original(one)).max(), 1e-3)
        other = shot(LEAVES, {"shape": into})
        self.assertLess(np.abs(picture(one, 149)[..., 3] - original(other)).max(), 1e-3)


class Pictures(InFolder):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(4)
        self.pixels = rng.random((90, 160, 4)).astype(np.float32)
        self.pixels[..., :3] *= self.pixels[..., 3:]
        self.file = self.folder / "poster.exr"
        still(self.file, self.pixels, "float")

    def test_a_picture_is_itself_until_its_pieces_leave(self) -> None:
        shape = {"kind": "picture", "media": str(self.file), "width": 160, "height": 90}
        for cut in ("squares", "shards"):
            drawn = picture(shot({**LEAVES, "cut": cut}, {"shape": shape}), 10)
            left, top = (WIDTH - 160) // 2, (HEIGHT - 90) // 2
            np.testing.assert_allclose(drawn[top : top + 90, left : left + 160], self.pixels, atol=1e-3)
            rest = drawn.copy()
            rest[top : top + 90, left : left + 160] = 0
            self.assertLess(float(np.abs(rest).max()), 1e-4)

    def test_its_pieces_carry_their_parts_of_it(self) -> None:
        shape = {"kind": "picture", "media": str(self.file), "width": 160, "height": 90}
        one = shot(
            {"cut": "squares", "release": {"at_s": 1, "duration": 0}, "assemble": None}, {"shape": shape, "speed": 0}
        )
        left, top = (WIDTH - 160) // 2, (HEIGHT - 90) // 2
        np.testing.assert_allclose(picture(one, 30)[top : top + 90, left : left + 160], self.pixels, atol=2e-3)

    def test_a_grey_picture_says_which_pieces_come_first(self) -> None:
        order = np.zeros((24, 64, 3), np.float32)
        order[:, :32] = 1
        still(self.folder / "order.exr", order, "float")
        front = {"by": "picture", "media": str(self.folder / "order.exr"), "at_s": 1, "duration": 2, "softness": 0}
        drawn = picture(shot({"cut": "squares", "release": front, "assemble": None}, {"speed": 9000, "spread": 0}), 50)
        left, right = drawn[..., 3][:, : WIDTH // 2 - 8], drawn[..., 3][:, WIDTH // 2 + 8 :]
        self.assertLess(float(left.sum()), 0.2 * float(right.sum()))

    def test_the_grey_of_a_matte_says_when_each_piece_leaves(self) -> None:
        ramp = np.repeat(np.linspace(1, 0, WIDTH)[None, :, None] ** 2.2, HEIGHT, axis=0).repeat(3, axis=2)
        still(self.folder / "ramp.exr", ramp.astype(np.float32), "float")
        front = {"by": "matte", "matte": "m", "at_s": 1, "duration": 2, "softness": 0}
        ramped = {"id": "m", "kind": "file", "media": str(self.folder / "ramp.exr"), "feather": 0}
        one = self.ordered(front, ramped)
        flights = Solver(one).tracks[0].source.flights  # type: ignore[attr-defined]
        expected = 1 + 2 * (flights.cut.places[:, 0] / WIDTH + 0.5)
        np.testing.assert_allclose(flights.released, expected, atol=0.02)

        # Drawn mattes count too, where they are when the front begins; a matte that is off counts for nothing.
        moving = {"value": 0, "keys": [{"at_s": 0, "value": -WIDTH}, {"at_s": 1, "value": -WIDTH / 2}]}
        drawn = {"id": "m", "kind": "shape", "width": WIDTH, "height": HEIGHT, "feather": 0, "across": moving}
        flights = Solver(self.ordered(front, drawn)).tracks[0].source.flights  # type: ignore[attr-defined]
        covered = flights.cut.places[:, 0] < -2
        np.testing.assert_allclose(flights.released[covered], 1, atol=1e-9)
        np.testing.assert_allclose(flights.released[flights.cut.places[:, 0] > 2], 3, atol=1e-9)
        flights = Solver(self.ordered(front, drawn | {"on": False})).tracks[0].source.flights  # type: ignore[attr-defined]
        np.testing.assert_allclose(flights.released, 1, atol=1e-9)

    def test_an_edit_of_the_matte_moves_the_pieces(self) -> None:
        front = {"by": "matte", "matte": "m", "at_s": 1, "duration": 2, "softness": 0}
        drawn = {"id": "m", "kind": "shape", "width": WIDTH / 2, "height": HEIGHT, "feather": 0, "across": -WIDTH / 4}
        first = Solver(self.ordered(front, drawn))
        first.at(40)
        other = self.ordered(front, drawn | {"across": WIDTH / 4})
        after, fresh = Solver(other, first.cache, before=first).at(40), Solver(other).at(40)
        np.testing.assert_array_equal(after.position, fresh.position)
        self.assertFalse(np.array_equal(after.position, first.at(40).position))

    def ordered(self, front: dict[str, Any], matte: dict[str, Any]) -> Shot:
        return shot({"cut": "squares", "release": front, "assemble": None}, mattes=[matte])

    def test_points_leave_before_the_brightness_of_the_plate(self) -> None:
        self.pixels[:, :80] *= 0.02
        one = self.plate_shot(
            {"release": {"by": "brightness", "at_s": 1, "duration": 2, "softness": 0}, "assemble": None}
        )
        flights = Solver(one).tracks[0].source.flights  # type: ignore[attr-defined]
        dark = flights.cut.places[:, 0] < -4
        self.assertGreater(float(flights.moments[dark].min()), float(flights.moments[~dark].mean()))

    def test_a_piece_trembles_before_it_leaves_and_not_until_then(self) -> None:
        front = {"at_s": 2, "duration": 0, "softness": 0, "tremble": 6, "tremble_s": 0.5}
        one = shot({"cut": "squares", "release": front, "assemble": None})
        np.testing.assert_array_equal(picture(one, 30), picture(one, 10))
        self.assertGreater(float(np.abs(picture(one, 44)[..., 3] - picture(one, 10)[..., 3]).max()), 0.3)
        solver = Solver(one)
        (particles, standing), *_ = solver.standing(0, one.seconds(44))
        moved = particles.position - standing.cut.places
        self.assertLess(float(np.abs(moved).max()), 6.01)

    def test_points_take_the_colours_of_the_picture(self) -> None:
        halves = np.zeros((90, 160, 3), np.float32)
        halves[:, :80, 0], halves[:, 80:, 2] = 1, 1
        still(self.folder / "halves.exr", halves, "float")
        shape = {"kind": "picture", "media": str(self.folder / "halves.exr"), "width": 160, "height": 90}
        one = shot({**COMES, "cut": "points", "size": 9}, {"shape": shape, "colour_by": "source"})
        for frame in (20, 149):
            p = Solver(one).at(frame)
            f = Solver(one).tracks[0].source.flights  # type: ignore[attr-defined]
            x = f.cut.places[f.piece[f.rows(p.id & ((1 << 37) - 1))], 0]
            np.testing.assert_allclose(p.colour[x < -1], np.broadcast_to([1, 0, 0], p.colour[x < -1].shape), atol=1e-3)
            np.testing.assert_allclose(p.colour[x > 1], np.broadcast_to([0, 0, 1], p.colour[x > 1].shape), atol=1e-3)

    def test_points_that_become_another_picture_mix_their_colours_in_oklab(self) -> None:
        linear = {"red": [0.8, 0.02, 0.02], "blue": [0.02, 0.05, 0.7]}
        for name, colour in linear.items():
            still(self.folder / f"{name}.exr", np.broadcast_to(np.float32(colour), (90, 160, 3)).copy(), "float")
        red, blue = (
            {"kind": "picture", "media": str(self.folder / f"{name}.exr"), "width": 160, "height": 90}
            for name in linear
        )
        assemble = {**RETURNS["assemble"], "into": blue}
        one = shot({**RETURNS, "assemble": assemble, "cut": "points", "size": 9}, {"shape": red, "colour_by": "source"})
        solver = Solver(one)
        at_birth, at_end = (oklab(np.array([linear[name]])) for name in linear)
        for frame, expected in ((10, at_birth), (149, at_end)):
            colours = solver.every(0, one.seconds(frame)).colour
            np.testing.assert_allclose(colours, from_oklab(np.repeat(expected, len(colours), axis=0)), atol=1e-3)
        p = solver.at(70)
        share = np.clip(p.age01.astype(np.float64), 0, 1)[:, None]
        share = share**2 * (3 - 2 * share)
        np.testing.assert_allclose(p.colour, from_oklab(at_birth * (1 - share) + at_end * share), atol=2e-3)

    def plate_shot(self, pieces: dict[str, Any], **fields: Any) -> Shot:
        self.pixels[..., 3] = 1
        plate = self.folder / "harbour.exr"
        still(plate, self.pixels, "float")
        emitter = {
            "id": "e",
            "shape": {"kind": "part of plate", "width": 80, "height": 40},
            "pieces": {"size": 9, **pieces},
            **fields,
        }
        return Shot.model_validate(
            {"width": 160, "height": 90, "plate": {"media": str(plate)}, "emitters": [emitter], "last_frame": 149}
        )

    def test_a_part_of_the_plate_leaves_exact_holes(self) -> None:
        one = self.plate_shot(LEAVES, speed=0)
        whole = render_frame(one, 5)
        np.testing.assert_allclose(whole[..., :3], self.pixels[..., :3], atol=1e-6)
        # All are in the air where they were: the plate is whole, though none of them is on it.
        np.testing.assert_allclose(render_frame(one, 76)[..., :3], self.pixels[..., :3], atol=3e-3)
        gone = render_frame(
            self.plate_shot({"release": {"at_s": 1, "duration": 0}, "assemble": None}, speed=9000, spread=0), 40
        )
        np.testing.assert_allclose(gone[25:65, 40:120], 0, atol=1e-6)
        self.assertTrue((gone[:24, :, 3] == 1).all())

    def test_what_stands_in_the_plate_is_not_part_of_the_particles(self) -> None:
        one = self.plate_shot(LEAVES)
        for frame in (5, 50):
            found = measured(compositor_of(Solver(one), frame))
            alpha = render_frame(one, frame, over_plate=False)[..., 3]
            np.testing.assert_allclose(found.cover, alpha, atol=2e-3)

    def test_an_edit_of_the_plate_shows_on_its_pieces(self) -> None:
        one = self.plate_shot(LEAVES, speed=0)
        assert one.plate is not None
        late = one.model_copy(update={"plate": one.plate.model_copy(update={"on": False})})
        first, other = (render_frame(shot, 76) for shot in (one, late))
        self.assertGreater(float(np.abs(first - other).max()), 0.3)

    def test_a_part_of_the_plate_comes_back(self) -> None:
        one = self.plate_shot({**RETURNS, "cut": "hexagons"}, speed=60)
        self.assertGreater(float(np.abs(render_frame(one, 60)[..., :3] - self.pixels[..., :3]).max()), 0.2)
        np.testing.assert_allclose(render_frame(one, 149)[..., :3], self.pixels[..., :3], atol=1e-3)


if __name__ == "__main__":
    unittest.main()

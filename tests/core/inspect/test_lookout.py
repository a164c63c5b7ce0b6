"""The Lookout: each note by a shot that has the fault and one that has not, and its mend, which takes the fault away."""

import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import jsonpatch
import numpy as np

from isbjorn.core import Shot
from isbjorn.core.deliver import Order
from isbjorn.core.document.files import parse_shot
from isbjorn.core.frame import Solver
from isbjorn.core.inspect.lookout import Note, lookout, order_notes
from isbjorn.core.media.read.plates import PlateReader
from tests.shots import force, one_emitter


def notes(shot: Shot, frame: int = 60) -> list[Note]:
    return lookout(Solver(shot, plates=PlateReader()), frame)


def kinds(shot: Shot, frame: int = 60) -> set[str]:
    return {note.kind for note in notes(shot, frame)}


def one(**emitter: Any) -> Shot:
    shot = emitter.pop("shot", {})
    fine = {
        "spread": 40,
        "opacity": {
            "value": 100,
            "over_life": {"points": [{"at": 0, "value": 0}, {"at": 0.3, "value": 1}, {"at": 1, "value": 0}]},
        },
    }
    return one_emitter(**shot, emitter={"cadence": "jittered", **fine, **emitter})


class Recognised(unittest.TestCase):
    def fault(self, shot: Shot, kind: str, frame: int = 60, word: str = "") -> Note:
        """The shot has the fault; the note says what and why; what the mend makes of the shot has it no more."""
        found = [note for note in notes(shot, frame) if note.kind == kind]
        self.assertTrue(found, f"{kind} is not seen: {kinds(shot, frame)}")
        note = found[0]
        self.assertIn(word, note.what + note.why)
        self.assertTrue(note.why)
        if note.mend is not None:
            mended = parse_shot(jsonpatch.apply_patch(shot.model_dump(mode="json"), note.mend.changes))
            after = [n.what for n in notes(mended, frame) if n.kind == kind and n.thing == note.thing]
            self.assertEqual(after, [], f"{note.mend.label} mends nothing")
        return note

    def test_a_shot_without_a_fault_has_no_note(self) -> None:
        self.assertEqual(notes(one()), [])

    def test_births_in_step_with_the_frames(self) -> None:
        stands = {"cadence": "even", "rate": 25, "spread": 0}
        note = self.fault(one(**stands), "standing stream", word="one birth in every frame")
        self.assertEqual(note.mend and note.mend.label, "Make births uneven")
        self.fault(one(**{**stands, "rate": 1, "rate_per": "frame"}), "standing stream")
        self.fault(one(**{**stands, "rate": 12.5}), "standing stream")
        for other in ({"rate": 26}, {"spread": 30}, {"speed": {"value": 100, "spread": 20}}, {"cadence": "random"}):
            self.assertNotIn("standing stream", kinds(one(**{**stands, **other})), other)

    def test_particles_too_small_to_be_seen_and_their_cost(self) -> None:
        note = self.fault(one(size=0.2, rate=500), "too small", word="ms per frame")
        self.assertIn("too small to see", note.what)
        self.assertNotIn("too small", kinds(one(size=4, rate=500)))

    def test_a_budget_that_starves_and_by_how_much(self) -> None:
        note = self.fault(one(limit=50), "starved")
        self.assertEqual(note.level, "trouble")
        self.assertIn("75 %", note.what)
        self.assertNotIn("starved", kinds(one(limit=400)))

    def test_the_shots_budget_starves_too(self) -> None:
        shot = one(shot={"limit": 60})
        self.fault(shot, "starved")

    def test_what_pops_at_birth_or_death(self) -> None:
        fades = {"points": [{"at": 0, "value": 0}, {"at": 0.2, "value": 1}]}
        falls = {"points": [{"at": 0, "value": 1}, {"at": 1, "value": 0}]}
        self.fault(one(opacity={"value": 100, "over_life": falls}), "pops in")
        self.fault(one(opacity={"value": 100, "over_life": fades}), "pops out")
        self.fault(one(opacity=100), "pops in")
        self.assertFalse({"pops in", "pops out"} & kinds(one(opacity=100, size=3)), "sparks may")
        self.assertNotIn("pops out", kinds(one(opacity={"value": 100, "over_life": fades}, fade_last=20)))
        stands = one(opacity=100, rate=0, bursts=[{"count": 50}], lifespan=0)
        self.assertFalse(
            {"pops in", "pops out"} & kinds(stands), "a particle that exists from the first frame never appears"
        )

    def test_a_life_too_short_for_its_target(self) -> None:
        pull = force("attractor", up=600, strength=60)
        note = self.fault(one(lifespan=1, shot={"forces": [pull]}), "life too short", word="attractor".title())
        self.assertIn("px away", note.what)
        self.assertNotIn("life too short", kinds(one(lifespan=7, shot={"forces": [pull]})))
        round_it = {
            "shape": {"kind": "disc", "radius": 150, "fill": "edge"},
            "toward": "along",
            "spread": 0,
            "direction": 0,
        }
        hold = {"kind": "attractor", "id": "f", "strength": 267, "radius": 150, "power": 0}
        going = one(**round_it, speed={"value": 200, "spread": 0}, lifespan=3, shot={"forces": [hold]})
        self.assertNotIn("life too short", kinds(going))

    def test_a_life_too_short_to_come_into_the_picture(self) -> None:
        note = self.fault(one(up=-600, lifespan=0.5, speed=200), "life too short", word="before they enter")
        self.assertEqual(note.level, "trouble")
        self.assertNotIn("life too short", kinds(one(up=-600, lifespan=4, speed=200)))

    def test_nothing_gets_through_and_why(self) -> None:
        floor = force("surface", up=-100, outcome="bounce")
        fast = one(speed=3000, direction=270, size=2, shot={"forces": [floor]})
        note = self.fault(fast, "no tunnelling", word="swept")
        self.assertEqual((note.level, note.mend), ("fine", None))
        self.assertNotIn("no tunnelling", kinds(one(speed=20, direction=270, shot={"forces": [floor]})))

    def test_loop_ends_that_do_not_meet(self) -> None:
        def looped(last: float) -> Shot:
            keys = [{"at_s": 0, "value": -100}, {"at_s": 5, "value": 200}, {"at_s": 9.9, "value": last}]
            return one(across={"value": 0, "keys": keys}, shot={"loop": True})

        self.fault(looped(150), "loop ends", word="jumps")
        self.assertNotIn("loop ends", kinds(looped(-100)))
        self.assertNotIn(
            "loop ends", kinds(one(across={"value": 0, "keys": [{"at_s": 0, "value": 1}, {"at_s": 9, "value": 99}]}))
        )

    def test_all_alike(self) -> None:
        note = self.fault(one(spread=0, rate=0, bursts=[{"count": 80, "at_s": 1}]), "all alike", word="one particle")
        self.assertEqual(note.level, "trouble")
        self.fault(one(spread=0, rate=33), "all alike")
        for fine in ({"spread": 20}, {"speed": {"value": 10, "spread": 3}}, {"shape": {"kind": "disc"}}):
            self.assertNotIn("all alike", kinds(one(**{"spread": 0, "rate": 33, **fine})))
        stirred = one(spread=0, rate=33, shot={"forces": [force("turbulence")]})
        self.assertNotIn("all alike", kinds(stirred))

    def test_the_plates_rate_against_the_shots(self) -> None:
        from isbjorn.demo.paint import write_movie

        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "p.mp4"
            write_movie(place, lambda n: np.full((720, 1280, 3), 40 + n, np.uint8), 3)
            plate = {"media": str(place), "beyond": "loop"}
            note = self.fault(one(shot={"rate": "30", "plate": plate}), "plate rate", word="25")
            self.assertEqual(note.mend and note.mend.changes[0]["value"], "25")
            self.assertNotIn("plate rate", kinds(one(shot={"rate": "25", "plate": plate})))

    def test_burnt_out_light(self) -> None:
        hot = one(brightness=30, blend="add", size=60, rate=60)
        note = self.fault(hot, "clipping", word="clipped to white")
        self.assertEqual(note.mend and note.mend.changes[0]["path"], "/finish/-")
        self.assertNotIn("clipping", kinds(one(brightness=0.02, blend="add", size=60, rate=60)))


class Nothing(unittest.TestCase):
    """Why nothing is visible: each reason has a name and a remedy."""

    def reason(self, word: str, frame: int = 60, mends: bool = True, **given: Any) -> Note:
        shot = one(**given)
        found = [note for note in notes(shot, frame) if note.kind == "nothing visible"]
        self.assertEqual(len(found), 1, [n.what for n in notes(shot, frame)])
        self.assertIn(word, found[0].what)
        assert found[0].mend is not None
        mended = parse_shot(jsonpatch.apply_patch(shot.model_dump(mode="json"), found[0].mend.changes))
        if mends:
            self.assertNotIn("nothing visible", kinds(mended, frame))
        return found[0]

    def test_behind_the_camera(self) -> None:
        self.reason("behind the camera", depth=5000, shot={"camera": {"kind": "perspective"}})

    def test_outside_the_picture(self) -> None:
        self.reason("outside", across=4000)

    def test_transparent(self) -> None:
        self.reason("transparent", opacity=0)
        self.reason("transparent", brightness=0, blend="add")

    def test_without_a_size(self) -> None:
        self.reason("no size", size=0)

    def test_never_born(self) -> None:
        self.reason("none is ever born", rate=0)

    def test_not_born_yet(self) -> None:
        self.reason("none is born yet", frame=10, start_s=3)
        self.reason("none is born yet", frame=10, rate=0, bursts=[{"count": 10, "at_s": 0.2}], delay_s=5)

    def test_all_dead(self) -> None:
        self.reason("have died", frame=200, end_s=2)

    def test_taken_away(self) -> None:
        zone = {"id": "z", "radius": 500}
        note = self.reason("Taker", shot={"zones": [zone], "forces": [force("remove", zone="z", name="Taker")]})
        self.assertIn("Switch Taker off", note.mend.label if note.mend else "")

    def test_no_room(self) -> None:
        self.reason("limit allows none", limit=0)

    def test_waiting_for_a_light(self) -> None:
        self.reason("lit by lights only", lit=100)
        lamp = {"id": "l", "radius": 400}
        self.assertNotIn("nothing visible", kinds(one(lit=100, shot={"lights": [lamp]})))

    def test_behind_a_matte(self) -> None:
        matte = {"id": "m", "name": "Boathouse", "width": 4000, "height": 4000}
        self.reason("behind Boathouse", hidden_by=["m"], shot={"mattes": [matte]})
        self.assertNotIn("nothing visible", kinds(one(hidden_by=["m"], shot={"mattes": [{**matte, "width": 10}]})))

    def test_an_emitter_that_is_off_is_no_mistake(self) -> None:
        self.assertEqual(notes(one(on=False, opacity=0)), [])


class Deliveries(unittest.TestCase):
    def reported(self, shot: Shot, **order: Any) -> set[str]:
        given = {
            "format": "png8",
            "first": 0,
            "last": 9,
            "folder": "/tmp",
            "name": "x",
            "scale": 1,
            "over_plate": False,
            **order,
        }
        return {note.kind for note in order_notes(shot, Order.model_validate(given))}

    def test_a_format_that_would_lose_the_alpha(self) -> None:
        self.assertIn("no alpha", self.reported(one(), format="mp4"))
        self.assertNotIn("no alpha", self.reported(one(), format="mp4", over_plate=True))
        self.assertNotIn("no alpha", self.reported(one(), format="png16"))

    def test_a_blend_that_needs_what_lies_below(self) -> None:
        plate = {"media": "p.mp4"}
        self.assertIn("blend over nothing", self.reported(one(blend="multiply", shot={"plate": plate})))
        self.assertNotIn("blend over nothing", self.reported(one(blend="add", shot={"plate": plate})))


class Demonstration(unittest.TestCase):
    def test_no_shot_of_the_demonstration_has_trouble(self) -> None:
        from isbjorn.demo import crowds, lights, shots
        from isbjorn.demo.beacon import beacon
        from isbjorn.demo.fountain import fountain
        from isbjorn.demo.furnace import glass
        from isbjorn.demo.ribbon import ribbon

        with tempfile.TemporaryDirectory() as folder:
            cv2.imwrite(str(Path(folder) / "p.png"), np.full((90, 160, 3), 30, np.uint8))
            plate = str(Path(folder) / "p.png")
            makers = (beacon, shots.bow_wave, shots.plankton, lights.skarvoy, lights.net_lights)
            for make in (*makers, crowds.shoal, crowds.buoys, ribbon, fountain, glass):
                shot = make(plate)
                trouble = [n.what for n in notes(shot, shot.first_frame + 110) if n.level == "trouble"]
                self.assertEqual(trouble, [], shot.name)


if __name__ == "__main__":
    unittest.main()

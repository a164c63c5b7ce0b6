"""Orders: their frames, file names and purposes, and the notes about them beforehand."""

import shutil
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from isbjorn.core.deliver import Delivery, Order, deliver, named_order
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.deliver.purposes import SHIPPED, Purpose, purpose_from_text, purpose_to_text, shipped
from isbjorn.core.document import Shot
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect import forecast, time_estimate
from isbjorn.core.inspect.delivery_preview import delivery_preview
from isbjorn.core.media.read.plates import PlateReader
from tests.core.media.test_media import still
from tests.shots import one_emitter

# Below 128 px a row, x264 itself does not always make the same of the same.
SMALL = {"width": 128, "height": 72}


def order(folder: object = "/tmp", **more: object) -> Order:
    return Order.model_validate({"first": 0, "last": 49, "folder": str(folder), "name": "a", **more})


def plan(shot: Shot | None = None, **more: object) -> Plan:
    return Plan(shot or one_emitter(), order(**more))


class Moments(unittest.TestCase):
    def frames(self, **more: object) -> list[float]:
        made = plan(**more)
        return [float(made[k].frame) for k in range(len(made))]

    def test_plain_frames_steps_and_handles(self) -> None:
        self.assertEqual(self.frames(last=4), [0, 1, 2, 3, 4])
        self.assertEqual(self.frames(first=10, last=14, every=2), [10, 12, 14])
        self.assertEqual(self.frames(first=10, last=11, before=2, after=1), [8, 9, 10, 11, 12])
        made = plan(first=10, last=15, every=2, format="mp4")
        self.assertEqual((made.rate, made.timecode(made[1])), (Fraction(25, 2), "00:00:00:06"))

    def test_another_rate_shows_the_same_seconds(self) -> None:
        made = plan(retime={"rate": "50"})
        self.assertEqual((len(made), made.rate), (100, 50))
        self.assertEqual([float(made[k].frame) for k in (0, 1, 99)], [0, 0.5, 49.5])
        self.assertEqual(made[3].lasts_s, Fraction(1, 50))
        odd = plan(retime={"rate": "30000/1001"})
        self.assertEqual(odd[30].frame, Fraction(30 * 1001 * 25, 30000))

    def test_a_speed_stretches_them(self) -> None:
        made = plan(retime={"speed": 40})
        self.assertEqual(len(made), 125)
        self.assertEqual(made[10].frame, 4)
        self.assertEqual(made[10].lasts_s, Fraction(2, 5) / 25)

    def test_a_keyed_speed_is_summed_up(self) -> None:
        # Evenly from 100 % down to 0 in two seconds: t - t²/4 seconds have passed; then it waits, and continues.
        keys = [
            {"at_s": 0, "value": 100, "joint": "straight"}, {"at_s": 2, "value": 0, "joint": "straight"},
            {"at_s": 3, "value": 0, "joint": "hold"}, {"at_s": 4, "value": 50},
        ]  # fmt: skip
        made = plan(retime={"keys": keys})
        for seconds in (0.4, 1.2, 2.0):
            self.assertAlmostEqual(float(made[round(seconds * 25)].frame) / 25, seconds - seconds**2 / 4, places=5)
        self.assertEqual(made[60].frame, made[70].frame)
        self.assertEqual(made[70].lasts_s, 0)
        self.assertAlmostEqual(float(made[150].frame) / 25, 1 + 0.5 * 2, places=2)
        last = made[len(made) - 1].frame
        self.assertTrue(49 <= last < 50, last)

    @given(st.floats(1, 900), st.sampled_from(["24", "25", "30000/1001", "50"]))
    @settings(max_examples=40)
    def test_whatever_the_speed_all_of_it_is_shown_and_no_more(self, speed: float, rate: str) -> None:
        made = plan(retime={"speed": speed, "rate": rate})
        frames = [made[k].frame for k in range(len(made))]
        self.assertEqual(frames[0], 0)
        self.assertLess(frames[-1], 50)
        self.assertGreaterEqual(frames[-1] + made[len(made) - 1].lasts_s * 25, 50 - 1e-4)
        self.assertEqual(frames, sorted(frames))

    def test_what_has_no_end_is_refused(self) -> None:
        for retime in ({"speed": 0}, {"keys": [{"at_s": 0, "value": 0}]}):
            with self.assertRaisesRegex(ValidationError, "never end"):
                order(retime=retime)
        for retime in ({"speed": 1e-4, "rate": "1000"}, {"keys": [{"at_s": 0, "value": 1e-4}], "rate": "1000"}):
            with self.assertRaisesRegex(IsbjornError, "more than 1,000,000 frames"):
                plan(retime=retime)

    def test_a_slate_comes_before_the_first(self) -> None:
        made = plan(slate=True, first=10, last=12)
        self.assertEqual(
            [(made[k].number, made[k].slate) for k in range(4)], [(9, True), (10, False), (11, False), (12, False)]
        )
        self.assertEqual(list(made.numbers), [9, 10, 11, 12])


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def files(self, *names: str) -> None:
        for name in names:
            (self.folder / name).write_bytes(b"")

    def content(self, pattern: str = "*") -> dict[str, bytes]:
        return {p.name: p.read_bytes() for p in sorted(self.folder.glob(pattern)) if p.is_file()}


class Names(InFolder):
    def name(self, **more: object) -> str:
        shot = one_emitter(name="Pier: dusk/1")
        ready = named_order(shot, order(self.folder, **more), "Skarvøy")
        return ready.path(None if ready.form.movie else ready.first).name

    def test_tokens_are_filled_in(self) -> None:
        self.assertEqual(self.name(name="{project}_{shot}", format="mp4"), "Skarvøy_Pier- dusk-1.mp4")
        self.assertEqual(self.name(name="{shot}.{frame}.final", padding=6, first=7), "Pier- dusk-1.000007.final.png")
        self.assertEqual(self.name(name="a_{pass}", first=-3), "a_beauty.-0003.png")
        with self.assertRaisesRegex(IsbjornError, r"token \{take\} does not exist"):
            self.name(name="{take}")

    def test_files_that_are_there_are_never_written_over_unasked(self) -> None:
        self.files("a.0049.png", "a.0099.png")
        with self.assertRaisesRegex(IsbjornError, "a.0049.png already exists"):
            self.name()
        self.assertEqual(self.name(first=60, last=70), "a.0060.png")
        for existing in ("replace", "keep"):
            self.assertEqual(self.name(existing=existing), "a.0000.png")
        with self.assertRaisesRegex(IsbjornError, "need {version}"):
            self.name(existing="version")

    def test_versions_count_on(self) -> None:
        self.assertEqual(self.name(name="a_v{version}", existing="version"), "a_v001.0000.png")
        self.files("a_v001.0003.png", "a_v002.0000.png", "a_v004.0000.exr")
        self.assertEqual(self.name(name="a_v{version}", existing="version"), "a_v003.0000.png")
        other = order(self.folder, name="a_v003", first=20, last=30)
        ready = named_order(one_emitter(), order(self.folder, name="a_v{version}", existing="version"), others=[other])
        self.assertEqual(ready.name, "a_v004")

    def test_orders_that_wait_never_meet(self) -> None:
        one = order(first=10, last=20)
        for other, meets in (
            ({"first": 20, "last": 30}, True), ({"first": 21, "last": 30}, False), ({"first": 21, "last": 30, "before": 1}, True),
            ({"first": 21, "last": 30, "slate": True}, True), ({"first": 99, "last": 99, "retime": {"speed": 50}}, True),
            ({"first": 10, "last": 20, "format": "tiff8"}, False), ({"first": 10, "last": 20, "padding": 6}, True),
            ({"first": 10, "last": 20, "name": "b"}, False), ({"first": 0, "last": 99, "format": "mp4"}, False),
        ):  # fmt: skip
            self.assertEqual(one.meets(order(**other)), meets, other)
            self.assertEqual(order(**other).meets(one), meets, other)
        self.assertTrue(order(format="mp4", first=3).meets(order(format="mp4", last=2)))

    def test_it_is_replaced_when_all_is_done(self) -> None:
        shot = one_emitter(**SMALL)
        self.files("a.0000.png", "a.0001.png")
        ready = named_order(shot, order(self.folder, last=1, existing="replace"))
        seen: list[dict[str, bytes]] = []
        Delivery(shot, ready, processes=1, on_progress=lambda _: seen.append(self.content("a.*.png"))).run()
        self.assertEqual({len(b) for one in seen for b in one.values()}, {0})
        self.assertTrue(all(len(b) > 100 for b in self.content("a.*.png").values()))
        self.assertEqual(list(self.folder.glob(".a*")), [])


class Purposes(InFolder):
    def test_each_makes_what_it_says(self) -> None:
        shot = one_emitter(**SMALL, background="#203040")
        for purpose in SHIPPED:
            with self.subTest(purpose.name):
                made = deliver(
                    shot,
                    self.folder,
                    first=20,
                    last=21,
                    processes=1,
                    **{k: v for k, v in purpose.order.items() if k != "name"},
                )
                self.assertTrue(all(p.stat().st_size > 100 for p in made))
                said = delivery_preview(
                    shot, order(self.folder, last=1, **purpose.order | {"name": "z{version}"}), None, PlateReader()
                )
                self.assertEqual((said.refused, said.count, said.notes), ("", 2, []))

    def test_they_are_read_back_as_they_were_written(self) -> None:
        mine = Purpose(
            name="Wall", about="For the east wall.", order={"format": "mov", "scale": 2.0, "folder": "/x", "first": 3}
        )
        back = purpose_from_text(purpose_to_text(mine))
        self.assertEqual(back, mine)
        self.assertEqual(back.order, {"format": "mov", "scale": 2.0})

    def test_others_are_refused_in_words(self) -> None:
        for text, words in (
            (b"{", "not JSON"), (b"[]", "not a delivery purpose"), (b'{"name": "x", "order": {"format": "mp3"}}', "not a format"),
            (b'{"name": "x", "order": {"speed": 3}}', "speed"), (b"[" * 100_000, "not JSON"), (b" " * 2_000_000, "1 MB"),
        ):  # fmt: skip
            with self.assertRaisesRegex(IsbjornError, words):
                purpose_from_text(text)
        with self.assertRaisesRegex(IsbjornError, "Use one of: Over the plate"):
            shipped("for")
        self.assertEqual(shipped("a st").frames, "one")


class Preview(InFolder):
    def test_it_says_what_it_would_make(self) -> None:
        said = delivery_preview(
            one_emitter(), order(self.folder, format="mp4", retime={"speed": 50}), None, PlateReader()
        )
        self.assertEqual((said.count, said.rate, said.length_s, said.first, said.last), (100, "25", 4.0, "a.mp4", ""))
        self.assertEqual((said.moments[0], said.moments[-1]), (0, 49.5))
        self.files("a.0000.png")
        said = delivery_preview(one_emitter(), order(self.folder), None, PlateReader())
        self.assertEqual(
            (said.refused, said.first, said.last),
            ("a.0000.png already exists or is about to be written.", "a.0000.png", "a.0049.png"),
        )

    def test_a_disk_that_is_too_small_is_reported_beforehand(self) -> None:
        said = delivery_preview(
            one_emitter(width=16_000, height=4000),
            order(self.folder, format="exr-float", last=900_000),
            None,
            PlateReader(),
        )
        self.assertEqual(said.notes[0].kind, "disk")

    def test_the_time_estimate_counts_everything(self) -> None:
        # The machine's current speed is measured: the comparison uses one speed.
        for module in (forecast, time_estimate):
            self.enterContext(mock.patch.object(module, "speed", return_value=1.0))

        def seconds(last: int = 199, shot: Shot | None = None, **more: object) -> float:
            given = {"width": 640, "height": 360, "last_frame": 999, "emitter": {"rate": 400}}
            found = delivery_preview(
                shot or one_emitter(**given), order(self.folder, last=last, **more), {}, PlateReader()
            ).seconds
            assert found is not None
            return found

        begin = seconds(0)
        self.assertAlmostEqual((seconds(999) - begin) / (seconds(199) - begin), 5, delta=0.6)
        # Writing takes its time, by the format; so do passes, and both fields.
        self.assertGreater(seconds(format="tiff-float"), seconds(format="jpeg") * 1.2)
        self.assertGreater(seconds(format="exr-half", passes=("depth",)), seconds(format="exr-half") * 1.2)
        # A crowd is run from its first birth on, wherever the order begins, by each process.
        alone = {"emitters": [{"id": "a", "rate": 400, "lifespan": 3}], "last_frame": 999}
        met = {"forces": [{"kind": "flock", "id": "f"}], "links": [{"force": "f", "emitter": "a"}]}
        late = {"last": 999, "first": 950}
        self.assertGreater(seconds(**late, shot=parse_shot(alone | met)), 1.3 * seconds(**late, shot=parse_shot(alone)))

    def test_files_are_about_as_large_as_estimated(self) -> None:
        grain = np.random.default_rng(1).normal(90, 2, (360, 640, 3))
        still(self.folder / "grain.png", np.round(grain).astype(np.uint8), "uint8")
        shot = one_emitter(width=640, height=360, plate={"media": str(self.folder / "grain.png")})
        for form in ("png16", "exr-half", "mov"):
            said = delivery_preview(shot, order(self.folder, name=form, format=form, last=5), None, PlateReader())
            made = deliver(shot, self.folder, form, format=form, last=5, existing="refuse", processes=1)
            self.assertTrue(0.4 < sum(p.stat().st_size for p in made) / said.bytes < 2.5, form)


if __name__ == "__main__":
    unittest.main()

"""Deliveries: which moments, under which names, by how many processes, and what is checked."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from fractions import Fraction
from functools import partial
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from isbjorn.core import render_frame
from isbjorn.core.deliver import Delivery, Order, deliver, settled
from isbjorn.core.deliver.check import check_files
from isbjorn.core.deliver.crew import Crew
from isbjorn.core.deliver.plan import Plan
from isbjorn.core.deliver.purposes import SHIPPED, Purpose, purpose_from_text, purpose_to_text, shipped
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect.delivering import told
from isbjorn.core.media.colour import convert
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.media.stills import read_still
from tests.core.test_media import still
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
        # Evenly from 100 % down to 0 in two seconds: t - t²/4 seconds have gone by; then it waits, and goes on.
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
    @settings(max_examples=40, deadline=None)
    def test_whatever_the_speed_all_of_it_is_shown_and_no_more(self, speed: float, rate: str) -> None:
        made = plan(retime={"speed": speed, "rate": rate})
        frames = [made[k].frame for k in range(len(made))]
        self.assertEqual(frames[0], 0)
        self.assertLess(frames[-1], 50)
        self.assertGreaterEqual(frames[-1] + made[len(made) - 1].lasts_s * 25, 50 - 1e-4)
        self.assertEqual(frames, sorted(frames))

    def test_what_has_no_end_is_refused(self) -> None:
        for retime in ({"speed": 0}, {"keys": [{"at_s": 0, "value": 0}]}):
            with self.assertRaisesRegex(ValidationError, "never ends"):
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
        ready = settled(shot, order(self.folder, **more), "Skarvøy")
        return ready.path(None if ready.form.movie else ready.first).name

    def test_tokens_are_filled_in(self) -> None:
        self.assertEqual(self.name(name="{project}_{shot}", format="mp4"), "Skarvøy_Pier- dusk-1.mp4")
        self.assertEqual(self.name(name="{shot}.{frame}.final", padding=6, first=7), "Pier- dusk-1.000007.final.png")
        self.assertEqual(self.name(name="a_{pass}", first=-3), "a_beauty.-0003.png")
        with self.assertRaisesRegex(IsbjornError, r"no token \{take\}"):
            self.name(name="{take}")

    def test_files_that_are_there_are_never_written_over_unasked(self) -> None:
        self.files("a.0049.png", "a.0099.png")
        with self.assertRaisesRegex(IsbjornError, "a.0049.png is there already"):
            self.name()
        self.assertEqual(self.name(first=60, last=70), "a.0060.png")
        for existing in ("replace", "keep"):
            self.assertEqual(self.name(existing=existing), "a.0000.png")
        with self.assertRaisesRegex(IsbjornError, "needs {version}"):
            self.name(existing="version")

    def test_versions_count_on(self) -> None:
        self.assertEqual(self.name(name="a_v{version}", existing="version"), "a_v001.0000.png")
        self.files("a_v001.0003.png", "a_v002.0000.png", "a_v004.0000.exr")
        self.assertEqual(self.name(name="a_v{version}", existing="version"), "a_v003.0000.png")
        other = order(self.folder, name="a_v003", first=20, last=30)
        ready = settled(one_emitter(), order(self.folder, name="a_v{version}", existing="version"), others=[other])
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
        ready = settled(shot, order(self.folder, last=1, existing="replace"))
        seen: list[dict[str, bytes]] = []
        Delivery(shot, ready, processes=1, on_progress=lambda _: seen.append(self.content("a.*.png"))).run()
        self.assertEqual({len(b) for one in seen for b in one.values()}, {0})
        self.assertTrue(all(len(b) > 100 for b in self.content("a.*.png").values()))
        self.assertEqual(list(self.folder.glob(".a*")), [])


class Pictures(InFolder):
    blurred = one_emitter(**SMALL, emitter={"speed": 900, "size": 4, "rate": 40}, camera={"shutter": 180})

    def picture(self, shot: Shot, at: int = 0, **more: object) -> np.ndarray:
        made = deliver(shot, self.folder, "p{version}", format="exr-float", over_plate=False, processes=1, **more)
        return np.asarray(read_still(made[at])[0], np.float32)

    def test_a_retimed_frame_is_the_shot_at_its_moment(self) -> None:
        found = self.picture(self.blurred, 5, first=20, last=25, retime={"rate": "60"})
        moment = 20 + Fraction(5 * 25, 60)
        wanted = render_frame(self.blurred, moment, over_plate=False, lasts_s=Fraction(1, 60))
        np.testing.assert_array_equal(found, wanted)
        sharp = one_emitter(**SMALL, emitter={"size": 9})
        np.testing.assert_array_equal(
            self.picture(sharp, 3, first=20, last=25, retime={"speed": 50}),
            render_frame(sharp, Fraction(43, 2), over_plate=False),
        )

    def test_motion_blur_is_that_of_the_new_speed(self) -> None:
        def length(speed: float) -> float:
            alpha = self.picture(one, 0, first=20, last=20, retime={"speed": speed} if speed != 100 else None)[..., 3]
            return float((alpha > 0.02).any(axis=1).sum())

        one = one_emitter(
            width=64, height=800, emitter={"speed": 400, "size": 2, "rate": 1}, camera={"shutter": 180}
        )  # fmt: skip
        # 400 px/s and half of a frame are 8 px; at a quarter of the speed 2.
        self.assertAlmostEqual(length(100) - length(25), 6, delta=1)

    def test_the_plate_between_its_frames(self) -> None:
        for number, code in enumerate((28, 76)):
            still(self.folder / f"grey.{number:04d}.png", np.full((54, 96, 3), code, np.uint8), "uint8")
        shot = Shot.model_validate({**SMALL, "plate": {"media": str(self.folder / "grey.####.png")}})

        def grey(plate: str) -> float:
            retime = {"rate": "100", "plate": plate}
            made = deliver(shot, self.folder, "g{version}", format="png8", retime=retime, first=0, last=0, processes=1)
            return float(read_still(made[3])[0][36, 64, 0])

        # Three quarters of the way from code 28 to code 76.
        self.assertAlmostEqual(grey("held"), 28, delta=1)
        self.assertAlmostEqual(grey("nearest"), 76, delta=1)
        light = [((code / 255 + 0.055) / 1.055) ** 2.4 for code in (28, 76)]
        mixed = light[0] + 0.75 * (light[1] - light[0])
        self.assertAlmostEqual(grey("blended"), 255 * (1.055 * mixed ** (1 / 2.4) - 0.055), delta=1.5)

    def test_fields_are_two_moments(self) -> None:
        shot = one_emitter(**SMALL, emitter={"speed": 300, "size": 9, "direction": 0, "rate": 17})
        found = self.picture(shot, 0, first=20, last=20, fields="upper first")
        first, then = (render_frame(shot, 20 + Fraction(k, 2), over_plate=False) for k in (0, 1))
        np.testing.assert_array_equal(found[0::2], first[0::2])
        np.testing.assert_array_equal(found[1::2], then[1::2])
        self.assertGreater(float(np.abs(first - then).max()), 0.1)
        with self.assertRaisesRegex(IsbjornError, "no interlaced"):
            deliver(shot, self.folder, format="mp4", fields="upper first")

    def test_words_stand_where_they_are_asked_for(self) -> None:
        shot = one_emitter(width=480, height=270, background="#808080")
        plain = render_frame(shot, 20)
        for burn, rows, columns in (
            ("name", slice(220, 270), slice(0, 160)), ("timecode", slice(220, 270), slice(160, 320)),
            ("frame", slice(220, 270), slice(320, 480)), ("figures", slice(0, 50), slice(0, 480)),
        ):  # fmt: skip
            made = deliver(
                shot, self.folder, "w{version}", format="exr-float", first=20, last=20, burn=[burn], processes=1
            )
            off = np.abs(np.asarray(read_still(made[0])[0])[..., :3] - plain[..., :3]).max(axis=2) > 0.02
            self.assertGreater(int(off[rows, columns].sum()), 150, burn)
            off[rows, columns] = False
            self.assertEqual(int(off.sum()), 0, burn)


class Crewed(InFolder):
    shot = one_emitter(**SMALL, emitter={"size": 9, "spread": 360, "rate": 400})

    def delivery(self, form: str, **more: object) -> Delivery:
        place = self.folder / str(len(list(self.folder.iterdir())))
        ready = settled(self.shot, order(place, format=form, last=59, **more))
        return Delivery(self.shot, ready)

    def test_files_are_the_same_by_however_many_processes(self) -> None:
        for form in ("png8", "mp4", "ffv1"):
            with self.subTest(form):
                found = []
                for count in (1, 2):
                    one = self.delivery(form)
                    one.processes = count
                    found.append([p.read_bytes() for p in one.run()])
                self.assertTrue(found[0] == found[1])

    def test_a_script_needs_no_guard(self) -> None:
        script = self.folder / "script.py"
        script.write_text(
            "from isbjorn.core import Shot\nfrom isbjorn.core.deliver import deliver\n"
            f"print('begun', len(deliver(Shot(width=64, height=36), {str(self.folder)!r}, first=0, last=23, processes=2)))\n"
        )
        done = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, check=False)
        self.assertEqual((done.stdout, done.returncode), ("begun 24\n", 0), done.stderr)

    def test_a_process_that_is_killed_loses_no_frame(self) -> None:
        one = self.delivery("png8")
        one.order.path(0).parent.mkdir(parents=True, exist_ok=True)
        killed: list[int] = []

        def kill(crew: Crew) -> None:
            while (not killed and crew._pool is None) or not list(one.job.folder.glob("*.png")):
                time.sleep(0.01)
            assert crew._pool is not None
            killed.append(next(iter(crew._pool._processes)))
            os.kill(killed[0], signal.SIGKILL)

        with Crew(2, partial(PlateReader, None)) as crew:
            thread = threading.Thread(target=kill, args=(crew,))
            thread.start()
            told: list[int] = []
            crew.run(one.job, one.job.parts, told.append, None)
            thread.join()
        self.assertEqual((len(killed), told[-1]), (1, 60))
        self.assertEqual(len(self.content(str(one.job.folder.name) + "/*.png")), 60)
        check_files(one._maker(), [one.order.path(n) for n in range(60)])

    def test_a_part_that_always_ends_its_process_is_given_up(self) -> None:
        one = self.delivery("png8")
        with Crew(2, partial(os._exit, 3)) as crew, self.assertRaisesRegex(IsbjornError, "ended 4 times"):
            crew.run(one.job, one.job.parts[:2], lambda _: None, None)

    def test_what_is_wrong_with_a_file_is_found(self) -> None:
        one = self.delivery("png8")
        one.processes = 1
        made = one.run()
        good = made[3].read_bytes()
        other = made[4].read_bytes()
        for number, content, words in (
            (3, good[: len(good) // 2], "cannot be"), (3, b"no picture", "cannot be opened"), (0, other, "not what the shot shows"),
        ):  # fmt: skip
            before = made[number].read_bytes()
            made[number].write_bytes(content)
            with self.assertRaisesRegex(IsbjornError, words):
                check_files(one._maker(), made)
            made[number].write_bytes(before)
        film = self.delivery("mp4")
        film.processes = 1
        (path,) = film.run()
        shutil.copy(self.delivery("mp4", first=10).run()[0], path)
        with self.assertRaisesRegex(IsbjornError, "50 frames in place of 60"):
            check_files(film._maker(), [path])


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
                said = told(
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
            (b"{", "no JSON"), (b"[]", "no purpose"), (b'{"name": "x", "order": {"format": "mp3"}}', "no format"),
            (b'{"name": "x", "order": {"speed": 3}}', "speed"), (b"[" * 100_000, "no JSON"), (b" " * 2_000_000, "1 MB"),
        ):  # fmt: skip
            with self.assertRaisesRegex(IsbjornError, words):
                purpose_from_text(text)
        with self.assertRaisesRegex(IsbjornError, "There are: Over the plate"):
            shipped("for")
        self.assertEqual(shipped("a st").frames, "one")


class Told(InFolder):
    def test_it_says_what_it_would_make(self) -> None:
        said = told(one_emitter(), order(self.folder, format="mp4", retime={"speed": 50}), None, PlateReader())
        self.assertEqual((said.count, said.rate, said.length_s, said.first, said.last), (100, "25", 4.0, "a.mp4", ""))
        self.assertEqual((said.moments[0], said.moments[-1]), (0, 49.5))
        self.files("a.0000.png")
        said = told(one_emitter(), order(self.folder), None, PlateReader())
        self.assertEqual(
            (said.refused, said.first, said.last),
            ("a.0000.png is there already, or will be.", "a.0000.png", "a.0049.png"),
        )

    def test_a_disk_that_is_too_small_is_told_before(self) -> None:
        said = told(
            one_emitter(width=16_000, height=4000),
            order(self.folder, format="exr-float", last=900_000),
            None,
            PlateReader(),
        )
        self.assertEqual(said.notes[0].kind, "disk")

    def test_files_come_about_as_large_as_is_told(self) -> None:
        grain = np.random.default_rng(1).normal(90, 2, (360, 640, 3))
        still(self.folder / "grain.png", np.round(grain).astype(np.uint8), "uint8")
        shot = one_emitter(width=640, height=360, plate={"media": str(self.folder / "grain.png")})
        for form in ("png16", "exr-half", "mov"):
            said = told(shot, order(self.folder, name=form, format=form, last=5), None, PlateReader())
            made = deliver(shot, self.folder, form, format=form, last=5, existing="refuse", processes=1)
            self.assertTrue(0.4 < sum(p.stat().st_size for p in made) / said.bytes < 2.5, form)


class Animations(InFolder):
    shot = one_emitter(
        width=160, height=90, emitter={"size": 30, "speed": 300, "direction": 0, "rate": 7}, background="#203040"
    )

    def test_their_frames_are_those_of_the_shot(self) -> None:
        for form, over, tolerance in (
            ("apng", True, 0.004),
            ("apng", False, 0.02),
            ("webp", True, 0.02),
            ("gif", True, 0.03),
        ):
            with self.subTest(f"{form} {over}"):
                (path,) = deliver(
                    self.shot, self.folder, "a{version}", format=form, over_plate=over, first=10, last=39, processes=1
                )  # fmt: skip
                done, found = cv2.imreadanimation(str(path))
                self.assertTrue(done)
                self.assertEqual((len(found.frames), set(found.durations)), (30, {40}))
                for at in (0, 13, 29):
                    picture = render_frame(self.shot, 10 + at, over_plate=over)
                    pixels = found.frames[at].astype(np.float32) / 255
                    shown = convert(np.clip(picture[..., :3], 0, 1), "linear", "srgb")
                    if over:
                        self.assertLess(float(np.abs(pixels[..., 2::-1] - shown).mean()), tolerance)
                    else:
                        self.assertLess(float(np.abs(pixels[..., 3] - picture[..., 3]).mean()), tolerance)

    def test_a_contact_sheet_shows_every_frame(self) -> None:
        (path,) = deliver(self.shot, self.folder, "c", format="contact", last=5, existing="refuse", processes=1)
        self.assertEqual(path.name, "c.png")
        sheet = np.asarray(read_still(path)[0], np.float32) / 255
        self.assertGreater(sheet.shape[1], 3 * 320)
        for place in range(6):
            columns = (sheet.shape[1] - 10) // 330
            left, top = 10 + place % columns * 330, 10 + place // columns * (180 + 22 + 10)
            shown = convert(np.clip(render_frame(self.shot, place)[..., :3], 0, 1), "linear", "srgb")
            small = cv2.resize(shown, (80, 45), interpolation=cv2.INTER_AREA)
            there = cv2.resize(sheet[top : top + 180, left : left + 320], (80, 45), interpolation=cv2.INTER_AREA)
            self.assertLess(float(np.abs(small - there).mean()), 0.01)

    def test_what_would_be_too_much_is_refused(self) -> None:
        for form, more, words in (
            ("contact", {"last": 900}, "at most 400"),
            ("gif", {"last": 900, "scale": 8}, "too many"),
        ):
            with self.assertRaisesRegex(IsbjornError, words):
                deliver(self.shot, self.folder, format=form, **more)


class Stills(InFolder):
    def test_exr_is_compressed_as_it_is_asked_for(self) -> None:
        shot = one_emitter(**SMALL)
        for name in ("zip", "zips", "piz", "dwaa"):
            made = deliver(
                shot, self.folder, name, format="exr-half", compression=name, existing="refuse", last=0, processes=1
            )
            self.assertTrue(oiio.ImageInput.open(str(made[0])).spec().getattribute("compression").startswith(name))
        with self.assertRaisesRegex(IsbjornError, "no compression of PNG"):
            deliver(shot, self.folder, compression="piz")


if __name__ == "__main__":
    unittest.main()

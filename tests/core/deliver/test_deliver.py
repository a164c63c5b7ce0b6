"""Deliveries: what is in the files, by how many processes they are made, and what is checked."""

import os
import shutil
import signal
import subprocess
import sys
import threading
import unittest
from fractions import Fraction
from functools import partial

import cv2
import numpy as np
import OpenImageIO as oiio

from isbjorn.core import render_frame
from isbjorn.core.deliver import Delivery, deliver, named_order
from isbjorn.core.deliver.check import check_files
from isbjorn.core.deliver.worker_pool import WorkerPool
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import convert
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.read.stills import read_still
from tests.core.deliver.test_orders import SMALL, InFolder, order
from tests.core.media.test_media import still
from tests.shots import one_emitter
from tests.waiting import until


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
        with self.assertRaisesRegex(IsbjornError, "does not support interlaced"):
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
        ready = named_order(self.shot, order(place, format=form, last=59, **more))
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

        def kill(crew: WorkerPool) -> None:
            until(lambda: crew._pool is not None and list(one.job.folder.glob("*.png")), "no frame was made", 0.01)
            assert crew._pool is not None
            killed.append(next(iter(crew._pool._processes)))
            os.kill(killed[0], signal.SIGKILL)

        with WorkerPool(2, partial(PlateReader, None)) as crew:
            thread = threading.Thread(target=kill, args=(crew,))
            thread.start()
            reported: list[int] = []
            crew.run(one.job, one.job.parts, reported.append, None)
            thread.join()
        self.assertEqual((len(killed), reported[-1]), (1, 60))
        self.assertEqual(len(self.content(str(one.job.folder.name) + "/*.png")), 60)
        check_files(one._maker(), [one.order.path(n) for n in range(60)])

    def test_a_part_that_always_ends_its_process_is_given_up(self) -> None:
        one = self.delivery("png8")
        with WorkerPool(2, partial(os._exit, 3)) as crew, self.assertRaisesRegex(IsbjornError, "ended 4 times"):
            crew.run(one.job, one.job.parts[:2], lambda _: None, None)

    def test_what_is_wrong_with_a_file_is_found(self) -> None:
        one = self.delivery("png8")
        one.processes = 1
        made = one.run()
        good = made[3].read_bytes()
        other = made[4].read_bytes()
        for number, content, words in (
            (3, good[: len(good) // 2], "cannot be"), (3, b"no picture", "cannot be opened"), (0, other, "differs from the shot"),
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
        with self.assertRaisesRegex(IsbjornError, "50 frames instead of 60"):
            check_files(film._maker(), [path])


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
        with self.assertRaisesRegex(IsbjornError, "not a compression of PNG"):
            deliver(shot, self.folder, compression="piz")


if __name__ == "__main__":
    unittest.main()

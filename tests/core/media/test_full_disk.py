"""A disk that fills up: nothing unfinished is reported as done, and no partial file is left."""

import functools
import os
import shutil
import subprocess
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.errors import IsbjornError
from isbjorn.core.media.read.stills import read_still
from isbjorn.core.media.write.formats import FORMATS, PictureInfo
from isbjorn.core.media.write.write_movie import MovieSound, join_segments, write_segment
from isbjorn.core.media.write.write_still import write_still
from tests.shots import one_emitter

RATE = Fraction(25)


def noise(seed: int, height: int = 720, width: int = 1280) -> np.ndarray:
    rng = np.random.default_rng(seed)
    found = rng.random((height, width, 4), np.float32)
    found[..., 3] = 1
    return found


class Full(unittest.TestCase):
    """On a disk of 12 MB."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        mount = ["mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", str(self.folder)]
        if os.geteuid() != 0 or subprocess.run(mount, capture_output=True, check=False).returncode != 0:
            self.skipTest("a small disk can be mounted by root only")
        self.addCleanup(subprocess.run, ["umount", "-l", str(self.folder)], check=False)

    def left(self) -> list[str]:
        return sorted(p.name for p in self.folder.iterdir())

    def test_pictures(self) -> None:
        for name in ("png8", "png16", "exr-half", "exr-float"):
            with self.subTest(name):
                form, written = FORMATS[name], 0
                with self.assertRaises(IsbjornError) as caught:
                    for number in range(9):
                        path = self.folder / f"{name}.{number}{form.suffix}"
                        write_still(path, noise(number), form, True, PictureInfo(RATE, "00:00:00:00"))
                        written += 1
                self.assertIn("No space left", str(caught.exception))
                self.assertEqual(self.left(), [f"{name}.{n}{form.suffix}" for n in range(written)])
                for path in self.folder.iterdir():
                    self.assertEqual(read_still(path)[0].shape, (720, 1280, 4))
                    path.unlink()

    def test_movies(self) -> None:
        small = functools.partial(noise, height=360, width=640)
        for name in ("mp4", "mov", "webm"):
            with self.subTest(name):
                form = FORMATS[name]
                (self.folder / "ballast").write_bytes(b"x" * (12 * 2**20 - 100_000))
                with self.assertRaisesRegex(IsbjornError, "No space left on device"):
                    write_segment(self.folder / f"a{form.suffix}", map(small, range(4)), MovieSound(form, False, RATE))
                self.assertEqual(self.left(), ["ballast"])
                (self.folder / "ballast").unlink()
                # One segment finds room, both together do not.
                part = self.folder / f"a{form.suffix}"
                write_segment(part, [small(0)], MovieSound(form, False, RATE))
                room = 12 * 2**20 - part.stat().st_size
                (self.folder / "ballast").write_bytes(b"x" * (room - part.stat().st_size - 40_000))
                with self.assertRaisesRegex(IsbjornError, "No space left on device"):
                    join_segments(
                        [part, part], self.folder / f"b{form.suffix}", MovieSound(form, False, RATE), "00:00:00:00"
                    )
                self.assertEqual(self.left(), sorted(["ballast", part.name]))
                with av.open(str(part)) as whole:
                    self.assertEqual(len(list(whole.decode(video=0))), 1)
                for path in self.folder.iterdir():
                    path.unlink()

    def test_a_delivery(self) -> None:
        (self.folder / "ballast").write_bytes(b"x" * (12 * 2**20 - 300_000))
        shot = one_emitter(width=640, height=360, emitter={"rate": 3000, "spread": 360})
        order = Order(format="exr-float", first=30, last=60, folder=str(self.folder), name="f", over_plate=False)
        reported: list[int] = []
        with self.assertRaises(IsbjornError):
            Delivery(shot, order, on_progress=reported.append, processes=1).run()
        self.assertLess(reported[-1], 31)
        self.assertEqual(
            [p for p in self.left() if p != "ballast"], [f"f.{30 + n:04d}.exr" for n in range(reported[-1])]
        )


if __name__ == "__main__":
    unittest.main()

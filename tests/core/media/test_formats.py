"""Every format that is offered: what is written comes back, within what the format can hold; and formats from elsewhere."""

import os
import shutil
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import OpenImageIO as oiio
from pydantic import ValidationError

from isbjorn.core.deliver import Delivery, Order, check_order
from isbjorn.core.document.files import parse_shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.imaging.colour import convert
from isbjorn.core.media.read.movies import Movie
from isbjorn.core.media.read.stills import read_still
from isbjorn.core.media.write.formats import FORMATS, Codec, Format, PictureInfo, Still
from isbjorn.core.media.write.write_movie import MovieSound, join_segments, write_segment

RATE = Fraction(25)
# DNxHR takes nothing smaller.
_SIZE = 256, 144
# By how many steps of 255, in the file's own encoding, a smooth chart may come back off: on the mean, and at most.
_STEPS = {"uint8": (0.26, 0.53), "uint16": (1e-3, 3e-3), "uint10": (0.07, 0.13)}
# Movies are read as 8 bits; those with halved colour lose some of it at edges.
_MOVIES = {"ffv1": (0.7, 2), "mov": (0.8, 3), "prores-hq": (1.6, 8), "dnxhr": (1.6, 8), "h265": (1.8, 8), "av1": (1.6, 9),
           "mp4": (1.6, 9), "webm": (2.0, 12)}  # fmt: skip


def chart(shift: float = 0.0, width: int = 128, height: int = 96) -> np.ndarray:
    """Smooth colours, opaque, in linear light (height, width, 4)."""
    y, x = np.mgrid[:height, :width].astype(np.float32) / np.float32(width)
    shown = np.stack([0.1 + 0.8 * x, 0.15 + 0.9 * y, 0.9 - 0.7 * x, np.ones_like(x)], axis=2)
    shown[..., :3] = np.clip(shown[..., :3] + np.float32(shift), 0, 1)
    return convert(np.ascontiguousarray(shown, np.float32), "srgb", "linear")


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def still(self, form: Format, picture: np.ndarray, alpha: bool = False) -> tuple[np.ndarray, Any]:
        """A picture through a file: its values as stored, in [0, 1], and the file's facts."""
        path = self.folder / f"x{form.suffix}"
        form.write(path, picture, alpha, PictureInfo(RATE, "01:02:03:04"))
        image = oiio.ImageInput.open(str(path))
        spec = image.spec()
        pixels = np.asarray(image.read_image("float"))
        image.close()
        return pixels, spec


class Stills(InFolder):
    def test_a_chart_comes_back_within_the_steps_of_its_kind(self) -> None:
        for form in FORMATS:
            if form.still is None:
                continue
            with self.subTest(form.name):
                picture, still = chart(), form.still
                found, spec = self.still(form, picture)
                self.assertEqual(found.shape, (96, 128, 3))
                wanted = convert(picture, "linear", still.encoding)[..., :3]
                off = np.abs(found - wanted) * 255
                if still.encoding == "linear":
                    self.assertLess(
                        float((np.abs(found - wanted) / wanted).max()), 1e-6 if still.kind == "float" else 6e-4
                    )
                elif form.name == "jpeg":
                    self.assertLess(float(off.mean()), 0.8)
                else:
                    mean, most = _STEPS[still.kind]
                    self.assertLess(float(off.mean()), mean)
                    self.assertLess(float(off.max()), most)
                if form.name == "dpx10":
                    self.assertEqual(spec.getattribute("oiio:BitsPerSample"), 10)

    def test_what_it_reads_again_is_what_it_wrote(self) -> None:
        for form in FORMATS:
            if form.still is None:
                continue
            with self.subTest(form.name):
                self.still(form, chart())
                pixels, encoding, _ = read_still(self.folder / f"x{form.suffix}", None)
                scale = float(np.iinfo(pixels.dtype).max) if pixels.dtype.kind == "u" else 1.0
                light = convert(
                    np.ascontiguousarray(pixels[..., :3] / np.float32(scale), np.float32), encoding, "linear"
                )
                seen, wanted = (convert(np.ascontiguousarray(p[..., :3]), "linear", "srgb") for p in (light, chart()))
                self.assertLess(float(np.abs(seen - wanted).mean()) * 255, 0.8)

    def test_alpha_where_it_is_offered(self) -> None:
        picture = chart() * np.float32(0.5)
        for form in FORMATS:
            if form.still is None or not form.alpha:
                continue
            with self.subTest(form.name):
                found, spec = self.still(form, picture, True)
                np.testing.assert_allclose(found[..., 3], 0.5, atol=0.51 / 255)
                if form.exact_light:
                    np.testing.assert_allclose(found[..., :3], picture[..., :3], rtol=6e-4)
                self.assertEqual(spec.alpha_channel, 3)

    def test_the_same_picture_is_the_same_file(self) -> None:
        for form in FORMATS:
            if form.still is None:
                continue
            with self.subTest(form.name):
                reported = []
                for name in "ab":
                    path = self.folder / f"{name}{form.suffix}"
                    form.write(path, chart(), False, PictureInfo(RATE, "00:00:01:00"))
                    reported.append(path.read_bytes())
                self.assertEqual(*reported)


class Movies(InFolder):
    def test_a_chart_comes_back_frame_by_frame_across_segments(self) -> None:
        for form in FORMATS:
            if form.codec is None or form.codec.whole:
                continue
            with self.subTest(form.name):
                parts = []
                for segment in range(2):
                    parts.append(self.folder / f"{segment}{form.suffix}")
                    shades = [chart(0.01 * (5 * segment + n), *_SIZE) for n in range(5)]
                    write_segment(parts[-1], shades, MovieSound(form, False, RATE))
                target = self.folder / f"{form.name}{form.suffix}"
                join_segments(parts, target, MovieSound(form, False, RATE), "01:00:00:00")
                movie = Movie(target)
                self.assertEqual((movie.frames, movie.rate, movie.width, movie.height), (10, RATE, *_SIZE))
                mean, most = _MOVIES[form.name]
                for number in (0, 4, 5, 9):
                    seen = movie.read(number)[..., :3].astype(np.float32)
                    wanted = convert(chart(0.01 * number, *_SIZE), "linear", "rec709")[..., :3] * 255
                    off = np.abs(seen - wanted)
                    self.assertLess(float(off.mean()), mean)
                    self.assertLess(float(off.max()), most)
                movie.close()
                with av.open(str(target)) as file:
                    stream: Any = file.streams.video[0]
                    self.assertEqual(stream.codec_context.color_trc, 1)
                    # FFmpeg reads ProRes 4444 as 12 bits.
                    self.assertIn(stream.pix_fmt, (form.codec.pixels, form.codec.pixels.replace("444p10", "444p12")))

    def test_no_encoder_leaves_a_thread_that_goes_before_everything_else(self) -> None:
        grey = np.full((*_SIZE[::-1], 4), 0.2, np.float32)
        for name in ("av1", "h265"):
            write_segment(self.folder / f"segment.{name}", [grey] * 3, MovieSound(FORMATS[name], False, RATE))
            threads = [int(task.name) for task in Path("/proc/self/task").iterdir()]
            self.assertEqual({os.sched_getscheduler(one) for one in threads}, {os.SCHED_OTHER}, name)

    def test_as_small_as_each_goes_and_no_smaller(self) -> None:
        for form in FORMATS:
            if form.codec is None or form.codec.whole:
                continue
            with self.subTest(form.name):
                path, (width, height) = self.folder / f"{form.name}{form.suffix}", form.smallest
                write_segment(path, [chart(0.0, width, height)] * 2, MovieSound(form, False, RATE))
                self.assertEqual(Movie(path).frames, 2)
        order = Order(format="dnxhr", first=0, last=0, folder=str(self.folder), name="a", scale=0.1)
        with self.assertRaisesRegex(IsbjornError, "needs at least 256 × 120"):
            check_order(parse_shot({"emitters": []}), order)

    def test_alpha_where_it_is_offered(self) -> None:
        clear = chart()
        clear[:, :64] *= np.float32(0.25)
        for form in FORMATS:
            if form.codec is None or form.codec.whole or not form.alpha:
                continue
            with self.subTest(form.name):
                path = self.folder / f"{form.name}{form.suffix}"
                write_segment(path, [clear] * 3, MovieSound(form, True, RATE))
                options = {"vcodec": "libvpx-vp9"} if form.codec.name == "libvpx-vp9" else {}
                with av.open(str(path), options=options) as file:
                    stream: Any = file.streams.video[0]
                    context = av.CodecContext.create("libvpx-vp9", "r") if form.codec.name == "libvpx-vp9" else None
                    packet = next(file.demux(stream))
                    frame = (context.decode(packet) if context else packet.decode())[0]  # type: ignore[attr-defined]
                alpha = frame.reformat(format="rgba").to_ndarray()[..., 3].astype(float)
                self.assertLess(abs(alpha[:, 8:56].mean() - 64), 1.5)
                self.assertGreater(alpha[:, 72:].mean(), 253.5)


class Registered(InFolder):
    def test_one_from_elsewhere_is_delivered(self) -> None:
        form = FORMATS.register(Format("bytes", "Bytes", ".raw", writer=f"{__name__}:write_bytes"))
        self.addCleanup(FORMATS._known.pop, "bytes")
        order = Order(format="bytes", first=2, last=3, folder=str(self.folder), name="a", scale=0.05)
        made = Delivery(parse_shot({"emitters": []}), order, processes=1).run()
        self.assertEqual([path.name for path in made], ["a.0002.raw", "a.0003.raw"])
        self.assertEqual(made[0].read_bytes(), b"00:00:00:02 64 36")
        self.assertIn(form, list(FORMATS))

    def test_wrong_ones_are_refused_in_words(self) -> None:
        for wrong, words in (
            (Format("png8", "x", ".png", Still("uint8")), "already"),
            (Format("none", "x", ".png"), "one way"),
            (Format("two", "x", ".png", Still("uint8"), Codec("ffv1", "bgra", "matroska")), "one way"),
        ):
            with self.subTest(wrong.name), self.assertRaisesRegex(IsbjornError, words):
                FORMATS.register(wrong)
        with self.assertRaisesRegex(ValidationError, "not a format; use one of: png8, png16"):
            Order(format="mp3", first=0, last=0, folder="/tmp", name="x")


def write_bytes(path: Path, picture: np.ndarray, form: Format, alpha: bool, about: PictureInfo) -> None:
    path.write_bytes(f"{about.timecode} {picture.shape[1]} {picture.shape[0]}".encode())


if __name__ == "__main__":
    unittest.main()

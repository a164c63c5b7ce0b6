"""Plates in, deliveries out: exact frames, rates, timecode and colour; clear words about what cannot be read."""

import json
import os
import shutil
import subprocess
import tempfile
import unittest
import unittest.mock
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio

from isbjorn.core import IsbjornError, Shot, render_frame
from isbjorn.core.deliver import Delivery, Order
from isbjorn.core.document import Plate
from isbjorn.core.errors import Stale
from isbjorn.core.evaluate.plate_time import plate_frame
from isbjorn.core.imaging.colour import convert, decoding_table
from isbjorn.core.imaging.display_encoding import lit, over
from isbjorn.core.imaging.shrink import shrunk
from isbjorn.core.media.read.movies import Movie
from isbjorn.core.media.read.plates import PlateReader, fitted, probe
from isbjorn.core.media.read.stills import pattern_of, read_still
from isbjorn.core.runtime.shared_cache import SharedCache
from tests.shots import one_emitter


def movie(
    path: Path, frames: int, rate: Fraction = Fraction(25), size: tuple[int, int] = (64, 36), transfer: int = 13
) -> None:
    """A movie in which frame n is grey of code 20 + 2n."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("libx264", rate=rate, options={"crf": "1", "g": "12"})
        stream.width, stream.height, stream.pix_fmt = (*size, "yuv420p")
        context = stream.codec_context
        context.color_trc, context.colorspace, context.color_range = transfer, 1, 1
        for number in range(frames):
            grey = np.full((size[1], size[0], 3), 20 + 2 * number, np.uint8)
            frame = av.VideoFrame.from_ndarray(grey, format="rgb24")
            frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG")
            frame.pts = number
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def still(path: Path, pixels: np.ndarray, kind: str, **attributes: object) -> None:
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
    for name, value in attributes.items():
        spec.attribute(name.replace("__", ":"), value)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec), out.geterror()
    out.write_image(np.ascontiguousarray(pixels))
    out.close()


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)


class Plates(InFolder):
    def grey(self, shot: Shot, frame: int) -> float:
        """The sRGB code of the plate's middle pixel."""
        found = PlateReader().at(shot, shot.seconds(frame), 64, 36)
        assert found is not None
        return float(convert(found[18:19, 32:33, :3], "linear", "srgb")[0, 0, 1] * 255)

    def test_every_frame_of_a_movie_in_any_order(self) -> None:
        movie(self.folder / "a.mp4", 60)
        shot = Shot(width=64, height=36, plate=Plate(media=str(self.folder / "a.mp4")))
        for frame in (0, 59, 13, 14, 12, 37):
            self.assertAlmostEqual(self.grey(shot, frame), 20 + 2 * frame, delta=1.1)

    def test_a_plate_of_another_rate_keeps_its_speed(self) -> None:
        movie(self.folder / "a.mp4", 100, Fraction(50))
        shot = Shot(width=64, height=36, plate=Plate(media=str(self.folder / "a.mp4"), offset_s=0.2))
        self.assertAlmostEqual(self.grey(shot, 25), 20 + 2 * 40, delta=1.1)

    def test_beyond_its_ends(self) -> None:
        for beyond, frames in (("hold", (0, 9)), ("loop", (8, 2)), ("blank", (None, None))):
            plate = Plate(media="x", beyond=beyond)  # type: ignore[arg-type]
            found = (
                plate_frame(plate, Fraction(-2, 25), Fraction(25), 10),
                plate_frame(plate, Fraction(12, 25), Fraction(25), 10),
            )
            self.assertEqual(found, frames)

    def test_numbered_pictures_of_all_kinds(self) -> None:
        value = np.float32(0.5)
        for suffix, kind, pixels, delta in (
            (".png", "uint8", np.full((4, 6, 3), 128, np.uint8), 0.7),
            (".jpg", "uint8", np.full((4, 6, 3), 128, np.uint8), 1.0),
            (".tif", "uint16", np.full((4, 6, 3), 32896, np.uint16), 0.7),
            (".exr", "float", np.full((4, 6, 3), 0.2158605, np.float32), 0.7),
        ):
            for number in (7, 8, 9):
                still(self.folder / f"x.{number:04d}{suffix}", pixels, kind)
            pattern = pattern_of(self.folder / f"x.0008{suffix}")
            self.assertEqual(pattern, str(self.folder / f"x.####{suffix}"))
            self.assertEqual(probe(str(pattern))["frames"], 3)
            shot = Shot(width=64, height=36, plate=Plate(media=str(pattern)))
            self.assertAlmostEqual(self.grey(shot, 1), 255 * value, delta=delta)

    def test_dpx_is_read_as_video(self) -> None:
        still(self.folder / "x.dpx", np.full((4, 6, 3), 32768, np.uint16), "uint16")
        self.assertEqual(probe(str(self.folder / "x.dpx"))["encoding"], "rec709")

    def test_straight_alpha_is_premultiplied_in_linear_light(self) -> None:
        pixels = np.full((4, 6, 4), [255, 255, 255, 128], np.uint8)
        still(self.folder / "a.png", pixels, "uint8", oiio__UnassociatedAlpha=1)
        shot = Shot(width=16, height=16, plate=Plate(media=str(self.folder / "a.png")))
        found = PlateReader().at(shot, Fraction(0), 16, 16)
        assert found is not None
        np.testing.assert_allclose(found[8, 8], [128 / 255] * 4, atol=2e-3)

    def test_fitting(self) -> None:
        picture = np.ones((10, 20, 4), np.float32)
        self.assertEqual(fitted(picture, 40, 40, "fit", 1)[0, 0, 3], 0)
        self.assertEqual(fitted(picture, 40, 40, "fill", 1).min(), 1)
        self.assertEqual(int((fitted(picture, 40, 40, "pixels", 1)[..., 3] == 1).sum()), 200)

    def test_what_cannot_be_read_is_said(self) -> None:
        movie(self.folder / "a.mp4", 30)
        whole = (self.folder / "a.mp4").read_bytes()
        (self.folder / "cut.mp4").write_bytes(whole[: len(whole) // 2])
        (self.folder / "text.png").write_text("cannot be read")
        still(self.folder / "ok.png", np.zeros((64, 64, 3), np.uint8), "uint8")
        (self.folder / "cut.png").write_bytes((self.folder / "ok.png").read_bytes()[:60])
        (self.folder / "empty.mov").write_bytes(b"")
        for name in ("cut.mp4", "text.png", "cut.png", "empty.mov", "gone.exr", "gone.####.png", "notes.txt"):
            with self.subTest(name), self.assertRaises(IsbjornError) as caught:
                probe(str(self.folder / name))
            self.assertTrue(caught.exception.where and caught.exception.remedy)

    def test_a_missing_number_is_named(self) -> None:
        for number in (1, 3):
            still(self.folder / f"x.{number}.png", np.zeros((4, 4, 3), np.uint8), "uint8")
        shot = Shot(width=64, height=36, plate=Plate(media=str(self.folder / "x.#.png")))
        with self.assertRaises(IsbjornError) as caught:
            self.grey(shot, 1)
        self.assertIn("frame 2", str(caught.exception))


class Kept(InFolder):
    """Frames at their size: as codes of 16 bits, handed from reader to reader."""

    def read(self, shared_cache: SharedCache | None, width: int = 60, height: int = 40) -> tuple[np.ndarray, int]:
        """A frame from a fresh reader, and how many frames it decoded."""
        shot = Shot(width=120, height=80, plate=Plate(media=str(self.movie), fit="fill"))
        reader = PlateReader(shared_cache=shared_cache)
        with unittest.mock.patch.object(Movie, "read", autospec=True, side_effect=Movie.read) as decoded:
            found = reader.at(shot, Fraction(3, 25), width, height)
            assert found is not None
            found[:] = 7  # the caller owns the array and may change it
            again = reader.at(shot, Fraction(3, 25), width, height)
        assert again is not None
        return again, decoded.call_count

    def setUp(self) -> None:
        super().setUp()
        self.movie = self.folder / "plate.mkv"
        rng = np.random.default_rng(8)
        self.pixels = [rng.integers(0, 256, (80, 120, 3), np.uint8) for _ in range(6)]
        with av.open(str(self.movie), "w") as file:
            stream = file.add_stream("ffv1", rate=25)
            stream.width, stream.height, stream.pix_fmt = 120, 80, "bgr0"
            for pixels in self.pixels:
                file.mux(stream.encode(av.VideoFrame.from_ndarray(pixels, format="rgb24")))
            file.mux(stream.encode())

    def test_the_mean_of_light_within_the_steps_of_a_code(self) -> None:
        table = decoding_table("rec709", 256)
        assert table is not None
        exact = table.astype(np.float64)[self.pixels[3]].reshape(40, 2, 60, 2, 3).mean(axis=(1, 3))
        found, decoded = self.read(None)
        self.assertEqual(decoded, 1)
        self.assertLess(np.abs(np.sqrt(found[..., :3]) - np.sqrt(exact)).max(), 0.51 / 65535 + 1e-6)
        self.assertTrue((found[..., 3] == 1).all())

    def test_white_stays_white_at_any_size(self) -> None:
        table = decoding_table("srgb", 256)
        assert table is not None
        white = np.full((90, 160, 3), 255, np.uint8)
        for width, height in ((159, 89), (113, 64), (98, 55), (49, 27), (160, 90), (7, 3)):
            self.assertTrue((lit(shrunk(white, table, width, height)) == 1).all())

    def test_what_one_reader_decoded_no_other_has_to(self) -> None:
        shared_cache = SharedCache(self.folder / "cache", 64 << 20)
        first, decoded = self.read(shared_cache)
        self.assertEqual(decoded, 1)
        second, decoded = self.read(SharedCache(self.folder / "cache", 64 << 20))
        self.assertEqual(decoded, 0)
        np.testing.assert_array_equal(second, first)
        self.assertEqual(self.read(shared_cache, 30, 20)[1], 1)
        # Another file of the same name is another plate.
        os.utime(self.movie, (1, 1))
        self.assertEqual(self.read(shared_cache)[1], 1)
        # Forgetting the readable folders forgets them for all.
        PlateReader(shared_cache=shared_cache).forget()
        self.assertEqual(self.read(shared_cache)[1], 1)

    def test_a_damaged_frame_in_the_cache_is_read_again(self) -> None:
        shared_cache = SharedCache(self.folder / "cache", 64 << 20)
        first, _ = self.read(shared_cache)
        for path in [p for p in shared_cache.folder.rglob("*") if p.is_file()]:
            for damage in (b"", b"\xff" * 24, b"\x00" * 24, path.read_bytes()[:-2], path.read_bytes()[:-1]):
                path.write_bytes(damage)
                found, decoded = self.read(shared_cache)
                self.assertEqual(decoded, 1)
                np.testing.assert_array_equal(found, first)


class Colour(unittest.TestCase):
    def test_tables_agree_with_the_published_curves(self) -> None:
        srgb, rec709 = decoding_table("srgb", 256), decoding_table("rec709", 256)
        assert srgb is not None
        assert rec709 is not None
        self.assertAlmostEqual(float(srgb[188]), 0.5029, delta=1e-3)  # IEC 61966-2-1
        self.assertAlmostEqual(float(rec709[128]), (128 / 255) ** 2.4, delta=1e-5)  # ITU-R BT.1886, black at 0
        self.assertIsNone(decoding_table("acescg", 256))

    def test_acescg_keeps_white(self) -> None:
        np.testing.assert_allclose(convert(np.ones((1, 1, 3), np.float32), "acescg", "linear"), 1, atol=1e-3)


class Deliveries(InFolder):
    shot = one_emitter(width=96, height=54, rate="30000/1001", emitter={"size": 12, "spread": 360, "rate": 60})

    def deliver(self, form: str, shot: Shot | None = None, **more: object) -> list[Path]:
        order = {"format": form, "first": 30, "last": 89, "folder": str(self.folder), "name": "t", **more}
        return Delivery(shot or self.shot, Order.model_validate(order), processes=1).run()

    def probe(self, path: Path) -> dict[str, object]:
        text = subprocess.run(
            ["ffprobe", "-v", "error", "-count_frames", "-show_streams", "-show_format", "-of", "json", str(path)],
            check=True, capture_output=True,
        ).stdout  # fmt: skip
        found = json.loads(text)
        video: dict[str, object] = found["streams"][0]
        tags = {**{k.lower(): v for k, v in found["format"].get("tags", {}).items()}, **video.get("tags", {})}  # type: ignore[dict-item]
        return {**video, "timecode": tags.get("timecode"), "alpha_mode": tags.get("alpha_mode", tags.get("ALPHA_MODE"))}

    def test_movies_have_exactly_the_rate_the_frames_and_the_timecode_of_the_shot(self) -> None:
        for form in ("mp4", "mov", "webm"):
            with self.subTest(form):
                (path,) = self.deliver(form, over_plate=False)
                found = self.probe(path)
                self.assertEqual(found["avg_frame_rate"], "30000/1001")
                self.assertEqual(int(str(found["nb_read_frames"])), 60)
                self.assertEqual(found["timecode"], "00:00:01;00")
                self.assertEqual([p.name for p in self.folder.iterdir()], [path.name])
                path.unlink()

    def test_movies_carry_alpha_where_they_can(self) -> None:
        (mov,) = self.deliver("mov", over_plate=False)
        self.assertIn("yuva444", str(self.probe(mov)["pix_fmt"]))
        self.assertEqual(self.probe(mov)["codec_tag_string"], "ap4h")
        (webm,) = self.deliver("webm", over_plate=False)
        self.assertEqual(self.probe(webm)["alpha_mode"], "1")
        with av.open(str(mov)) as container:
            frame = next(container.decode(video=0)).to_ndarray(format="rgba")
        expected = render_frame(self.shot, 30, over_plate=False)[..., 3] * 255
        self.assertLess(np.abs(frame[..., 3] - expected).max(), 6)

    def test_a_movie_over_its_plate_comes_back_as_that_plate(self) -> None:
        movie(self.folder / "p.mp4", 60, size=(96, 54), transfer=1)
        shot = Shot(width=96, height=54, plate=Plate(media=str(self.folder / "p.mp4")))
        (path,) = self.deliver("mp4", shot, first=0, last=49)
        for frame in (0, 48, 49):
            back = PlateReader().at(
                Shot(width=96, height=54, plate=Plate(media=str(path))), Fraction(frame, 25), 96, 54
            )
            there = PlateReader().at(shot, Fraction(frame, 25), 96, 54)
            assert back is not None
            assert there is not None
            self.assertLess(np.abs(back - there).max(), 0.03)

    def test_exr_is_exact(self) -> None:
        files = self.deliver("exr-float", over_plate=False, last=31)
        self.assertEqual([f.name for f in files], ["t.0030.exr", "t.0031.exr"])
        pixels, encoding, associated = read_still(files[0])
        np.testing.assert_array_equal(pixels, render_frame(self.shot, 30, over_plate=False))
        self.assertEqual((encoding, associated), ("linear", True))
        spec = oiio.ImageInput.open(str(files[0])).spec()
        self.assertEqual(spec.getattribute("FramesPerSecond"), (30000, 1001))

    def test_png_gives_back_the_picture_over_a_background(self) -> None:
        for form, top, tolerance in (("png8", 255, 0.012), ("png16", 65535, 1e-4)):
            path = self.deliver(form, over_plate=False, last=30, name=form)[0]
            pixels, _, _ = read_still(path)
            alpha = pixels[..., 3:] / top
            colour = convert((pixels[..., :3] / top).astype(np.float32), "srgb", "linear") * alpha
            back = np.concatenate([colour, alpha], axis=2).astype(np.float32)
            white = np.ones_like(back)
            there = over(render_frame(self.shot, 30, over_plate=False), white)
            self.assertLess(np.abs(over(back, white) - there).max(), tolerance)

    def stopped_at(self, count: int, **more: object) -> list[int]:
        """Deliver until this many frames are made; how many were made, at each report."""
        reported: list[int] = []
        order = Order.model_validate({"first": 0, "folder": str(self.folder), **more})
        delivery = Delivery(
            self.shot,
            order,
            on_progress=reported.append,
            cancelled=lambda: bool(reported) and reported[-1] >= count,
            processes=1,
        )
        delivery.run()
        return reported

    def test_resuming_makes_only_what_is_missing(self) -> None:
        order = {"format": "png8", "last": 19, "name": "r"}
        with self.assertRaises(Stale):
            self.stopped_at(8, **order)
        there = sorted(self.folder.glob("r.*.png"))
        self.assertIn(len(there), (8, 9))
        there[1].unlink()
        stamps = {p: p.stat().st_mtime_ns for p in there if p.exists()}
        reported = self.stopped_at(99, **order)
        self.assertEqual(reported[-1], 20)
        self.assertEqual(len(sorted(self.folder.glob("r.*.png"))), 20)
        self.assertEqual({p: p.stat().st_mtime_ns for p in stamps}, stamps)

    def test_a_movie_resumes_at_its_first_missing_segment_and_is_never_half_there(self) -> None:
        order = {"format": "mp4", "last": 119, "name": "m"}
        with self.assertRaises(Stale):
            self.stopped_at(70, **order)
        self.assertFalse((self.folder / "m.mp4").exists())
        self.assertEqual(self.stopped_at(999, **order)[0], 48)
        self.assertEqual(int(str(self.probe(self.folder / "m.mp4")["nb_read_frames"])), 120)

    def test_places_that_cannot_be_written_are_named_before_any_work(self) -> None:
        (self.folder / "file").write_text("")
        with self.assertRaises(IsbjornError) as caught:
            self.deliver("png8", folder=str(self.folder / "file" / "below"))
        self.assertIn("file", str(caught.exception))

    def test_orders_without_frames_or_with_a_path_for_a_name_are_refused(self) -> None:
        for bad in (
            {"first": 5, "last": 4},
            {"name": "../x"},
            {"scale": 0},
            {"scale": float("nan")},
            {"format": "mp3"},
        ):
            with self.subTest(bad), self.assertRaises(ValueError):
                Order.model_validate({"first": 0, "last": 1, "folder": "/x", "name": "x", **bad})


if __name__ == "__main__":
    unittest.main()

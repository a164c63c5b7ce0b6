"""The plate's sound in what is delivered, to the sample; and colour spaces, there and back."""

import json
import shutil
import subprocess
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import OpenImageIO as oiio
import PyOpenColorIO as ocio
from pydantic import ValidationError

from isbjorn.core.deliver import Order, deliver
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError
from isbjorn.core.inspect.lookout import order_notes
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.media.read.sound import sound_of
from isbjorn.core.media.write.formats import FORMATS, PictureInfo
from isbjorn.core.media.write.targets import Target, spaces_of
from isbjorn.core.media.write.write_still import still_bytes
from tests.shots import one_emitter

RATE = 48_000
CHANNELS = {"mono": 1, "stereo": 2}


def sounding(path: Path, clicks: tuple[int, ...], seconds: int = 4, rate: int = RATE, layout: str = "stereo") -> None:
    """A movie of 25 fps with silence, and one loud sample at each place, counted from its first picture."""
    with av.open(str(path), "w") as out:
        picture = out.add_stream("libx264", rate=25)
        picture.width, picture.height, picture.pix_fmt = 64, 36, "yuv420p"
        heard = out.add_stream("pcm_s16le", rate=rate, layout=layout)
        for number in range(25 * seconds):
            frame = av.VideoFrame.from_ndarray(np.full((36, 64, 3), 60, np.uint8), format="rgb24").reformat(
                format="yuv420p"
            )
            frame.pts = number
            out.mux(picture.encode(frame))
        out.mux(picture.encode(None))
        samples = np.zeros(seconds * rate, np.int16)
        samples[list(clicks)] = 30_000
        frame = av.AudioFrame.from_ndarray(np.repeat(samples, CHANNELS[layout])[None], format="s16", layout=layout)
        frame.sample_rate, frame.pts, frame.time_base = rate, 0, Fraction(1, rate)
        out.mux(heard.encode(frame))
        out.mux(heard.encode(None))


def clicks_in(path: Path) -> tuple[list[int], int, int]:
    """Positions of loud samples, counted from the first picture; the number of samples; and the rate."""
    with av.open(str(path)) as container:
        stream = container.streams.audio[0]
        zero = 0.0
        if container.streams.video:
            video = container.streams.video[0]
            zero = float((video.start_time or 0) * video.time_base)
        pieces = []
        for frame in container.decode(stream):
            values = frame.to_ndarray()
            planar = frame.format.is_planar
            one = values[0] if planar else values.reshape(-1, len(frame.layout.channels))[:, 0]
            top = np.iinfo(one.dtype).max if one.dtype.kind == "i" else 1.0
            pieces.append((round((float(frame.pts * frame.time_base) - zero) * stream.rate), one / top))
        rate = stream.rate
    start = pieces[0][0]
    whole = np.concatenate([p for _, p in pieces])
    loud = np.flatnonzero(np.abs(whole) > 0.35)
    # A lossy codec smears a click: its loudest sample counts.
    groups = np.split(loud, np.flatnonzero(np.diff(loud) > 400) + 1) if len(loud) else []
    return [int(start + g[np.argmax(np.abs(whole[g]))]) for g in groups], len(whole), rate


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)


class Sound(InFolder):
    def shot(self, **plate: Any) -> Shot:
        sounding(self.folder / "plate.mov", (24_000, 72_000, 150_000))
        return one_emitter(width=64, height=64, plate={"media": str(self.folder / "plate.mov"), **plate})

    def delivered(self, form: str, shot: Shot | None = None, **more: Any) -> Path:
        made = deliver(shot or self.shot(), self.folder, "s{version}", format=form, processes=1, **more)
        return made[-1]

    def test_each_click_stays_on_its_sample(self) -> None:
        # Frames 10 to 59 are 0.4 to 2.4 s: 19,200 samples from the beginning on.
        for form in ("mov", "ffv1", "mp4", "png8"):
            with self.subTest(form):
                path = self.delivered(form, first=10, last=59)
                found, count, rate = clicks_in(path)
                self.assertEqual((found, rate), ([4800, 52_800], RATE))
                if form != "mp4":
                    self.assertEqual(count, 96_000)
        self.assertEqual(path.name, "s001.wav")

    def test_handles_offsets_and_slates_move_it_with_the_picture(self) -> None:
        shot = self.shot(offset_s=0.2)
        found, _, _ = clicks_in(self.delivered("mov", shot, first=10, last=49, before=5, slate=True))
        # The first frame is frame 5, 0.2 s: 0 s of the plate; a slate of 1,920 samples comes before.
        self.assertEqual(found, [24_000 + 1920, 72_000 + 1920])

    def test_it_comes_round_with_its_plate_or_is_silent_beyond_it(self) -> None:
        shot = self.shot(beyond="loop")
        found, count, _ = clicks_in(self.delivered("png8", shot, first=90, last=119))
        # 3.6 to 4.8 s, and the plate restarts at 4 s.
        self.assertEqual((found, count), ([19_200 + 24_000], 57_600))
        found, count, _ = clicks_in(self.delivered("png8", self.shot(), first=90, last=119))
        self.assertEqual((found, count), ([], 57_600))

    def test_other_rates_and_layouts(self) -> None:
        sounding(self.folder / "m.mov", (22_050,), rate=44_100, layout="mono")
        shot = one_emitter(width=64, height=64, plate={"media": str(self.folder / "m.mov")})
        found, count, rate = clicks_in(self.delivered("mov", shot, first=0, last=24))
        self.assertEqual((found, count, rate), ([22_050], 44_100, 44_100))
        found, _, rate = clicks_in(self.delivered("webm", shot, first=0, last=24))
        self.assertEqual(rate, 48_000)
        self.assertAlmostEqual(found[0], 24_000, delta=2)

    def test_where_there_is_none_there_is_none(self) -> None:
        for more in ({"sound": False}, {"over_plate": False}, {"retime": {"speed": 50}}):
            path = self.delivered("mov", first=0, last=4, **more)
            with av.open(str(path)) as container:
                self.assertEqual(len(container.streams.audio), 0, more)
        rate_only = self.delivered("mov", first=10, last=59, retime={"rate": "50"})
        self.assertEqual(clicks_in(rate_only)[0], [4800, 52_800])
        plate = Shot.model_validate({"plate": {"media": "x.png"}}).plate
        assert plate is not None
        self.assertIsNone(sound_of(plate, Path("x.png"), Fraction(0), Fraction(1)))

    def test_what_cannot_be_read_is_said(self) -> None:
        plate = self.shot().plate
        assert plate is not None
        (self.folder / "x.mov").write_bytes(b"not a movie format")
        with self.assertRaisesRegex(IsbjornError, "Deliver without sound"):
            sound_of(plate, self.folder / "x.mov", Fraction(0), Fraction(1))


def chart() -> np.ndarray:
    """Colours of many kinds, linear Rec.709, premultiplied, opaque."""
    rng = np.random.default_rng(4)
    colours = np.concatenate([rng.uniform(0, 1, (40, 3)), np.eye(3), [[0, 0, 0], [1, 1, 1], [0.18, 0.18, 0.18]]])
    return np.concatenate([colours, np.ones((46, 1))], axis=1)[None].repeat(8, axis=0).astype(np.float32)


class Colour(InFolder):
    def back(self, content: bytes, suffix: str, colour: Target) -> np.ndarray:
        """A file's values as linear Rec.709 light again."""
        path = self.folder / f"c{suffix}"
        path.write_bytes(content)
        file = oiio.ImageInput.open(str(path))
        pixels = np.ascontiguousarray(file.read_image("float")[..., :3])
        self.spec = file.spec()
        ocio.Config.CreateFromFile("ocio://default").getProcessor(
            colour.space, "Linear Rec.709 (sRGB)"
        ).getDefaultCPUProcessor().applyRGB(pixels)
        return pixels

    def test_a_chart_comes_back_within_the_precision_of_each_format(self) -> None:
        about = PictureInfo(Fraction(25), "00:00:00:00")
        for form, space, tolerance in (
            ("exr-float", "ACEScg", 1e-5), ("exr-half", "ACES2065-1", 2e-3), ("exr-half", "Linear Rec.2020", 2e-3),
            ("png16", "sRGB Encoded P3-D65", 4e-4), ("png8", "sRGB Encoded Rec.709 (sRGB)", 0.01),
            ("tiff16", "ACEScct", 2e-3), ("exr-float", "ACEScct", 2e-3), ("dpx10", "Gamma 2.4 Encoded Rec.709", 0.004),
        ):  # fmt: skip
            with self.subTest(form + " " + space):
                target = Target(space=space)
                reported = PictureInfo(about.rate, about.timecode, target)
                content = still_bytes(chart(), FORMATS[form], False, reported)
                back = self.back(content, FORMATS[form].suffix, target)
                np.testing.assert_allclose(back, chart()[..., :3], atol=tolerance)

    def test_it_stands_in_the_file(self) -> None:
        reported = PictureInfo(Fraction(25), "00:00:00:00", Target(space="ACEScg"))
        self.back(still_bytes(chart(), FORMATS["exr-half"], False, reported), ".exr", Target(space="ACEScg"))
        self.assertEqual(self.spec.getattribute("oiio:ColorSpace"), "lin_ap1_scene")
        np.testing.assert_allclose(self.spec.getattribute("chromaticities")[:2], (0.713, 0.293), atol=1e-6)
        pq = Target(display="Rec.2100-PQ - Display", view="Un-tone-mapped")
        content = still_bytes(chart(), FORMATS["png16"], False, PictureInfo(Fraction(25), "00:00:00:00", pq))
        self.assertEqual(content[content.index(b"cICP") + 4 :][:4], bytes([9, 16, 0, 1]))

    def test_added_light_stays_exact_in_another_space_of_light(self) -> None:
        picture = np.zeros((2, 2, 4), np.float32)
        picture[..., :3] = (0.5, 2.0, 0.1)
        reported = PictureInfo(Fraction(25), "00:00:00:00", Target(space="ACEScg"))
        back = self.back(still_bytes(picture, FORMATS["exr-float"], True, reported), ".exr", Target(space="ACEScg"))
        np.testing.assert_allclose(back, picture[..., :3], rtol=1e-5)
        self.assertEqual(self.spec.nchannels, 4)

    def test_movies_are_tagged_with_it(self) -> None:
        shot = one_emitter(width=64, height=64, background="#808080")
        for colour, tags in (
            (None, ("bt709", "bt709", "bt709")),
            ({"display": "Rec.2100-PQ - Display", "view": "Un-tone-mapped"}, ("bt2020", "smpte2084", "bt2020nc")),
            ({"space": "sRGB Encoded P3-D65"}, ("smpte432", "iec61966-2-1", "bt709")),
        ):
            for form in ("h265", "mov"):
                made = deliver(shot, self.folder, "m{version}", format=form, colour=colour, last=1, processes=1)
                command = ["ffprobe", "-v", "error", "-show_streams", "-of", "json", str(made[0])]
                video = json.loads(subprocess.run(command, check=True, capture_output=True).stdout)["streams"][0]
                found = (video["color_primaries"], video["color_transfer"], video["color_space"])
                self.assertEqual(found, tags, form)

    def test_fields_stand_in_the_movie(self) -> None:
        shot = one_emitter(width=64, height=64, background="#808080")
        for form, order in (("mov", "upper first"), ("prores-hq", "lower first"), ("ffv1", "upper first")):
            made = deliver(shot, self.folder, "f{version}", format=form, fields=order, last=2, processes=1)
            with av.open(str(made[0])) as container:
                self.assertTrue(next(container.decode(video=0)).interlaced_frame, form)

    def test_a_configuration_of_ones_own(self) -> None:
        path = self.folder / "config.ocio"
        path.write_text(ocio.Config.CreateFromFile("ocio://default").serialize())
        self.assertIn("ACEScg", spaces_of(str(path))[0])
        for own, built_in in (
            (Target(space="ACEScg", config=str(path)), Target(space="ACEScg")),
            (
                Target(display="sRGB - Display", view="Un-tone-mapped", config=str(path)),
                Target(display="sRGB - Display", view="Un-tone-mapped"),
            ),
        ):
            np.testing.assert_allclose(own.applied(chart()[..., :3]), built_in.applied(chart()[..., :3]), atol=2e-5)

    def test_what_there_is_not_is_said(self) -> None:
        (self.folder / "bad.ocio").write_text("nonsense")
        shot = one_emitter()
        for colour, words in (
            ({"space": "Crimson"}, "no space 'Crimson'"), ({"display": "x", "view": "y"}, "no view 'y' for 'x'"),
            ({"space": "ACEScg", "config": str(self.folder / "bad.ocio")}, "not a colour configuration"),
            ({"space": "ACEScg", "config": "/nowhere/config.ocio"}, "cannot be read"),
        ):  # fmt: skip
            with self.assertRaisesRegex(IsbjornError, words):
                deliver(shot, self.folder, colour=colour)
        with self.assertRaises(ValidationError):
            Order.model_validate({"first": 0, "last": 0, "folder": "/", "name": "x", "colour": {"space": 3}})
        order = Order.model_validate({"first": 0, "last": 0, "folder": "/", "name": "x", "colour": {"space": "ACEScg"}})
        self.assertEqual([note.kind for note in order_notes(shot, order)], ["banding of light"])
        self.assertIsNotNone(PlateReader())


if __name__ == "__main__":
    unittest.main()

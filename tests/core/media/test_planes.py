"""Movies are read as light, from the planes in which they are coded, at their full depth."""

import tempfile
import unittest
from pathlib import Path

import av
import numpy as np

from isbjorn.core.document import Plate
from isbjorn.core.imaging.planes import planes_of
from isbjorn.core.media.read.movies import Movie
from isbjorn.core.media.read.plates import PlateReader
from tests.shots import one_emitter

_SIZE = (64, 36)
_BT709, _BT601, _BT2020 = 1, 6, 9
_SHARES = {_BT709: (0.2126, 0.0722), _BT601: (0.299, 0.114), _BT2020: (0.2627, 0.0593)}


def coded(path: Path, planes: list[np.ndarray], kind: str, matrix: int = _BT709, full: bool = False) -> None:
    """A lossless movie of one frame, given as its planes."""
    with av.open(str(path), "w") as container:
        stream = container.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = planes[0].shape[1], planes[0].shape[0], kind
        stream.codec_context.color_trc, stream.codec_context.colorspace = 1, matrix
        stream.codec_context.color_range = 2 if full else 1
        frame = av.VideoFrame(planes[0].shape[1], planes[0].shape[0], kind)
        for plane, values in zip(frame.planes, planes, strict=True):
            kept = np.frombuffer(plane, values.dtype).reshape(plane.height, -1)
            kept[:, : values.shape[1]] = values
        frame.colorspace, frame.color_range, frame.pts = matrix, 2 if full else 1, 0
        container.mux(stream.encode(frame))
        container.mux(stream.encode(None))


def light(codes: np.ndarray, matrix: int, bits: int, full: bool) -> np.ndarray:
    """Linear light of codes (n, 3) of brightness, blue and red, by the definition of their matrix, inverted by numbers."""
    of_red, of_blue = _SHARES[matrix]
    brightness = np.array([of_red, 1 - of_red - of_blue, of_blue])
    blue = (np.array([0, 0, 1]) - brightness) / (2 * (1 - of_blue))
    red = (np.array([1, 0, 0]) - brightness) / (2 * (1 - of_red))
    back = np.linalg.inv(np.stack([brightness, blue, red]))
    unit, top = 2 ** (bits - 8), 2**bits - 1
    low, span = (
        (np.zeros(3), np.full(3, top)) if full else (np.array([16, 0, 0]) * unit, np.array([219, 224, 224]) * unit)
    )
    low = low + np.array([0, 128, 128]) * unit
    return np.clip((codes - low) / span @ back.T, 0, 1) ** 2.4


class Planes(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "plate.mkv"
        self.rng = np.random.default_rng(3)

    def seen(self, width: int = _SIZE[0], height: int = _SIZE[1]) -> np.ndarray:
        plate = Plate(media=str(self.path), encoding="rec709")
        shot = one_emitter(width=_SIZE[0], height=_SIZE[1], plate=plate)
        found = PlateReader().at(shot, shot.seconds(shot.first_frame), width, height)
        assert found is not None
        return found[..., :3]

    def flat(self, kind: str, matrix: int, bits: int, full: bool) -> tuple[np.ndarray, np.ndarray]:
        """What is seen of patches of one colour each, and what they should be, of the square root of light."""
        across, down = {"420": (2, 2), "422": (2, 1), "444": (1, 1)}[kind[3:6] if kind[3] != "j" else kind[4:7]]
        unit = 2 ** (bits - 8)
        codes = self.rng.integers(60 * unit, 196 * unit, (3, 9, 16))
        tall = [np.repeat(np.repeat(plane, 4, 0), 4, 1) for plane in codes]
        planes = [tall[0], *(plane[::down, ::across] for plane in tall[1:])]
        coded(self.path, [p.astype(np.uint8 if bits == 8 else np.uint16) for p in planes], kind, matrix, full)
        # Inside of a patch, where colours of two are not mixed.
        inside = self.seen()[2::4, 1::4]
        wanted = light(codes.reshape(3, -1).T, matrix, bits, full).reshape(9, 16, 3)
        return np.sqrt(inside), np.sqrt(wanted)

    def test_every_matrix_depth_range_and_sampling_as_it_is_defined(self) -> None:
        for kind, matrix, bits, full in (
            ("yuv420p", _BT709, 8, False), ("yuv422p", _BT601, 8, False), ("yuv444p", _BT709, 8, True),
            ("yuv422p10le", _BT709, 10, False), ("yuv444p12le", _BT2020, 12, False), ("yuv420p10le", _BT2020, 10, True),
        ):  # fmt: skip
            with self.subTest(kind=kind, matrix=matrix, full=full):
                found, wanted = self.flat(kind, matrix, bits, full)
                self.assertLess(float(np.abs(found - wanted).max()), 0.002)

    def test_finer_than_eight_bits_stays_finer(self) -> None:
        ramp = np.broadcast_to(np.arange(400, 464, dtype=np.uint16), (36, 64))
        coded(self.path, [ramp, *(np.full((36, 32), 512, np.uint16) for _ in range(2))], "yuv422p10le")
        row = self.seen()[18, :, 1]
        self.assertTrue((np.diff(row) > 0).all(), "each code of ten bits is another light")
        np.testing.assert_allclose(row, ((np.arange(400, 464) - 64) / 876) ** 2.4, atol=2e-4)

    def test_colour_goes_evenly_from_sample_to_sample(self) -> None:
        grey = np.full((36, 64), 126, np.uint8)
        slope = np.broadcast_to(np.arange(96, 160, 2, dtype=np.uint8), (18, 32))
        coded(self.path, [grey, np.full((18, 32), 128, np.uint8), slope], "yuv420p")
        red = self.seen()[18, :, 0] ** (1 / 2.4)
        steps = np.diff(red)[2:-2]
        self.assertLess(float(steps.max()), 1.3 * float(steps.min()), "no stairs of two pixels")

    def test_at_any_size_it_has_the_same_light(self) -> None:
        self.flat("yuv420p", _BT709, 8, False)
        whole = self.seen().mean(axis=(0, 1))
        for width, height in ((32, 18), (128, 72), (48, 27)):
            np.testing.assert_allclose(self.seen(width, height).mean(axis=(0, 1)), whole, rtol=0.01)

    def test_what_is_read_whole_agrees_with_what_is_read_in_planes(self) -> None:
        self.flat("yuv444p", _BT709, 8, False)
        bytes_of = Movie(self.path).read(0).astype(np.float64)
        np.testing.assert_allclose(255 * self.seen().astype(np.float64) ** (1 / 2.4), bytes_of, atol=0.6)

    def test_other_formats_are_left_to_be_read_whole(self) -> None:
        self.assertIsNone(planes_of(av.VideoFrame(16, 16, "rgb24")))
        self.assertIsNone(planes_of(av.VideoFrame(16, 16, "yuva420p")))


if __name__ == "__main__":
    unittest.main()

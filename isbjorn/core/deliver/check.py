"""Delivered files looked at once more: whether each opens, and is what was ordered."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import OpenImageIO as oiio

from isbjorn.core.arrays import Floats
from isbjorn.core.deliver.chunks import Maker
from isbjorn.core.deliver.plan import PlannedPicture
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.media.read.movies import FILE_OPTIONS
from isbjorn.core.media.write.write_movie import shown_values
from isbjorn.core.media.write.write_still import still_bytes

# Largest mean difference between a movie's values and those that were drawn: the loss of its codec.
_MOVIE_OFF = 0.03


def check_files(maker: Maker, made: list[Path]) -> None:
    """Open every file and compare size, rate and number of frames with the order; and the first and the last frame with a fresh
    render: sequences to the byte. Raises IsbjornError for one that is not as it should be."""
    job = maker.job
    size, plan = job.order.size(job.shot), job.plan
    ends = sorted({0, len(plan) - 1})
    if job.order.form.codec is not None and job.order.form.codec.whole:
        _check_animation(made[0], size, maker, ends)
    elif job.order.form.movie:
        _check_movie(made[0], size, maker, ends)
    elif job.order.form.points == "whole":
        _check_points(made[0], maker, ends)
    elif job.order.form.still is not None:
        for path in made:
            if path.suffix != ".wav":
                _check_still(path, size)
        for at in ends:
            picture, layers = maker.render(plan[at])
            wanted = still_bytes(picture, job.order.form, job.alpha, maker.about(plan[at]), layers)
            if job.order.path(plan[at].number).read_bytes() != wanted:
                raise _wrong(job.order.path(plan[at].number), "it differs from the shot")


def _wrong(path: Path, what: str) -> IsbjornError:
    return IsbjornError(f"it was written, but {what}.", str(path), "Deliver it again, and check the disk for errors.")


def _same_size(path: Path, found: tuple[int, ...], wanted: tuple[int, int]) -> None:
    if tuple(found) != wanted:
        raise _wrong(path, f"it has {found[0]} × {found[1]} px instead of {wanted[0]} × {wanted[1]}")


def _same_count(path: Path, found: int, wanted: int) -> None:
    if found != wanted:
        raise _wrong(path, f"it has {found} frames instead of {wanted}")


def _same_picture(path: Path, values: Floats, maker: Maker, picture: PlannedPicture) -> None:
    """Compare what a file shows, over black, in [0, 1], with a fresh render."""
    made, _ = maker.render(picture)
    if float(np.abs(values - shown_values(made, maker.job.track)).mean()) > _MOVIE_OFF:
        raise _wrong(path, f"frame {picture.number} differs from the shot")


def _check_points(path: Path, maker: Maker, ends: list[int]) -> None:
    # Slow to load, and seldom needed.
    from pxr import Tf, Usd, UsdGeom

    from isbjorn.core.media.exchange.usd import emitter_paths

    try:
        stage = Usd.Stage.Open(str(path))
        # This process may have cached an earlier file of this name.
        stage.Reload()
    except Tf.ErrorException as error:
        raise _wrong(path, f"it cannot be opened ({str(error).strip()[:200]})") from None
    plan, paths = maker.job.plan, emitter_paths(maker.job.shot)
    for number, place in enumerate(paths):
        points = UsdGeom.Points.Get(stage, place)
        if not points or len(points.GetPointsAttr().GetTimeSamples()) != len(plan):
            raise _wrong(path, f"it does not have all frames of {place}")
        for at in ends:
            found = maker.particles(plan[at])
            mine = found.position[found.emitter == number].astype(np.float32)
            there = np.asarray(points.GetPointsAttr().Get(plan[at].number), np.float32).reshape(-1, 3)
            if not np.array_equal(mine, there):
                raise _wrong(path, f"frame {plan[at].number} differs from the shot")


def _check_still(path: Path, size: tuple[int, int]) -> None:
    file = oiio.ImageInput.open(str(path))
    if file is None:
        raise _wrong(path, f"it cannot be opened ({oiio.geterror()})")
    try:
        spec = file.spec()
        _same_size(path, (spec.width, spec.height), size)
        # The last row: what was cut off is missed there.
        if file.read_scanlines(spec.y + spec.height - 1, spec.y + spec.height, 0, 0, spec.nchannels, "float") is None:
            raise _wrong(path, f"it cannot be read completely ({file.geterror()})")
    finally:
        file.close()


def _values(frame: Any, alpha: bool) -> Floats:
    """What a decoded frame shows, over black, in [0, 1] (height, width, 3)."""
    matrix = {1: "ITU709", 9: "BT2020"}.get(int(frame.colorspace), "ITU709")
    found = frame.reformat(format="rgba64le" if alpha else "rgb48le", src_colorspace=matrix).to_ndarray()
    values = found.astype(np.float32) / 65535
    return values[..., :3] * values[..., 3:] if alpha else values


def _check_animation(path: Path, size: tuple[int, int], maker: Maker, ends: list[int]) -> None:
    job, plan = maker.job, maker.job.plan
    done, found = cv2.imreadanimation(str(path))
    if not done:
        raise _wrong(path, "it cannot be opened")
    frames = list(found.frames)
    _same_count(path, len(frames), len(plan))
    _same_size(path, frames[0].shape[1::-1], size)
    for at in ends:
        values = frames[at][..., 2::-1].astype(np.float32) / 255
        if job.alpha:
            values = values * (frames[at][..., 3:].astype(np.float32) / 255)
        _same_picture(path, np.asarray(values, np.float32), maker, plan[at])


def _check_movie(path: Path, size: tuple[int, int], maker: Maker, ends: list[int]) -> None:
    job, plan = maker.job, maker.job.plan
    try:
        with av.open(str(path), options=FILE_OPTIONS) as container:
            stream = container.streams.video[0]
            _same_size(path, (stream.width, stream.height), size)
            packets: Any = container.demux(stream)
            moments = sorted(p.pts * p.time_base for p in packets if p.size and p.pts is not None)
            _same_count(path, len(moments), len(plan))
            # Containers that count in milliseconds keep the moment of each frame to one.
            if any(abs(b - a - 1 / plan.rate) > 0.0011 for a, b in pairwise(moments)):
                raise _wrong(path, f"its frame rate is not {plan.rate} frames per second")
        for at in ends:
            found = _decoded(path, moments[at])
            if found is None:
                raise _wrong(path, f"frame {plan[at].number} cannot be decoded")
            _same_picture(path, _values(found, job.alpha), maker, plan[at])
    except (av.FFmpegError, IndexError, OSError) as error:
        raise _wrong(path, f"it cannot be opened ({reason_of(error)})") from None


def _decoded(path: Path, moment: Any) -> Any:
    """The frame that is shown at a moment; None where none is."""
    with av.open(str(path), options=FILE_OPTIONS) as container:
        stream = container.streams.video[0]
        assert stream.time_base is not None
        container.seek(round(moment / stream.time_base), stream=stream, backward=True)
        decoder: Any = stream
        if stream.codec_context.name.startswith("vp9"):
            # FFmpeg's own decoder leaves alpha out.
            decoder = av.CodecContext.create("libvpx-vp9", "r")
            decoder.pix_fmt = "yuva420p"
        packets: Any = container.demux(stream)
        for packet in packets:
            for frame in decoder.decode(packet):
                if frame.pts is not None and frame.pts * stream.time_base >= moment:
                    return frame
    return None

"""A point of the plate followed from frame to frame, forward or backward, with how sure each place is.

Pyramidal Lucas and Kanade (Bouguet 2001, "Pyramidal implementation of the Lucas Kanade feature tracker") through OpenCV, there and
back: what does not come home to where it left is not trusted. The patch is compared with the one that was chosen, too.
"""

from __future__ import annotations

import csv
import io
import itertools
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from isbjorn.core.arrays import Bytes
from isbjorn.core.colour import brightness
from isbjorn.core.document import Shot
from isbjorn.core.errors import IsbjornError, reason_of
from isbjorn.core.media.read.plates import PlateReader

_WIDEST = 1920
_HOME_PX = 1.0
LEAST = 0.3
_HEADER = ["frame", "across_px", "up_px", "confidence"]
_LARGEST_ROWS = 200_000
_FARTHEST_FRAME, _FARTHEST_PX = 10_000_000, 1_000_000


@dataclass(frozen=True)
class TrackedPoint:
    """A place of the picture at a frame: px from its top left corner, and how sure it is, in [0, 1]."""

    frame: int
    x: float
    y: float
    confidence: float


def _grey(shot: Shot, plates: PlateReader, frame: int, scale: float) -> Bytes:
    width, height = max(16, round(shot.width * scale)), max(16, round(shot.height * scale))
    picture = plates.at(shot, shot.seconds(frame), width, height)
    if picture is None:
        raise IsbjornError(f"the plate has no picture at frame {frame}.", "plate", "Track within the plate's range.")
    return np.asarray(brightness(picture) * 255 + 0.5).astype(np.uint8)


def _patch(grey: Bytes, x: float, y: float, side: int) -> npt.NDArray[np.float32]:
    return np.asarray(cv2.getRectSubPix(grey, (side, side), (x, y)), np.float32)


def _likeness(a: npt.NDArray[np.float32], b: npt.NDArray[np.float32]) -> float:
    """Normalised correlation of two patches, held to [0, 1]; 0 where either is flat."""
    a, b = a - a.mean(), b - b.mean()
    norm = math.sqrt(float((a * a).sum()) * float((b * b).sum()))
    return max(0.0, float((a * b).sum()) / norm) if norm > 1e-6 else 0.0


def follow(
    shot: Shot,
    plates: PlateReader,
    x: float,
    y: float,
    first: int,
    last: int,
    window: int = 41,
    on_frame: Callable[[int], object] | None = None,
) -> list[TrackedPoint]:
    """Follow the point at (x, y) of frame `first` to frame `last`, before or after it; x, y in px of the shot from the top left.

    window: side of the patch in px. Gives the places as they are found, and ends early where the point is lost. Raises
    IsbjornError where there is no plate, or nothing to hold on to.
    """
    if shot.plate is None:
        raise IsbjornError("there is no plate to track.", "plate", "Add a plate to the shot first.")
    if not (0 <= x < shot.width and 0 <= y < shot.height):
        raise IsbjornError("the point is outside the picture.", "track", "Move it onto a visible feature.")
    scale = min(1.0, _WIDEST / shot.width)
    side = max(7, round(window * scale)) | 1
    before = _grey(shot, plates, first, scale)
    at = np.array([[[x * scale, y * scale]]], np.float32)
    chosen = _patch(before, x * scale, y * scale, side)
    # Grain is no mark: what is left of the patch without it counts.
    if float(cv2.GaussianBlur(chosen, (0, 0), 1.5).std()) < 1.0:
        raise IsbjornError(
            "there is no feature to track here: the plate is uniform.",
            "track",
            "Select a corner, a spot, or a larger patch.",
        )
    found = [TrackedPoint(first, x, y, 1.0)]
    how: dict[str, Any] = {"winSize": (side, side), "maxLevel": 3, "criteria": (3, 40, 0.003)}
    step = 1 if last >= first else -1
    for frame in range(first + step, last + step, step):
        now = _grey(shot, plates, frame, scale)
        to, ok, _ = cv2.calcOpticalFlowPyrLK(before, now, at, at.copy(), **how)
        home, ok_home, _ = cv2.calcOpticalFlowPyrLK(now, before, to, at.copy(), **how)
        if on_frame is not None:
            on_frame(frame)
        astray = float(np.linalg.norm(np.asarray(home) - at))
        px, py = (float(v) for v in np.asarray(to)[0, 0])
        inside = 0 <= px < now.shape[1] and 0 <= py < now.shape[0]
        if not (np.asarray(ok)[0, 0] and np.asarray(ok_home)[0, 0] and inside):
            break
        likeness = _likeness(chosen, _patch(now, px, py, side))
        sure = math.exp(-astray / _HOME_PX) * (0.25 + 0.75 * likeness)
        if sure < LEAST:
            break
        found.append(TrackedPoint(frame, px / scale, py / scale, round(sure, 3)))
        before, at = now, np.asarray(to, np.float32)
    return found


def to_csv(shot: Shot, seen: list[TrackedPoint]) -> str:
    """Tracked places as a table: frame, px to the right and upward from the picture's centre, confidence."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_HEADER)
    for s in seen:
        table.writerow([s.frame, f"{s.x - shot.width / 2:.3f}", f"{shot.height / 2 - s.y:.3f}", f"{s.confidence:.3f}"])
    return out.getvalue()


def _lines_of(text: str, where: str) -> Iterator[list[str]]:
    """The lines of a table as cells, with any line ends. Raises IsbjornError for an invalid line, at the point where it is read."""
    lines = csv.reader(io.StringIO(text.lstrip("\ufeff"), newline=None))
    for number in itertools.count(1):
        try:
            yield next(lines)
        except StopIteration:
            return
        except csv.Error as error:
            raise IsbjornError(
                f"line {number} cannot be read ({reason_of(error)}).", where, "Save the table as CSV again."
            ) from None


def from_csv(shot: Shot, text: str, where: str = "track") -> list[TrackedPoint]:
    """Read a table with the columns `frame`, and `across_px`, `up_px` (from the centre) or `x`, `y` (from the top left corner).

    Raises IsbjornError that names the line.
    """
    lines = _lines_of(text, where)
    header = [name.strip().lower() for name in next(lines, [])]
    corner = "x" in header and "y" in header
    names = ("x", "y") if corner else ("across_px", "up_px")
    if "frame" not in header or any(name not in header for name in names):
        raise IsbjornError(
            "the first line must name the columns frame, across_px and up_px (or frame, x and y).",
            where,
            "Use an exported track as a template.",
        )
    columns = [header.index(name) for name in ("frame", *names)]
    sure = header.index("confidence") if "confidence" in header else None
    found: dict[int, TrackedPoint] = {}
    for number, line in enumerate(lines, 2):
        if not any(cell.strip() for cell in line):
            continue
        try:
            frame, a, b = (float(line[c]) for c in columns)
            confidence = float(line[sure]) if sure is not None and line[sure].strip() else 1.0
            if not all(map(math.isfinite, (frame, a, b, confidence))) or frame != int(frame):
                raise ValueError
            if abs(frame) > _FARTHEST_FRAME or max(abs(a), abs(b)) > _FARTHEST_PX:
                raise ValueError
        except (ValueError, IndexError):
            raise IsbjornError(
                f"line {number} is not a position at a frame.",
                where,
                f"Write frame (up to {_FARTHEST_FRAME:,}), x and y (up to {_FARTHEST_PX:,} px) as numbers.",
            ) from None
        x, y = (a, b) if corner else (a + shot.width / 2, shot.height / 2 - b)
        found[int(frame)] = TrackedPoint(int(frame), x, y, min(1.0, max(0.0, confidence)))
        if len(found) > _LARGEST_ROWS:
            raise IsbjornError("the table is too long.", where, f"The limit is {_LARGEST_ROWS:,} lines.")
    if not found:
        raise IsbjornError("the table has no positions.", where, "Write one line per frame.")
    return [found[n] for n in sorted(found)]


def grain_of(shot: Shot, plates: PlateReader, frame: int) -> tuple[float, float]:
    """The plate's grain about a frame: its standard deviation as a share of white (encoded), and the size of a grain in px.

    From the difference to the next frame, where nothing moves: its median is robust against what does.
    """
    a = _grey(shot, plates, frame, 1.0).astype(np.float32) / 255
    b = _grey(shot, plates, frame + 1 if frame < shot.last_frame else frame - 1, 1.0).astype(np.float32) / 255
    d = (a - b) - cv2.blur(a - b, (9, 9))
    still = np.abs(d) < 6 * float(np.median(np.abs(d))) + 1e-6
    deviation = 1.4826 * float(np.median(np.abs(d[still]))) / math.sqrt(2)
    if deviation < 1e-4:
        # Compressed plates may repeat their grain: then from the frame alone.
        d = a - cv2.GaussianBlur(a, (0, 0), 1.5)
        deviation = 1.4826 * float(np.median(np.abs(d)))
    d = np.where(still, d, 0)
    near = float((d[:, :-1] * d[:, 1:]).mean()) / max(float((d * d).mean()), 1e-12)
    return deviation, float(np.clip(1 / max(1e-3, 1 - near), 1.0, 4.0))

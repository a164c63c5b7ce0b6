"""Words on a picture, for review; and the slate that says what is delivered."""

from __future__ import annotations

import cv2
import numpy as np

from isbjorn.core.arrays import Doubles, Floats
from isbjorn.core.deliver.order import Order
from isbjorn.core.deliver.plan import Plan, PlannedPicture
from isbjorn.core.document import Shot
from isbjorn.core.evaluate.geometry.glyphs import drawn, font
from isbjorn.core.evaluate.gradients import hex_to_linear
from isbjorn.core.time import rate_text

_INK, _SOFT, _GROUND, _LINE = (hex_to_linear(h) for h in ("#f2f6fa", "#9db0c4", "#0b141f", "#59d8b4"))
_SHADE = np.float32(0.72)
# Of the picture's height.
_EM, _EDGE = 0.034, 0.03


def _words(text: str, em_px: int, widest: int) -> tuple[Floats, int]:
    """A line of text as cover (h, w), within a maximum width; and the distance of its middle from its top."""
    sheet, _, y, _ = drawn(text or " ", font(None), max(4, em_px))
    if sheet.shape[1] > widest > 0:
        small = widest / sheet.shape[1]
        size = (widest, max(1, round(sheet.shape[0] * small)))
        sheet, y = np.asarray(cv2.resize(sheet, size, interpolation=cv2.INTER_AREA), np.float32), y * small
    return sheet, round(y)


def _lay(picture: Floats, cover: Floats, left: int, top: int, colour: Doubles, alpha: float = 1.0) -> None:
    """Lay a colour on a picture where there is cover (h, w), as far as it overlaps the picture."""
    height, width = picture.shape[:2]
    y0, x0 = max(0, top), max(0, left)
    y1, x1 = min(height, top + cover.shape[0]), min(width, left + cover.shape[1])
    if y1 <= y0 or x1 <= x0:
        return
    part = cover[y0 - top : y1 - top, x0 - left : x1 - left, None] * np.float32(alpha)
    ink = np.array([*colour, 1.0], np.float32)
    picture[y0:y1, x0:x1] = picture[y0:y1, x0:x1] * (1 - part) + ink * part


def _label(picture: Floats, text: str, side: str, low: bool) -> None:
    """A line of text on a dark ground at an edge of the picture."""
    height, width = picture.shape[:2]
    em = max(7, round(_EM * height))
    room, edge = round(0.45 * em), round(_EDGE * height)
    sheet, middle = _words(text, em, width // 3 - 2 * room)
    wide, tall = sheet.shape[1] + 2 * room, em + 2 * room
    left = {"left": edge, "middle": (width - wide) // 2, "right": width - edge - wide}[side]
    top = height - edge - tall if low else edge
    _lay(picture, np.ones((tall, wide), np.float32), left, top, _GROUND, float(_SHADE))
    _lay(picture, sheet, left + room, top + tall // 2 - middle, _INK)


def caption(picture: Floats, text: str, left: int, middle_y: int, widest: int) -> None:
    """A small line of text, its middle so far below the picture's top."""
    sheet, middle = _words(text, 14, widest)
    _lay(picture, sheet, left, middle_y - middle, _SOFT)


def burnt(
    made: Floats, shot: Shot, order: Order, plan: Plan, picture: PlannedPicture, alive: int | None = None
) -> Floats:
    """A picture (height, width, 4) with the words that are asked for. alive: how many particles there are."""
    out = made.copy()
    if "name" in order.burn:
        _label(out, shot.name, "left", True)
    if "timecode" in order.burn:
        _label(out, plan.timecode(picture), "middle", True)
    if "frame" in order.burn:
        _label(out, str(picture.number), "right", True)
    if "figures" in order.burn:
        label = "" if alive is None else f"{alive:,} alive"
        _label(out, label, "left", False)
        _label(out, f"{made.shape[1]} × {made.shape[0]} · {float(plan.rate):g} fps", "right", False)
    return out


def slate(shot: Shot, order: Order, plan: Plan) -> Floats:
    """The picture before the first that says what this is."""
    width, height = max(1, round(shot.width * order.scale)), max(1, round(shot.height * order.scale))
    out = np.empty((height, width, 4), np.float32)
    out[:] = [*_GROUND, 1.0]
    first, last = plan[1] if len(plan) > 1 else plan[0], plan[len(plan) - 1]
    rows = [
        ("Frames", f"{first.number} – {last.number}" + (f", every {order.every}" if order.every > 1 else "")),
        ("Timecode", f"{plan.timecode(first)} – {plan.timecode(last)}"),
        ("Rate", f"{rate_text(plan.rate)} fps"),
        ("Size", f"{width} × {height} px"),
        ("File", f"{order.path(None).name} · {order.form.label}"),
        ("Colour", order.colour.title if order.colour else "format default"),
    ]
    em, edge = max(7, round(0.05 * height)), round(0.09 * width)
    sheet, middle = _words(shot.name, round(2 * em), width - 2 * edge)
    top = round(0.22 * height)
    _lay(out, sheet, edge, top - middle, _INK)
    rule = np.ones((max(1, round(0.004 * height)), width - 2 * edge), np.float32)
    _lay(out, rule, edge, top + round(1.7 * em), _LINE)
    for number, (name, text) in enumerate(rows):
        y = top + round((3.2 + 1.5 * number) * em)
        for words, x, colour in ((name, edge, _SOFT), (text, edge + round(6.4 * em), _INK)):
            sheet, middle = _words(words, em, width - x - edge)
            _lay(out, sheet, x, y - middle, colour)
    return out

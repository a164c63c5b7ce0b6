"""Checks of emitters in pieces."""

from __future__ import annotations

import math

import numpy as np

from isbjorn.core.document.model.pieces import Pieces
from isbjorn.core.emit.pieces.flights import Flights, PieceSource
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put
from isbjorn.core.render.scene.camera import projection

# More than these take longer than a frame; so many are drawn in its time.
_MANY, _QUICK = 50_000, 20_000
# A way that is shorter than this looks like a jump.
_HASTE_S = 0.2
_BEYOND = 0.02


def _parts(case: Case) -> tuple[Pieces, Flights] | None:
    pieces, source = case.emitter.pieces, case.track.source
    return (pieces, source.flights) if pieces is not None and isinstance(source, PieceSource) else None


def too_many(case: Case) -> Checks:
    """More pieces than can be drawn in the time of a frame."""
    parts = _parts(case)
    if parts is None or len(parts[1].cut) <= _MANY:
        return
    count = len(parts[1].cut)
    size = math.ceil(parts[0].size.value * math.sqrt(count / _QUICK))
    yield case.note(
        "too many pieces", f"{count:,} pieces take longer to draw than a frame lasts.",
        f"At {parts[0].size.value:g} px, the shape falls into that many.",
        mend=Mend(label=f"Set the size of pieces to {size} px", changes=[put(f"{case.path}/pieces/size/value", size)]),
    )  # fmt: skip


def nothing_happens(case: Case) -> Checks:
    """Pieces that neither leave nor arrive."""
    parts = _parts(case)
    if parts is None or parts[0].release is not None or parts[0].assemble is not None:
        return
    yield case.note(
        "pieces at rest", "is cut into pieces that neither leave nor arrive.", "Release and Assemble are both off.",
        mend=Mend(label="Release the pieces", changes=[{"op": "replace", "path": f"{case.path}/pieces/release", "value": {}}]),
    )  # fmt: skip


def too_late(case: Case) -> Checks:
    """Arrivals, or releases, after the end of the shot."""
    parts, end = _parts(case), float(case.watch.shot.length_s)
    if parts is None or case.watch.shot.loop:
        return
    pieces, f = parts
    for name, front, moments, what in (
        ("assemble", pieces.assemble, f.due, "arrive"), ("release", pieces.release, f.released, "leave")
    ):  # fmt: skip
        if front is None or len(moments) == 0:
            continue
        late = int((moments > end).sum())
        if late == 0:
            continue
        last = float(np.max(moments[np.isfinite(moments)], initial=end))
        begins = round(max(0.0, front.at_s - (last - end) - 1 / float(case.watch.shot.frame_rate)), 3)
        yield case.note(
            "pieces too late", f"{late:,} of {len(moments):,} pieces {what} after the end of the shot.",
            f"The last one is due at {last:.2f} s; the shot ends at {end:.2f} s.", "trouble",
            Mend(label=f"Begin at {begins:g} s", changes=[put(f"{case.path}/pieces/{name}/at_s", begins)]),
        )  # fmt: skip


def too_hasty(case: Case) -> Checks:
    """Pieces that have next to no time between their release and their arrival."""
    parts = _parts(case)
    if parts is None or not parts[0].returns or parts[0].assemble is None:
        return
    pieces, f = parts
    hasty = int((f.lives < _HASTE_S).sum())
    if hasty == 0 or pieces.assemble is None:
        return
    begins = round(float(np.max(f.released[np.isfinite(f.released)], initial=0.0)) + 0.5, 2)
    yield case.note(
        "pieces jump", f"{hasty:,} of {len(f.lives):,} pieces have less than {_HASTE_S:g} s from their release to their arrival.",
        "The arrival begins before the release is over.",
        mend=Mend(label=f"Begin the arrival at {begins:g} s", changes=[put(f"{case.path}/pieces/assemble/at_s", begins)]),
    )  # fmt: skip


def no_order(case: Case) -> Checks:
    """Fronts that lack the plate, picture, matte or sound that puts the pieces in order."""
    pieces, shot = case.emitter.pieces, case.watch.shot
    if pieces is None:
        return
    mattes, sounds = [m.id for m in shot.mattes if m.on], [s.id for s in shot.sounds if s.on]
    for name, front in (("release", pieces.release), ("assemble", pieces.assemble)):
        lacks = front is not None and {
            "brightness": shot.plate is None,
            "picture": not front.media,
            "matte": front.matte not in mattes,
            "onsets": front.sound not in sounds,
        }.get(front.by, False)
        if front is None or not lacks:
            continue
        path = f"{case.path}/pieces/{name}"
        mend = Mend(label="Let a straight front cross them", changes=[put(f"{path}/by", "direction")])
        for field, ways, all_of in (("matte", "matte", mattes), ("sound", "onsets", sounds)):
            if front.by == ways and all_of:
                mend = Mend(label=f"Use the first {field}", changes=[put(f"{path}/{field}", all_of[0])])
        what = {"brightness": "plate", "onsets": "sound"}.get(front.by, front.by)
        yield case.note(
            "pieces in no order", f"has a front by {front.by}, and no {what} for it.",
            f"Without the {what}, the order of the pieces is undefined.", mend=mend,
        )  # fmt: skip


def beyond(case: Case) -> Checks:
    """Places of pieces outside the picture."""
    parts = _parts(case)
    if parts is None:
        return
    e, f, watch = case.emitter, parts[1], case.watch
    cut = f.arrived if f.arrives else f.cut
    frame = watch.solver.readings.frames(e, np.full(len(cut), float(watch.seconds)))
    view = projection(watch.shot, 1.0, float(watch.seconds))
    pixels, _ = view.place(frame.of(*cut.places.T))
    outside = (pixels[:, 0] < 0) | (pixels[:, 0] > view.width) | (pixels[:, 1] < 0) | (pixels[:, 1] > view.height)
    if outside.mean() <= _BEYOND:
        return
    extent = np.ptp(pixels, axis=0)
    fits = min(1.0, 0.9 * view.width / max(1.0, float(extent[0])), 0.9 * view.height / max(1.0, float(extent[1])))
    scale = max(1, math.floor(e.scale.value * fits))
    yield case.note(
        "pieces outside", f"{100 * outside.mean():.0f} % of its pieces have their places outside the picture.",
        f"It is {extent[0]:.0f} × {extent[1]:.0f} px, in a picture of {view.width} × {view.height} px.", "trouble",
        Mend(label="Bring it into the picture", changes=[
            put(f"{case.path}/across/value", 0), put(f"{case.path}/up/value", 0), put(f"{case.path}/scale/value", scale),
        ]),
    )  # fmt: skip


CHECKS = (too_many, nothing_happens, too_late, too_hasty, no_order, beyond)

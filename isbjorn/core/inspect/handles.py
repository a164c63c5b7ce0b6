"""Outlines and grips of everything with a place: lines on the picture that show exactly what the engine uses, and what a
pointer changes when it takes hold of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, Field

from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Emitter, Number, Shot
from isbjorn.core.document.fields.base import Gripped, Part, ShownIf
from isbjorn.core.document.fields.kinds import is_framed
from isbjorn.core.document.parts.deformers import PathDeformer
from isbjorn.core.evaluate import bezier
from isbjorn.core.evaluate.geometry.placed_models import placed_edges
from isbjorn.core.evaluate.lines import circle, rectangle
from isbjorn.core.evaluate.readings import Readings, Transform
from isbjorn.core.render.composite.mattes import shape_outline
from isbjorn.core.render.draw.ripples import face_of
from isbjorn.core.render.scene.camera import Projection
from isbjorn.core.simulate.forces import lines_of

Path2 = list[tuple[float, float]]
Pair = tuple[float, float]
# Distance of a direction's grip, in px.
_FAR_GRIP = 90.0


class Grip(BaseModel):
    """A handle. The page turns a pointer's place p (px from the picture's top left) into own px, l = axes⁻¹ (p − centre).

    move: two fields follow the pointer. length: one field is `factor` times l along `way`. turn: the first field is the angle of
    l plus `offset` in degrees, the second, if any, `factor` times its length. spread: twice the angle between l and `way`.
    Fields are paths below the thing, to a driven number or a plain one.
    """

    name: str
    kind: Literal["move", "length", "turn", "spread"]
    at: Pair
    centre: Pair
    axes: tuple[float, float, float, float] = Field(
        description="Picture vectors of one own px to the right and one px upwards."
    )
    fields: list[str]
    way: Pair = (1.0, 0.0)
    factor: float = 1.0
    offset: float = 0.0
    stem: Pair | None = Field(default=None, description="Start of the line that leads to it.")


class Shown(BaseModel):
    """What is drawn of a thing: its lines, softer ones where it has its full strength, the way it goes, and its grips."""

    id: str
    kind: str
    centre: Pair
    lines: list[Path2] = []
    soft: list[Path2] = []
    way: list[Path2] = []
    arrows: list[tuple[float, float, float, float]] = Field(
        default=[],
        description="The force on a grid: positions and vectors; the longest vector is one cell long.",
    )
    grips: list[Grip] = []


class Sight:
    """How a thing's coordinates map to the picture at a moment."""

    def __init__(self, view: Projection, frames: Transform, seen: Callable[[Doubles], Doubles] | None = None) -> None:
        self.view, self.frames, self.seen = view, frames, seen
        self.centre = self.points(np.zeros((1, 3)))[0]
        x, y = self.points(np.array([[1.0, 0, 0]]))[0], self.points(np.array([[0, 1.0, 0]]))[0]
        c = self.centre
        self.axes = (x[0] - c[0], x[1] - c[1], y[0] - c[0], y[1] - c[1])

    def points(self, own: Doubles) -> Path2:
        """Own places (n, 3) on the picture."""
        frames = Transform(
            *(np.repeat(p[:1], len(own), axis=0) for p in (self.frames.place, self.frames.turn, self.frames.size))
        )
        places = frames.of(own[:, 0], own[:, 1], own[:, 2])
        return on_picture(self.view, places if self.seen is None else self.seen(places))

    def grip(self, name: str, kind: Any, own: Pair, fields: list[str], **more: Any) -> Grip:
        """A grip at an own place."""
        at = self.points(np.array([[*own, 0.0]]))[0]
        return Grip(name=name, kind=kind, at=at, centre=self.centre, axes=self.axes, fields=fields, **more)

    def length(self, name: str, field: str, way: Pair, reach: float, factor: float = 1.0) -> Grip:
        """A grip for an extent: `reach` own px away along a unit vector, where the field is `factor` times that."""
        return self.grip(name, "length", (way[0] * reach, way[1] * reach), [field], way=way, factor=factor)


def on_picture(view: Projection, places: npt.ArrayLike) -> Path2:
    """Places (n, 3) of the shot as px of the design size from the top left corner."""
    pixels, _ = view.place(places)
    return [(x, y) for x, y in np.round(pixels.astype(np.float64), 3).tolist()]


def carrier_frames(readings: Readings, thing: Any, t: Doubles) -> Transform:
    """The coordinates that a thing's place refers to: those of its carrier."""
    nothing = Transform(np.zeros((len(t), 3)), np.zeros(len(t)), np.ones(len(t)))
    carrier = readings.things.get(thing.carried_by or "")
    if carrier is None:
        return nothing
    f = readings.frames(carrier, t)
    return Transform(
        f.place if thing.carry_place else nothing.place,
        f.turn if thing.carry_turn else nothing.turn,
        f.size if thing.carry_size else nothing.size,
    )


def path_grips(sight: Sight, points: Any, field: str) -> Iterator[Grip]:
    """Grips of a Bézier path's points and handles."""
    for n, p in enumerate(points):
        yield sight.grip(f"Path point {n + 1}", "move", (p.x, p.y), [f"{field}/{n}/x", f"{field}/{n}/y"])
        for side in ("arrive", "leave"):
            dx, dy = getattr(p, side)
            if (dx, dy) != (0.0, 0.0):
                stem = sight.points(np.array([[p.x, p.y, p.z]]))[0]
                yield sight.grip(
                    f"Path handle {n + 1}", "move", (p.x + dx, p.y + dy), [f"{field}/{n}/{side}/0", f"{field}/{n}/{side}/1"],
                    stem=stem,
                )  # fmt: skip


def place_grips(readings: Readings, view: Projection, thing: Any, t: float) -> tuple[list[Grip], list[Path2]]:
    """The grip of a thing's place, those of the path on which it moves, and that path."""
    at = np.array([t])
    under = carrier_frames(readings, thing, at)
    whole = readings.frames(thing, at)
    parent = Sight(view, under)
    grips = [Grip(
        name="Place", kind="move", at=on_picture(view, whole.place)[0], centre=parent.centre, axes=parent.axes,
        fields=["across", "up"],
    )]  # fmt: skip
    if thing.path is None:
        return grips, []
    start = np.array([[float(readings.number(n, at)[0]) for n in (thing.across, thing.up, thing.depth)]])
    from_start = Sight(view, Transform(under.of(*start.T), under.turn, under.size))
    line = from_start.points(bezier.flat(thing.path.points, thing.path.closed))
    return grips + list(path_grips(from_start, thing.path.points, "path/points")), [line]


def zone_shown(shot: Shot, readings: Readings, view: Projection, zone: Any, t: float) -> Shown:
    """A zone: its edge, and within it the line from which it is full."""
    sight = Sight(view, readings.frames(zone, np.array([t])))
    grips = part_grips(readings, sight, zone, t)
    falloff = readings.now(zone.falloff, t)
    if zone.shape == "sphere":
        radius = readings.now(zone.radius, t)
        own, inner = [circle(radius)], [circle(max(0.0, radius - falloff))]
        soft = sight.length("Falloff", "falloff", (0, 1), radius - falloff)
        grips.append(soft.model_copy(update={"factor": -1.0, "offset": radius}))
    elif zone.shape == "box":
        w, h = readings.now(zone.width, t) / 2, readings.now(zone.height, t) / 2
        own, inner = [rectangle(w, h)], [rectangle(max(0.0, w - falloff), max(0.0, h - falloff))]
    elif zone.shape == "model":
        own, inner = placed_edges(zone, lambda number: readings.now(number, t)), []
    else:
        far = float(max(shot.width, shot.height))
        level = np.array([[-far, 0.0, 0.0], [far, 0.0, 0.0]])
        own, inner = [level], [level - [0, falloff, 0]]
        grips.append(sight.length("Falloff", "falloff", (0, -1), falloff))
    place, way = place_grips(readings, view, zone, t)
    return Shown(
        id=zone.id, kind="zone", centre=sight.centre, lines=[sight.points(line) for line in own],
        soft=[sight.points(line) for line in inner], way=way, grips=[*place, *grips],
    )  # fmt: skip


def applies(part: Part, name: str) -> bool:
    """Whether a field means anything with the part's other fields (see `ShownIf`)."""
    marks = [m for m in type(part).model_fields[name].metadata if isinstance(m, ShownIf)]
    return all(getattr(part, mark.field) in mark.values for mark in marks)


def part_grips(readings: Readings, sight: Sight, part: Part, t: float, prefix: str = "") -> list[Grip]:
    """The grips of a part's numbers that say so (see `Gripped`), and of its path."""
    found: list[Grip] = []
    own_turn = math.radians(readings.now(part.angle, t)) if hasattr(part, "angle") else 0.0
    c, s = math.cos(own_turn), math.sin(own_turn)
    for name, field in type(part).model_fields.items():
        if not applies(part, name):
            continue
        mark = next((m for m in field.metadata if isinstance(m, Gripped)), None)
        title = str(field.title or name)
        if name == "points":
            found += path_grips(sight, part.points, f"{prefix}points")  # type: ignore[attr-defined]
        elif mark is not None and mark.turns:
            angle = math.radians(readings.now(getattr(part, name), t))
            far, fields = _FAR_GRIP, [f"{prefix}{name}"]
            if mark.with_length:
                far = readings.now(getattr(part, mark.with_length), t) / mark.factor
                fields.append(f"{prefix}{mark.with_length}")
                title = f"{type(part).model_fields[mark.with_length].title!s} and {title.lower()}"
            more: dict[str, Any] = {"factor": mark.factor} if mark.with_length else {"stem": sight.centre}
            found.append(sight.grip(title, "turn", (far * math.cos(angle), far * math.sin(angle)), fields, **more))
        elif mark is not None:
            way = (mark.way[0] * c - mark.way[1] * s, mark.way[0] * s + mark.way[1] * c)
            reach = readings.now(getattr(part, name), t) / mark.factor
            found.append(sight.length(title, f"{prefix}{name}", way, reach, mark.factor))
    return found


def force_frames(readings: Readings, force: Any, emitter: Emitter | None, t: float) -> Transform:
    """Where a force is, as its first emitter has it, if it follows one."""
    own = readings.frames(force, np.array([t]))
    if force.frame == "shot" or emitter is None:
        return own
    under = readings.frames(emitter, np.array([t]))
    return Transform(under.of(*own.place.T), under.turn + own.turn, own.size)


def force_shown(
    shot: Shot, readings: Readings, view: Projection, force: Any, emitter: Emitter | None, t: float
) -> Shown:
    """A force: its lines and grips. Its field is added as arrows where it acts on emitters."""
    sight = Sight(view, force_frames(readings, force, emitter, t))
    lines = lines_of(force, lambda number: readings.now(number, t), float(max(shot.width, shot.height)))
    grips = part_grips(readings, sight, force, t)
    if not is_framed(type(force)):
        return Shown(id=force.id, kind=force.kind, centre=sight.centre)
    place, way = place_grips(readings, view, force, t)
    if force.frame == "emitter" and emitter is not None:
        # Its place is relative to the emitter.
        base = Sight(view, readings.frames(emitter, np.array([t])))
        place[0] = place[0].model_copy(update={"at": sight.centre, "centre": base.centre, "axes": base.axes})
    return Shown(
        id=force.id, kind=force.kind, centre=sight.centre, lines=[sight.points(line) for line in lines], way=way,
        grips=[*place, *grips],
    )  # fmt: skip


def marker_shown(readings: Readings, view: Projection, marker: Any, t: float) -> Shown:
    """A marker: a cross."""
    sight = Sight(view, readings.frames(marker, np.array([t])))
    place, way = place_grips(readings, view, marker, t)
    arms = [np.array([[-9.0, 0, 0], [9.0, 0, 0]]), np.array([[0, -9.0, 0], [0, 9.0, 0]])]
    return Shown(
        id=marker.id, kind="marker", centre=sight.centre, lines=[sight.points(a) for a in arms], way=way, grips=place
    )


def light_shown(readings: Readings, view: Projection, lamp: Any, t: float) -> Shown:
    """A light: as far as it reaches, and as far as it is full."""
    sight = Sight(view, readings.frames(lamp, np.array([t])))
    radius, falloff = readings.now(lamp.radius, t), readings.now(lamp.falloff, t)
    place, way = place_grips(readings, view, lamp, t)
    grips = [
        *part_grips(readings, sight, lamp, t),
        sight.length("Falloff", "falloff", (0, 1), radius + falloff).model_copy(update={"offset": -radius}),
    ]
    return Shown(
        id=lamp.id, kind="light", centre=sight.centre, lines=[sight.points(circle(radius + falloff))],
        soft=[sight.points(circle(radius))], way=way, grips=[*place, *grips],
    )  # fmt: skip


def matte_shown(readings: Readings, view: Projection, matte: Any, t: float) -> Shown:
    """A matte: the outline of a drawn shape."""
    sight = Sight(view, readings.frames(matte, np.array([t])))
    place, way = place_grips(readings, view, matte, t)
    if matte.kind == "model":
        lines = [sight.points(line) for line in placed_edges(matte, lambda number: readings.now(number, t))]
        grips = [*place, *part_grips(readings, sight, matte, t)]
        return Shown(id=matte.id, kind="matte", centre=sight.centre, lines=lines, way=way, grips=grips)
    if matte.kind != "shape":
        return Shown(id=matte.id, kind="matte", centre=sight.centre)
    w, h = readings.now(matte.width, t), readings.now(matte.height, t)
    grips = [*place, *part_grips(readings, sight, matte, t)]
    line = sight.points(shape_outline(matte, w, h))
    return Shown(id=matte.id, kind="matte", centre=sight.centre, lines=[line], way=way, grips=grips)


def deformer_shown(readings: Readings, view: Projection, emitter: Emitter, t: float) -> tuple[list[Path2], list[Grip]]:
    """Of an emitter's deformers that are on: the stretches that they work on, the paths of bends, and their grips."""
    lines: list[Path2] = []
    grips: list[Grip] = []

    def read(number: Number) -> float:
        return readings.now(number, t)

    for n, deformer in enumerate(emitter.deformers):
        if not deformer.on:
            continue
        prefix, title = f"deformers/{n}/", type(deformer).model_config["title"]
        begin = np.array([[read(deformer.from_x), read(deformer.from_y), 0.0]])
        sight = Sight(view, Transform(begin, np.zeros(1), np.ones(1)))
        turn = math.radians(read(deformer.direction))
        way = np.array([math.cos(turn), math.sin(turn), 0.0])
        end, beside = way * read(deformer.length), np.array([-way[1], way[0], 0.0]) * 24
        for line in ([0 * end, end], [-beside, beside], [end - beside, end + beside]):
            lines.append(sight.points(np.array(line)))
        shot = Sight(view, Transform(np.zeros((1, 3)), np.zeros(1), np.ones(1)))
        grips.append(Grip(
            name=f"{title}: beginning", kind="move", at=sight.centre, centre=shot.centre, axes=shot.axes,
            fields=[f"{prefix}from_x", f"{prefix}from_y"],
        ))  # fmt: skip
        grips += [
            grip.model_copy(update={"name": f"{title}: {grip.name.lower()}"})
            for grip in part_grips(readings, sight, deformer, t, prefix)
            if not grip.fields[0].startswith(f"{prefix}points")
        ]
        if isinstance(deformer, PathDeformer):
            at = np.array([[read(deformer.across), read(deformer.up), 0.0]])
            own = Sight(view, Transform(at, np.array([read(deformer.turn)]), np.array([read(deformer.scale) / 100])))
            lines.append(own.points(bezier.flat(deformer.points, False)))
            grips += path_grips(own, deformer.points, f"{prefix}points")
    return lines, grips


def ripples_shown(readings: Readings, view: Projection, emitter: Emitter, t: float) -> tuple[list[Path2], list[Grip]]:
    """Of an emitter's ripples: the face of water, and its grips."""
    ripples = emitter.ripples
    if ripples is None:
        return [], []
    face = face_of(ripples, lambda number: readings.now(number, t))
    corners = face.corners()
    if ripples.shape == "ellipse":
        turn = np.linspace(0, 2 * np.pi, 49)[:, None]
        u, v = face.axes[0] * face.width / 2, face.axes[1] * face.length / 2
        corners = face.middle + np.cos(turn) * u + np.sin(turn) * v
    line = on_picture(view, np.concatenate([corners, corners[:1]]))
    shot = Sight(view, Transform(np.zeros((1, 3)), np.zeros(1), np.ones(1)))
    own = Sight(view, Transform(face.middle[None], np.zeros(1), np.ones(1)))
    grips = [
        Grip(
            name="Water: middle", kind="move", at=own.centre, centre=shot.centre, axes=shot.axes,
            fields=["ripples/across", "ripples/up"],
        ),
        *(
            grip.model_copy(update={"name": f"Water: {grip.name.lower()}"})
            for grip in part_grips(readings, own, ripples, t, "ripples/")
        ),
    ]  # fmt: skip
    return [line], grips


def strand_shown(
    readings: Readings, sight: Sight, emitter: Emitter, ahead: Pair, t: float
) -> tuple[list[Path2], list[Grip]]:
    """Of an emitter's strands: how long they are, straight out of their roots along `ahead`, in own px; and the grip of that."""
    if emitter.strand is None:
        return [], []
    size = max(1e-6, float(sight.frames.size[0]))
    grip = sight.length(
        "Strand: length", "strand/length", ahead, readings.now(emitter.strand.length, t) / size, factor=size
    )
    return [[sight.centre, grip.at]], [grip]


def shape_grips(readings: Readings, emitter: Emitter, sight: Sight, t: float) -> list[Grip]:
    """Grips of an emitter's shape."""
    return part_grips(readings, sight, emitter.shape, t, "shape/")

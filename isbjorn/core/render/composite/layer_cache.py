"""The cache of the layers of the latest picture: after an edit, only changed layers are drawn again.

A picture is a chain of units (emitters and groups) that are composited in order. Each has a digest of everything that its looks
depend on. For the next picture of the same moment, all units before the first changed one are reused, and units with a separate
layer are found by their digests.
"""

from __future__ import annotations

import hashlib
from collections.abc import Hashable
from dataclasses import dataclass, field
from typing import Any

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Floats
from isbjorn.core.caching import IdentityCache
from isbjorn.core.document import Emitter, Group
from isbjorn.core.document.fields.references import references_of
from isbjorn.core.render.composite.effects import working
from isbjorn.core.render.draw.context import RenderContext
from isbjorn.core.render.models.bodies import has_models
from isbjorn.core.render.models.covers import looked_at, seen_mattes, shining
from isbjorn.core.render.raster.pixel_pass import LayerPiece
from isbjorn.core.render.scene.camera import Counts
from isbjorn.core.runtime.memory import share_of

# Number of views that can have their own entries.
LOOKERS = 2
# An emitter's looks at a moment may depend on keys that come until the shutter closes.
_FRAMES_AHEAD = 3


@dataclass
class Facts:
    """What else there is of a drawn unit: the particles of its emitters by their places in the cast, and their counts."""

    particles: dict[int, Particles] = field(default_factory=dict)
    counts: Counts = field(default_factory=Counts)


@dataclass
class LayerCache:
    """The cache of one view at one moment: the chain of the last picture, the picture after its first `depth` units, and layers."""

    at: Hashable = None
    chain: list[str] = field(default_factory=list)
    facts: list[Facts] = field(default_factory=list)
    depth: int = 0
    below: Floats | None = None
    pieces: dict[str, tuple[LayerPiece | None, Facts]] = field(default_factory=dict)
    limit_bytes: int = field(default_factory=lambda: share_of("layers") // LOOKERS)

    @property
    def nbytes(self) -> int:
        """What it holds."""
        pieces = sum(piece.layer.nbytes for piece, _ in self.pieces.values() if piece is not None)
        return pieces + (0 if self.below is None else self.below.nbytes)

    def fits(self, more: Floats) -> bool:
        """Whether one more picture may be kept."""
        return self.nbytes + more.nbytes <= self.limit_bytes

    def same(self, at: Hashable, chain: list[str]) -> int:
        """How many units of the last picture are at the chain's beginning; everything is forgotten of another moment."""
        if self.at != at:
            self.at, self.chain, self.facts, self.depth, self.below = at, [], [], 0, None
            self.pieces.clear()
        count = 0
        while count < min(len(chain), len(self.chain)) and chain[count] == self.chain[count]:
            count += 1
        if count < self.depth:
            self.depth, self.below = 0, None
        return count


_text_of: IdentityCache[str] = IdentityCache(
    lambda thing: thing.model_dump_json(exclude={"name"}), kept=256, what="Texts of things"
)


class Digests:
    """Digests of the units of a moment. users: layers that are applied to one thing alone, by the thing's id."""

    def __init__(self, context: RenderContext, users: dict[str, list[Emitter | Group]], grounded: bool) -> None:
        shot = context.shot
        self.context, self.shot, self.users = context, shot, users
        self.things: dict[str, Any] = {thing.id: thing for thing in shot.things}
        self._known: dict[str, str] = {}
        loose = {"name", "emitters", "forces", "zones", "markers", "lights", "mattes", "groups", "links", "finish"}
        self.at: Hashable = (
            shot.model_dump_json(exclude=loose), context.seconds, context.scale, context.orbit, grounded, working(shot.finish),
            *(self.of(user) for user in users.get("plate", ())), *self._covers(),
        )  # fmt: skip

    def _covers(self) -> list[str]:
        """What the models that are drawn under all units depend on."""
        mattes = seen_mattes(self.shot)
        around = looked_at(self.shot) if self.context.orbit is not None else []
        if not mattes and not around:
            return []
        models = [*(matte.id for matte in self.shot.mattes if matte.kind == "model"), *(thing.id for thing in around)]
        lit = [matte for matte in mattes if matte.catches.value > 0 or matte.catches.timed]
        lights = sorted({self.of(e) for matte in lit for e in shining(matte, self.shot)})
        stamps = [str(self.context.pictures.stamp(matte.look.sky)) for matte in mattes if matte.look.sky]
        return [*self._all_of([*models, *(lamp.id for lamp in self.shot.lights)]), *lights, *stamps]

    def _all_of(self, names: list[str]) -> list[str]:
        """The texts of things and of all that they depend on."""
        found: dict[str, str] = {}
        todo = list(names)
        while todo:
            name = todo.pop()
            if name in found or name not in self.things:
                continue
            found[name] = _text_of(self.things[name])
            todo += [reference.id for reference in references_of(self.things[name])]
        return [found[name] for name in sorted(found)]

    def _emitter(self, e: Emitter) -> list[str]:
        number = self.shot.place_of(e)
        track = self.context.solver.tracks.get(number)
        if track is None:
            return [e.id]
        ahead = float(self.context.seconds) + _FRAMES_AHEAD / float(self.shot.frame_rate)
        names = [e.id, *(f.id for f in self.shot.reaching(e))]
        if e.lit.value or e.lit.timed or has_models(e):
            names += [lamp.id for lamp in self.shot.lights]
        files = [*e.shape.pictures, *(file for body in (e.body, *e.mixed) for file in body.pictures)]
        stamps = [str(self.context.pictures.stamp(file)) for file in files]
        moved = [tag for one in self.context.solver.falling_into(number) for tag in one.depends_on(ahead)]
        return [str(number), *moved, *self._all_of(names), *stamps]

    def of(self, unit: Emitter | Group) -> str:
        """The digest of a unit, with those of its members and of all that are used on it."""
        if unit.id not in self._known:
            if isinstance(unit, Group):
                members = [e for e in self.shot.emitters if e.on and e.group == unit.id]
                parts = [_text_of(self.things[unit.id]), *map(self.of, members)]
            else:
                parts = self._emitter(unit)
            parts += map(self.of, self.users.get(unit.id, ()))
            self._known[unit.id] = hashlib.sha256("\n".join([unit.id, *parts]).encode()).hexdigest()
        return self._known[unit.id]

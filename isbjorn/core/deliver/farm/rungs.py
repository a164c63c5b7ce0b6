"""Kept states of crowds that go along with a part: what is stepped from its first moment on need not be run up to it again."""

from __future__ import annotations

import math

from isbjorn.core.deliver.parts import Job
from isbjorn.core.frame import Solver
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.crowd.crowd import Crowd, crowds_of
from isbjorn.core.simulate.handing import Shelves

# The shelf's group and name of a rung, and its bytes.
Rung = tuple[str, str, bytes]
# Larger ones are run up to where they are needed; and so are those that spare no more steps.
_LARGEST, _WORTH_STEPS = 32 << 20, 60


class Rungs:
    """What is kept here of a job's crowds."""

    def __init__(self, job: Job, plates: PlateReader, shelves: Shelves | None) -> None:
        self.job, self.shelves = job, shelves
        self.crowds: list[Crowd] = []
        if shelves is not None and crowds_of(job.shot):
            tracks = Solver(job.shot, StateCache(1 << 20), plates).tracks.values()
            self.crowds = list({id(t.crowd): t.crowd for t in tracks if isinstance(t.crowd, Crowd)}.values())

    def before(self, part: range) -> list[Rung]:
        """The latest rung of each crowd at or before the first moment of a part."""
        if self.shelves is None or not self.crowds:
            return []
        shot = self.job.shot
        # The shutter may be open from a frame before on.
        first = float(shot.seconds(self.job.plan[part[0]].frame)) - 1 / float(shot.frame_rate)
        found: list[Rung] = []
        for crowd in self.crowds:
            named = self.shelves.rung(crowd.motion, crowd.tag, math.floor(first * crowd.hz))
            if named is None or named[0] - crowd.first_index() < _WORTH_STEPS:
                continue
            content = self.shelves.rungs.get(*named[1:])
            if content is not None and len(content) <= _LARGEST:
                found.append((*named[1:], content.tobytes()))
        return found

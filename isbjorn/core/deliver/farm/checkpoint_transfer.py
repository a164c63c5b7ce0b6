"""Kept states of crowds that go along with a part: what is stepped from its first moment on need not be run up to it again."""

from __future__ import annotations

import math

from isbjorn.core.deliver.chunks import Job
from isbjorn.core.frame import Solver
from isbjorn.core.media.plates import PlateReader
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.interactions.group import InteractionGroup, interaction_groups
from isbjorn.core.simulate.shared_states import SharedCaches

# Group and name of a checkpoint in the shared cache, and its bytes.
Rung = tuple[str, str, bytes]
# Larger ones are run up to where they are needed; and so are those that spare no more steps.
_LARGEST, _WORTH_STEPS = 32 << 20, 60


class Rungs:
    """What is kept here of a job's crowds."""

    def __init__(self, job: Job, plates: PlateReader, shared_caches: SharedCaches | None) -> None:
        self.job, self.shared_caches = job, shared_caches
        self.crowds: list[InteractionGroup] = []
        if shared_caches is not None and interaction_groups(job.shot):
            tracks = Solver(job.shot, StateCache(1 << 20), plates).tracks.values()
            self.crowds = list({id(t.crowd): t.crowd for t in tracks if isinstance(t.crowd, InteractionGroup)}.values())

    def before(self, part: range) -> list[Rung]:
        """The latest rung of each crowd at or before the first moment of a part."""
        if self.shared_caches is None or not self.crowds:
            return []
        shot = self.job.shot
        # The shutter may be open from a frame before on.
        first = float(shot.seconds(self.job.plan[part[0]].frame)) - 1 / float(shot.frame_rate)
        found: list[Rung] = []
        for crowd in self.crowds:
            named = self.shared_caches.rung(crowd.motion, crowd.tag, math.floor(first * crowd.hz))
            if named is None or named[0] - crowd.first_index() < _WORTH_STEPS:
                continue
            content = self.shared_caches.checkpoints.get(*named[1:])
            if content is not None and len(content) <= _LARGEST:
                found.append((*named[1:], content.tobytes()))
        return found

"""Checkpoints of interacting emitters that are sent with a chunk: its worker need not simulate them from the start."""

from __future__ import annotations

import math

from isbjorn.core.deliver.chunks import Job
from isbjorn.core.frame import Solver
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.interactions.group import InteractionGroup, interaction_groups
from isbjorn.core.simulate.shared_states import SharedCaches

# Group and name of a checkpoint in the shared cache, and its bytes.
Checkpoint = tuple[str, str, bytes]
# Largest checkpoint that is sent, in bytes; fewest steps that one must save.
_LARGEST, _WORTH_STEPS = 32 << 20, 60


class CheckpointTransfer:
    """The checkpoints of a job's interacting emitters that this machine has."""

    def __init__(self, job: Job, plates: PlateReader, shared_caches: SharedCaches | None) -> None:
        self.job, self.shared_caches = job, shared_caches
        self.groups: list[InteractionGroup] = []
        if shared_caches is not None and interaction_groups(job.shot):
            tracks = Solver(job.shot, StateCache(1 << 20), plates).tracks.values()
            groups = [t.interaction_group for t in tracks]
            self.groups = list({id(g): g for g in groups if isinstance(g, InteractionGroup)}.values())

    def before(self, part: range) -> list[Checkpoint]:
        """The latest checkpoint of each group at or before the first moment of a chunk."""
        if self.shared_caches is None or not self.groups:
            return []
        shot = self.job.shot
        # The shutter may open up to a frame earlier.
        first = float(shot.seconds(self.job.plan[part[0]].frame)) - 1 / float(shot.frame_rate)
        found: list[Checkpoint] = []
        for group in self.groups:
            named = self.shared_caches.checkpoint(group.motion, group.tag, math.floor(first * group.hz))
            if named is None or named[0] - group.first_index() < _WORTH_STEPS:
                continue
            content = self.shared_caches.checkpoints.get(*named[1:])
            if content is not None and len(content) <= _LARGEST:
                found.append((*named[1:], content.tobytes()))
        return found

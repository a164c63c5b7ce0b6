"""How long a delivery will take: what its frames take to draw and to write, shared out among the processes that make it."""

from __future__ import annotations

import math
import os
from statistics import fmean

from isbjorn.core.deliver.chunks import Job
from isbjorn.core.deliver.worker_pool import processes_for
from isbjorn.core.document import Emitter
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.document.parts.interactions import Interaction
from isbjorn.core.evaluate.readings import Readings
from isbjorn.core.inspect.forecast import alive_about, forecast, speed, stepping_ms
from isbjorn.core.runtime.memory import BYTES_PER_PARTICLE
from isbjorn.core.simulate.track import shares_of

# Frames that are measured, and frames from the first birth on at which a simulation of interacting emitters is.
_LOOKS = 5
# A frame rendered by one process with one thread takes this multiple of the forecast, which is for all cores.
_ALONE = 1.2
# What it takes until processes are there; and by how much passes are dearer.
_BEGIN_S, _PASSES = 2.5, 2.5


class Taking:
    """Time estimate for the frames of a delivery. far_px: distance that each emitter's particles travel, by its id."""

    def __init__(self, job: Job, far_px: dict[str, float]) -> None:
        self.job, self.shot = job, effective_shot(job.shot)
        self.readings = Readings(self.shot)
        self.shares = shares_of(self.shot, self.readings)
        moments = [job.plan[round(k * (len(job.plan) - 1) / (_LOOKS - 1))] for k in range(_LOOKS)]
        self.times = [float(self.shot.seconds(one.frame)) for one in moments]
        self.costs = [forecast(self.shot, self.readings, t, self.shares, far_px) for t in self.times]

    @property
    def particles(self) -> float:
        """Alive in a frame, as a mean."""
        return fmean(cost.memory_bytes for cost in self.costs) / BYTES_PER_PARTICLE

    def seconds(self) -> float:
        """About how long all of it takes on this machine."""
        job, order = self.job, self.job.order
        width, height = order.size(job.shot)
        form = order.form
        drawn = 0.0 if form.points else fmean(cost.ms(width, height) for cost in self.costs)
        drawn *= (2 if order.fields != "none" else 1) * (_PASSES if order.passes else 1)
        written = form.write_ms * (self.particles if form.points else width * height) / 1e6 / speed()
        if order.passes:
            written *= 1 + len(order.passes)
        workers = min(processes_for(job), os.cpu_count() or 1)
        each = drawn * _ALONE + written if workers > 1 else max(drawn, written)
        # Parts are not shared out any finer.
        frames = min(len(job.plan), math.ceil(len(job.parts) / workers) * len(job.parts[0]))
        return _BEGIN_S + (frames * each + self._run_ms()) / 1000

    def _run_ms(self) -> float:
        """Simulating interacting emitters, from the first birth to the last frame, which each process repeats."""
        met = [e for e in self.shot.emitters if e.on and any(isinstance(f, Interaction) for f in self.shot.reaching(e))]
        if not met:
            return 0.0
        last = max(self.times)
        found = 0.0
        for k in range(_LOOKS):
            t = last * (k + 0.5) / _LOOKS
            found += sum(self._step_ms(e, t) for e in met)
        return found / _LOOKS * max(0.0, last) * float(self.shot.frame_rate)

    def _step_ms(self, emitter: Emitter, t: float) -> float:
        alive = alive_about(self.shot, emitter, self.readings, t, self.shares[emitter.id])
        return stepping_ms(self.shot, emitter, self.readings, t, alive)

"""A performed shot: stepped forward only, at the clock's pace, with its controls as they are at each lattice step.

It is the same engine on the same document: the controls play a performance that grows with each input. The picture is a function of
the document and the performance up to the moment, so a saved performance plays back the same to the bit.
"""

from __future__ import annotations

import math
import secrets
from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np

from isbjorn.core.appearance.particles import Particles
from isbjorn.core.arrays import Doubles
from isbjorn.core.document import Control, Number, Shot, Take
from isbjorn.core.document.editing.effective_shot import effective_shot
from isbjorn.core.emit.births import MOST_BIRTHS, RANDOM
from isbjorn.core.evaluate.performed import LONGEST_S, MOST_VALUES, Performance, play
from isbjorn.core.evaluate.takes import eased
from isbjorn.core.frame import Layers, Solver, draw_particles
from isbjorn.core.media.read.plates import PlateReader
from isbjorn.core.simulate.checkpoints import StateCache
from isbjorn.core.simulate.track import Track

LIVE = "live"
_FORGOTTEN_EVERY, _ARRIVALS_KEPT = 60, 4096
# Steps beyond this number are not run one by one; an edit may need this many of all its particles, which is about a second.
_AT_ONCE, _MOST_JOINED = 600, 1e7


def performed_controls(shot: Shot) -> tuple[Control, ...]:
    """The controls that something outside moves."""
    return tuple(control for control in shot.controls if control.comes_from.address)


class HeldControl:
    """What arrives for one control, as it becomes values at lattice steps: the last that had arrived by then, scaled, smoothed."""

    def __init__(self) -> None:
        self._arrived: deque[tuple[float, float]] = deque(maxlen=_ARRIVALS_KEPT)
        self._raw: float | None = None
        self._value: float | None = None

    def arrive(self, at_s: float, raw: float) -> None:
        """A raw number that arrived at a moment of the show."""
        self._arrived.append((at_s, raw))

    def settle(self) -> None:
        """Take what has arrived as it is: the moments at which it did are of another show."""
        if self._arrived:
            self._raw = self._arrived[-1][1]
            self._arrived.clear()

    def at(self, control: Control, at_s: float, hz: int, rests: float) -> float:
        """The value at a lattice step. rests: what it is as long as nothing has arrived."""
        while self._arrived and self._arrived[0][0] <= at_s:
            self._raw = self._arrived.popleft()[1]
        aim = rests if self._raw is None else control.comes_from.scaled(self._raw)
        self._value = aim if self._value is None else eased(self._value, aim, control.comes_from.smooth_s, hz)
        return self._value

    def held(self, control: Control, rests: Doubles) -> Doubles:
        """Values at many steps (n,), through which what arrived last holds."""
        if self._raw is None:
            return rests
        self._value = control.comes_from.scaled(self._raw)
        return np.full(len(rests), self._value)


class Show:
    """A shot that is performed. Not for several threads at once.

    Input comes through `arrive`, then `step` advances the show to a moment, and `draw` returns the picture of the last step.
    """

    def __init__(self, shot: Shot, plates: PlateReader | None = None, limit_bytes: int | None = None) -> None:
        self.plates = plates or PlateReader()
        self._limit_bytes = limit_bytes
        self.held_controls: defaultdict[str, HeldControl] = defaultdict(HeldControl)
        self._begin(shot)

    def _begin(self, shot: Shot) -> None:
        """Play a shot from second 0 on."""
        for held_control in self.held_controls.values():
            held_control.settle()
        self.states = StateCache(self._limit_bytes)
        lanes = [control.id for control in performed_controls(shot)]
        comes_round = float(shot.length_s) if shot.loop else None
        # The performance is recorded, so that it can become a take: within bounds.
        self._until_s = min(LONGEST_S, MOST_VALUES / (max(1, len(lanes)) * shot.simulation_rate))
        self.performance = Performance(shot.simulation_rate, lanes or [LIVE], self._until_s, comes_round)
        self.digest = secrets.token_hex(32)
        play(self.digest, self.performance)
        self.shot, self.solver = shot, self._solver(shot, None)
        self._lead(0)
        self._until_s = min([self._until_s, *(self._bounded_s(n) for n in self.solver.tracks)])

    def _solver(self, shot: Shot, before: Solver | None) -> Solver:
        take = Take(id=LIVE, name="live", media=LIVE, digest=self.digest)
        # Without a control that is moved there is still a clock.
        played = tuple(
            c.model_copy(update={"take": LIVE, "lane": ""}) if self.performance.knows(c.id) else c
            for c in shot.controls
        )
        others = tuple(take for take in shot.takes if take.id != LIVE)
        if not any(self.performance.knows(c.id) for c in shot.controls):
            played = (*played[:31], Control(id=LIVE, name=LIVE, take=LIVE))
        live = shot.model_copy(update={"controls": played, "takes": (*others[:31], take), "loop": False})
        return Solver(live, self.states, self.plates, before)

    def _bounded_s(self, number: int) -> float:
        """For how many seconds the births of an emitter have distinct numbers."""
        births = self.solver.tracks[number].births
        if births.cadence != RANDOM:
            return math.inf
        ten_minutes = max(1.0, births.stream.most(births.start_s + 600.0))
        return 600.0 * MOST_BIRTHS / 4 / ten_minutes

    @property
    def hz(self) -> int:
        return self.performance.hz

    @property
    def now_s(self) -> float:
        """The moment of the last step."""
        return self.performance.end_s

    def edit(self, shot: Shot) -> bool:
        """Apply an edit; return whether the show restarts, because the recorded performance does not determine its new state.

        Untouched things continue; those that an edit moves are stepped again from their births. Interacting emitters are not: they
        would have to be simulated from their first moment.
        """
        shot = effective_shot(shot)
        before = self.solver
        lanes = [control.id for control in performed_controls(shot)]
        same = tuple(lanes or [LIVE]) == self.performance.lanes and shot.simulation_rate == self.hz
        if same:
            made = self._solver(shot, before)
            kept = {id(track) for track in before.tracks.values()}
            stale_tracks = [track for track in made.tracks.values() if id(track) not in kept]
            if all(self._can_join(track) for track in stale_tracks):
                self.shot, self.solver = shot, made
                return False
        self._begin(shot)
        return True

    def _can_join(self, track: Track) -> bool:
        """Whether the things that an edit moves can be stepped up to now while the show continues."""
        if track.interaction_group is not None or track.binds or track.parent is not None:
            return False
        steps = track.demand * min(track.source.longest_life, self.now_s) * self.hz
        return track.steady or steps <= _MOST_JOINED

    def again(self) -> None:
        """Restart, with the controls as they are."""
        self._begin(self.shot)

    def arrive(self, address: str, raw: float, at_s: float) -> bool:
        """A number that arrived at a moment of the show; whether a control listens to it."""
        heard = False
        for control in performed_controls(self.shot):
            if control.comes_from.address == address:
                self.held_controls[control.id].arrive(at_s, raw)
                heard = True
        return heard

    def _lead(self, step: int) -> None:
        """Add the controls at a lattice step to the performance."""
        t = step / self.hz
        values = []
        for control in self._led():
            rests = float(self.solver.readings.own(self._number(control), np.array([t]))[0])
            values.append(self.held_controls[control.id].at(control, t, self.hz, rests))
        self.performance.append(values or [0.0])

    def _skip(self, until: int) -> None:
        """Go on by many steps at once, after a jump of the clock: what has arrived holds, all else is as it rests."""
        first = self.performance.count
        t = np.arange(first, until) / self.hz
        lanes = [self.held_controls[c.id].held(c, self.solver.readings.own(self._number(c), t)) for c in self._led()]
        self.performance.extend(np.array(lanes or [np.zeros(len(t))]))

    def _number(self, control: Control) -> Number:
        number: Number = self.solver.readings.things[control.id].value
        return number

    def _led(self) -> Sequence[Control]:
        by_id: Mapping[str, Control] = {control.id: control for control in self.shot.controls}
        return [by_id[lane] for lane in self.performance.lanes if lane in by_id]

    def step(self, until_s: float) -> int:
        """Step to the last lattice step by a moment; return the number of steps. A show that has become too long restarts."""
        if until_s > self._until_s:
            self.again()
            return 0
        first, last = self.performance.count, math.floor(until_s * self.hz + 1e-9)
        if last - first > _AT_ONCE:
            self._skip(last - _AT_ONCE)
            first = self.performance.count
        for step in range(first, last + 1):
            self._lead(step)
            if step % _FORGOTTEN_EVERY == 0:
                for track in self.solver.tracks.values():
                    if track.binds:
                        track.admission.forget(step / self.hz)
        return max(0, last + 1 - first)

    def settle(self) -> None:
        """Step the particles as far as the show is known, so that a picture has less to do."""
        for track in self.solver.tracks.values():
            track.state(self.performance.count - 1)

    @property
    def moment(self) -> Fraction:
        """The moment that can be drawn: at which, and while its shutter is open, all is known."""
        now, camera = Fraction(self.performance.count - 1, self.hz), self.shot.camera
        read = self.solver.readings
        angle = read.now(camera.shutter, float(now))
        if angle <= 0:
            return now
        after = (angle + read.now(camera.shutter_phase, float(now))) / 360 / float(self.shot.frame_rate)
        # Shutters close at a step, or a little before.
        return max(Fraction(0), now - Fraction(max(0.0, after)).limit_denominator(10**6) - Fraction(1, 10**6))

    @property
    def frame(self) -> Fraction:
        """The moment as a frame number; it continues beyond the last frame."""
        return self.shot.first_frame + self.moment * self.shot.frame_rate

    def draw(self, scale: float) -> Layers:
        """The picture of the moment, as `frame.draw_particles` gives it."""
        return draw_particles(self.solver, self.frame, scale, over_plate=True)

    def particles(self) -> Particles:
        """All particles at the moment."""
        return self.solver.at(self.frame)

    def kept(self) -> Performance:
        """All that was performed, since it began; it does not grow any more."""
        made = Performance(self.hz, self.performance.lanes)
        made.extend(self.performance.values)
        return made

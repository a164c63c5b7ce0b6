"""Checks of strands."""

from __future__ import annotations

from isbjorn.core.document.parts.interactions import Interaction
from isbjorn.core.inspect.lookout.notes import Case, Checks, Mend, put
from isbjorn.core.simulate.integrators.strands import StrandIntegrator
from isbjorn.core.simulate.strands.hold import TAUT

_LONGER = 1.08


def feet_out_of_reach(case: Case) -> Checks:
    """Feet that are to be held farther away than the strands are long."""
    track = case.watch.solver.tracks[case.number]
    mover = track.integrator
    if not isinstance(mover, StrandIntegrator) or mover.zone is None or not mover.rooted:
        return
    state, _, t = case.watch.solver.state(case.number, case.watch.seconds)
    if not state.count:
        return
    far, length = mover.reach(state, t)
    short = far > TAUT * length
    if not short.any():
        return
    farthest = int(far.argmax())
    longer = float(round(_LONGER * float((far / length).max()) * mover.strand.length.value))
    yield case.note(
        "ends out of reach",
        f"{int(short.sum()):,} of {len(short):,} strands are too short to reach {mover.zone.name}.",
        (
            f"The farthest end is pinned {far[farthest]:.0f} px from its root, but the strand is "
            f"{length[farthest]:.0f} px long. Strands that are too short are pulled taut."
        ),
        mend=Mend(label=f"{longer:.0f} px long", changes=[put(f"{case.path}/strand/length/value", longer)]),
    )


def strands_alone(case: Case) -> Checks:
    """What is set on an emitter and does nothing to strands."""
    e = case.emitter
    if e.strand is None:
        return
    pushes = [f for f in case.watch.shot.reaching(e) if isinstance(f, Interaction) and f.pushes]
    if pushes:
        yield case.note(
            "push ignores strands",
            f"{pushes[0].name} has no effect on its strands.",
            "Bodies pass through strands; surfaces stop them.",
        )
    idle = [name for name in ("trail", "heads", "lines", "skin") if getattr(e, name) is not None]
    if idle:
        one = len(idle) == 1
        names = " and ".join("repeats" if name == "heads" else name for name in idle)
        yield case.note(
            "not drawn with strands",
            f"its {names} {'is' if one else 'are'} not drawn.",
            "Strands are drawn instead of bodies, trails, lines, repeats and skin.",
            mend=Mend(
                label="Remove it" if one else "Remove them", changes=[put(f"{case.path}/{n}", None) for n in idle]
            ),
        )


CHECKS = (feet_out_of_reach, strands_alone)

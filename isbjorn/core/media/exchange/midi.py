"""MIDI files: what was played, as values between 0 and 1 over time."""

from __future__ import annotations

import io
from collections import defaultdict

import mido
import numpy as np

from isbjorn.core.arrays import Doubles
from isbjorn.core.errors import IsbjornError

_MOST_EVENTS, _MOST_LANES, _LONGEST_S = 500_000, 64, 3600.0


def read_midi(content: bytes) -> dict[str, tuple[Doubles, Doubles]]:
    """Lanes of a standard MIDI file by their names: moments s (n,), which do not fall, and values in [0, 1], (n,). Controllers
    (`controller 7, channel 1`), bends, and of each channel the velocity of what sounds (`notes, channel 1`) and its pitch.

    Raises IsbjornError for what is no such file.
    """
    try:
        file = mido.MidiFile(file=io.BytesIO(content), clip=True)
        found: dict[str, list[tuple[float, float]]] = defaultdict(list)
        sounding: dict[int, dict[int, float]] = defaultdict(dict)
        t = 0.0
        for count, message in enumerate(file):
            t += message.time
            if count >= _MOST_EVENTS or t > _LONGEST_S:
                raise IsbjornError(
                    "it is longer than an hour, or has more than 500,000 events.", "midi", "Import a part of it."
                )
            if message.is_meta or not hasattr(message, "channel"):
                continue
            channel = message.channel + 1
            if message.type == "control_change":
                found[f"controller {message.control}, channel {channel}"].append((t, message.value / 127))
            elif message.type == "pitchwheel":
                found[f"bend, channel {channel}"].append((t, (message.pitch + 8192) / 16383))
            elif message.type in ("note_on", "note_off"):
                notes = sounding[channel]
                if message.type == "note_on" and message.velocity > 0:
                    notes[message.note] = message.velocity / 127
                    found[f"pitch, channel {channel}"].append((t, message.note / 127))
                else:
                    notes.pop(message.note, None)
                found[f"notes, channel {channel}"].append((t, max(notes.values(), default=0.0)))
    except IsbjornError:
        raise
    except Exception as error:  # a reader of strangers' files raises what it likes
        raise IsbjornError(f"this is not a MIDI file ({str(error)[:80]}).", "midi", "Select a .mid file.") from None
    if not found:
        raise IsbjornError("it contains no events.", "midi", "Select a file with notes or controllers.")
    lanes = dict(sorted(found.items())[:_MOST_LANES])
    return {name: (np.array([t for t, _ in lane]), np.array([v for _, v in lane])) for name, lane in lanes.items()}

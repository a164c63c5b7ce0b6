"""The engine of a dimmer."""

import numpy as np

from isbjorn.core.render.composite.effects import EffectEngine

DIM = EffectEngine(lambda step, layer, at: layer * np.float32(at.read(step.share) / 100), lambda *_: 0.0)

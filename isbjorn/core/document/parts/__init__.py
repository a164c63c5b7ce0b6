"""The kinds of things: forces, interactions, shapes, bodies, effects, deformers; and the parts of an emitter."""

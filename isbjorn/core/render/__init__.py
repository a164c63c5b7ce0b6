"""Projecting, drawing and compositing particles, in scene-linear float32 with premultiplied alpha."""

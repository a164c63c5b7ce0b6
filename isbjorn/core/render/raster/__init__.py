"""Kernels that draw into tiles: discs, sprites, strokes; blends and passes over pixels."""

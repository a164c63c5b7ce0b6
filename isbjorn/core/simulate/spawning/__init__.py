"""Particles born of other particles."""

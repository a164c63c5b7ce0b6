"""Layers become a picture: blends of units, mattes, effects, passes."""

"""Tests of models as bodies, covers and depth."""

"""Tests of where particles are."""

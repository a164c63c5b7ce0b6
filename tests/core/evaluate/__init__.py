"""Tests of the value of a number at a moment."""

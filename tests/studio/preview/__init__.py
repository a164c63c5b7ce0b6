"""Tests of the live picture and its processes."""

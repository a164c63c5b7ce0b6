"""Tests of looking for a look."""

"""Tests of what is shown beside the picture."""

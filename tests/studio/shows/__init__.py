"""Tests of the stage and control."""

"""Tests of colours and deformers."""

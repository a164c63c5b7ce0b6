"""Tests of caches and kernels."""

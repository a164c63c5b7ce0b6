"""Tests of starting, preparing and installing."""

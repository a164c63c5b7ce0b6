"""Tests of when, where and which way particles are born."""

"""Tests of files in and out."""

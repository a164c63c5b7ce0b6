"""Tests of the API."""

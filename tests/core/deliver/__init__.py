"""Tests of deliveries and the farm."""

"""Formats of deliveries, and their files."""

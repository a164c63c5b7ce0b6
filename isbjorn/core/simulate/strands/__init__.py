"""Strands: chains of joints that are held together."""

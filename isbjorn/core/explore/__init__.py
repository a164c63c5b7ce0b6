"""Searching for a look: many states of a shot side by side."""

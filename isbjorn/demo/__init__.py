"""Skarvøy Lights: the demonstration. A winter light festival in the harbour of an invented island town."""

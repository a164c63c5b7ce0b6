"""The stage: shows, each in a process of its own."""

"""Forces, the step, and the state of every particle at any moment."""

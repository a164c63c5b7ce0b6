"""The shot, its emitters, and the other things of its cast."""

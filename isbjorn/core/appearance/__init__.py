"""What particles look like: sizes, colours and opacities of a moment, and particles as they are drawn."""

"""What a value is at a moment: draws, spreads, curves over life, gradients."""

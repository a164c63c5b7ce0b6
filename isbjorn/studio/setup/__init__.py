"""What is prepared while the studio runs: kernels and the demonstration."""

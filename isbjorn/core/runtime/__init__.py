"""How the engine runs: its kernels, its cores, its memory."""

"""Pieces of a shape: how it is cut (`cut`), when each piece leaves or arrives (`fronts`), which particle takes which place
(`matching`), and the births that come of it (`flights`)."""

"""Deliveries made by other machines: parts go out to the workers of a Dask scheduler, and come back as whole files.

Media go out by their content: each is sent to a worker once, and kept there. A worker whose engine is another one says so, and is
given nothing. A worker that dies, hangs or loses its disk loses no frame: its parts are made by another.
"""

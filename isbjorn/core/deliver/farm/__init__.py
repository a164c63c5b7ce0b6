"""Deliveries rendered by other machines: chunks go to the workers of a Dask scheduler, and come back as whole files.

Media are addressed by their content: each is sent to a worker once, and cached there. A worker with a different engine says so, and
gets no work. A worker that dies, hangs or loses its disk loses no frame: another one renders its chunks.
"""

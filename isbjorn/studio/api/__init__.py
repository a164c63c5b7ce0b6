"""The API of a shot: one module per resource."""

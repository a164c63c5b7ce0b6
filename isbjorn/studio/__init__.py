"""The studio: the application that people see. Web, store, live picture, delivery queue."""

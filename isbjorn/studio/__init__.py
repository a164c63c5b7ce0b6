"""The studio: the web application with its store, live picture and delivery queue."""

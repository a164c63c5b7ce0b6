"""Plates in and deliveries out: pictures, movies, colour."""

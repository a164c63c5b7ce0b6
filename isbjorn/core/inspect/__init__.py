"""What is told of a shot beside its picture: guides, handles, forecasts, notes, numbers."""

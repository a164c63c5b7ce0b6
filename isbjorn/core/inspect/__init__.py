"""What is shown of a shot beside its picture: guides, handles, forecasts, notes, values."""

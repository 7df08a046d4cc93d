"""One module per stage of the work."""

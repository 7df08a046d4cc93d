"""What every room of the core may use: errors, progress, units, judgements, safe writing."""

"""The pages of the Plan stage, one module each."""

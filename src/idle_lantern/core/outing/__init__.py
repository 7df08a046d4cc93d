"""The document of one outing: model, edits, file."""

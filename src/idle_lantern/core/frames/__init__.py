"""Picture files: reading, metadata, the set of frames to join."""

"""The practice window: exercises in the invented place."""

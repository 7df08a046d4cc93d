"""The window: the only place that imports Qt."""

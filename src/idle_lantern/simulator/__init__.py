"""Simulated scene, lens, sensor and head, and the truth they know."""

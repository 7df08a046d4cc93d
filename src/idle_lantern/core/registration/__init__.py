"""Frames -> where each of them belongs: points and links (``match``), rotations, lens, parallax and level (``solve``)."""

"""Idle Lantern plans, guides, checks, joins and delivers panoramas.

``core`` holds all computation and imports no interface code; ``cli`` and
``app`` are two thin ways to use it.
"""

__version__ = "0.1.0"

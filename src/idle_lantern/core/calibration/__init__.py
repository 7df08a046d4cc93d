"""A lens measured by itself: from pictures of a printed board, or from a set that joins well.

Public here:

- ``board``: calibrate_by_board
- ``sweep``: calibrate_by_sweep
- ``result``: Calibration
"""

"""A lens measured by itself: from pictures of a printed board, or from a set that joins well; and its no-parallax point.

Public here:

- ``board``: calibrate_by_board
- ``pattern``: write_pattern
- ``pupil``: calibrate_pupil
- ``pupil_height``: calibrate_height
- ``sweep``: calibrate_by_sweep
- ``result``: Calibration
"""

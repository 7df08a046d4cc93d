"""Rotations, lenses and canvases.

Convention
----------
Camera frame: x right, y down, z forward. World frame: y down, so up is -y; yaw 0
looks along +z, yaw positive to the right, pitch positive up, roll positive
clockwise as the photographer sees the camera turn. Rotations are named
``to_from``: ``world_from_camera @ d_camera = d_world``. Radians inside, degrees
only in files and on screens.

Pixel centres lie at integer coordinates, so a centred principal point is
``((W - 1) / 2, (H - 1) / 2)``; (u, v) is (column, row).

Arrays: F frames, N points; directions are (..., 3), pixels are (..., 2).
Functions keep float32 for pictures and float64 for solving.
"""

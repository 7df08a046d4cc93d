"""Poses -> the canvas: projection, scale and size, and how frames lie on it.

Public here, each from the module named:

- ``canvas``: ``Canvas``, ``make_canvas``
- ``requested_canvas``: ``canvas_for``
- ``overview``: ``Overview``, ``Patch``, ``make_overview``, ``meeting``
- ``warp``: ``Tile``, ``frame_map``, ``sample``
- ``unroll``: ``unroll_canvas``, ``unroll_frame``
"""

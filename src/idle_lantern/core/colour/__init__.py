"""Colour: what numbers of a picture mean, and the one way between meanings.

Public here, each from the module named:

- ``space``: ``ColourSpace``, ``Transfer``, ``SRGB``, ``DISPLAY_P3``, ``rgb_to_xyz``
- ``profiles``: ``space_of``, ``profile_of``, ``named_space``, ``common_space``
- ``convert``: ``converted``
- ``picture``: ``Picture``

A picture carries its space from reading to delivery. Between two spaces LittleCMS converts (relative colorimetric, ICC.1:2022);
within one, light is reckoned by the space's own transfer curve.
"""

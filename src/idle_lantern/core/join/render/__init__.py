"""A solution, a canvas and seams -> pixels, tile by tile.

Public here, each from the module named:

- ``compositor``: ``Compositor``
- ``tiles``: ``TILE``, ``compose``, ``tiles_of``
- ``compose``: ``Composed``, ``Joined``, ``compose_picture``, ``compose_to_file``, ``rough_picture``
"""

"""A solution, a canvas and seams -> pixels, tile by tile.

Public here, each from the module named:

- ``compositor``: ``Compositor``
- ``tiles``: ``tiles_of``
- ``plan``: ``RenderPlan``, ``RenderTiles``, ``render_tile``
- ``compose``: ``Composed``, ``Joined``, ``compose_picture``, ``lay_out``, ``rough_picture``
- ``to_file``: ``compose_to_file``
- ``straight_rim``: ``straight_rim``
- ``rework``: ``EarlierPicture``
"""
